package demo

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

// Storm "Ysolt" cancels the day's sailings. Notices go out from notices@ through the simulated
// interfaces of package standin, since a stranger's inbox has no room for forty thousand; one
// passenger in eighty gets an SMS. Meanwhile people go on registering, and their codes go through
// the capture inbox as ever.

// tellEvery is how often the storm is told while it lasts.
const tellEvery = 3 * time.Second

// strangers yields n made-up passengers.
func strangers(n int) iter.Seq2[illumicode.Recipient, error] {
	return func(yield func(illumicode.Recipient, error) bool) {
		for i := range n {
			r := illumicode.Request{Address: fmt.Sprintf("passenger%05d@gullquay.example", i),
				Locale: []string{"en", "de"}[i%2], Zone: "Europe/London"}
			if i%80 == 0 {
				r.Address = fmt.Sprintf("+44 7700 9%05d", i/80%1000) // reserved for drama
			}
			if !yield(illumicode.Recipient{Request: r}, nil) {
				return
			}
		}
	}
}

// The storm takes harbour's line down for so many of the codes.
const lineDown, lineBack = 5, 15

// Storm cancels the day's sailings for n passengers, lets others register while the notices go
// out, and tells how each lane fares. The error is what went wrong, or a letter that is missing.
func Storm(ctx context.Context, d *Demo, out *Teller, n int) error {
	before := d.Beacon.Taken()
	start := time.Now()
	departs := d.Now().Add(5 * time.Hour).Truncate(time.Hour)
	count, err := d.Service.NotifyAll(ctx, illumicode.Notice{Letter: "sailing-cancelled", Key: "storm Ysolt",
		Data: map[string]any{"storm": "Ysolt", "route": "Tern Isle to Gull Quay", "departs": departs}}, strangers(n))
	if err != nil {
		return err
	}
	enqueued := time.Since(start)
	out.StormBegins(count, enqueued)

	carried, err := d.carried(ctx)
	if err != nil {
		return err
	}
	codes, err := d.weatherTheStorm(ctx, out, start)
	if err != nil {
		return err
	}
	count, err = d.stormSent(ctx)
	if err != nil {
		return err
	}
	taken := d.Beacon.Taken() - before
	slices.Sort(codes)
	d.harbour.set(false)
	out.StormEnds(n, count, time.Since(start), codes)
	if err := d.tellStormCarried(ctx, out, carried); err != nil {
		return err
	}
	if count != n || taken != n {
		return fmt.Errorf("of %d notices %d are sent, and %d arrived", n, count, taken)
	}
	return nil
}

// weatherTheStorm lets passengers register until all notices are sent, with a line that is down for a while, and
// returns how long each code took.
func (d *Demo) weatherTheStorm(ctx context.Context, out *Teller, start time.Time) (codes []time.Duration, err error) {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	last, lastAt := 0, time.Now()
	for i := 0; ; i++ {
		switch i {
		case lineDown:
			d.harbour.set(true)
		case lineBack:
			d.harbour.set(false)
		}
		took, err := d.registerOne(ctx, i)
		if err != nil {
			return nil, err
		}
		codes = append(codes, took)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-tick.C:
		default:
			continue
		}
		s, err := d.weather(ctx)
		if err != nil {
			return nil, err
		}
		s.Elapsed, s.Codes, s.Code = time.Since(start), len(codes), took
		s.Rate = float64(s.Sent-last) / time.Since(lastAt).Seconds()
		last, lastAt = s.Sent, time.Now()
		out.StormNow(s)
		if s.Left == 0 && s.Lists == 0 && i > lineBack {
			return codes, nil
		}
	}
}

// registerOne lets one more passenger register, and returns how long the code took to arrive.
func (d *Demo) registerOne(ctx context.Context, i int) (time.Duration, error) {
	address := fmt.Sprintf("ashore%d.%d@ternisle.example", d.Now().UnixMilli(), i)
	start := time.Now()
	b := newBrowser(ctx, "en")
	if err := b.open(d.SiteURL + "/register"); err != nil {
		return 0, err
	}
	if err := b.submit("/register", map[string][]string{"name": {"Ashore"}, "email": {address},
		"password": {password}}); err != nil {
		return 0, err
	}
	wait, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	_, err := d.Inbox.Wait(wait, address, 1)
	return time.Since(start), err
}

// Weather is how the storm stands.
type Weather struct {
	Sent, Left, Lists int // notices
	Rate              float64
	Elapsed           time.Duration
	Oldest            map[store.Lane]time.Duration // how long the oldest of each lane has been due
	Waiting           map[store.Lane]int
	Codes             int
	Code              time.Duration // the latest code's
}

func (d *Demo) weather(ctx context.Context) (Weather, error) {
	w := Weather{Oldest: make(map[store.Lane]time.Duration), Waiting: make(map[store.Lane]int)}
	sum, err := flow.Of(d.Service).Store.Summary(ctx, d.Now())
	if err != nil {
		return w, err
	}
	for _, l := range sum.Loads {
		w.Waiting[l.Lane] += l.Count
		if l.State == store.Waiting {
			w.Oldest[l.Lane] = max(0, d.Now().Sub(l.Oldest))
		}
		if l.Lane == store.Bulk {
			w.Left += l.Count
		}
	}
	w.Lists = sum.Lists
	w.Sent, err = d.stormSent(ctx)
	return w, err
}

func (d *Demo) stormSent(ctx context.Context) (int, error) {
	count, err := flow.Of(d.Service).Store.Matching(ctx, store.Filter{Key: "storm Ysolt", State: store.Sent})
	return count[store.Sent], err
}

// StormBegins announces a storm.
func (t *Teller) StormBegins(n int, enqueued time.Duration) {
	t.object(map[string]any{"storm": "Ysolt", "notices": n, "enqueued_ms": enqueued.Milliseconds()})
	t.line("")
	t.line("%s", t.paint("1", fmt.Sprintf("Storm Ysolt: the day's sailings are cancelled, %d passengers are told.", n)))
	t.line("The list was committed in %s; workers expand it while they send.", millis(enqueued))
	t.line("")
	t.line("%s", t.paint("2",
		"   time   bulk sent   a second  bulk left   oldest bulk  oldest urgent  codes   latest code"))
}

// StormNow tells how it stands.
func (t *Teller) StormNow(w Weather) {
	t.object(map[string]any{"ms": w.Elapsed.Milliseconds(), "sent": w.Sent, "left": w.Left, "a_second": int(w.Rate),
		"oldest_bulk_ms":   w.Oldest[store.Bulk].Milliseconds(),
		"oldest_urgent_ms": w.Oldest[store.Urgent].Milliseconds(), "code_ms": w.Code.Milliseconds()})
	t.line("%6.1f s %11d %10.0f %10d %11.1f s %12.1f s %6d %s", w.Elapsed.Seconds(), w.Sent, w.Rate, w.Left,
		w.Oldest[store.Bulk].Seconds(), w.Oldest[store.Urgent].Seconds(), w.Codes,
		t.paint("32", fmt.Sprintf("%10s", millis(w.Code))))
}

// StormEnds tells what it came to. codes are sorted.
func (t *Teller) StormEnds(n, sent int, took time.Duration, codes []time.Duration) {
	at := func(share float64) time.Duration { return codes[int(share*float64(len(codes)-1))] }
	t.object(map[string]any{"notices": n, "sent": sent, "ms": took.Milliseconds(), "codes": len(codes),
		"code_median_ms": at(.5).Milliseconds(), "code_p99_ms": at(.99).Milliseconds(),
		"code_max_ms": at(1).Milliseconds()})
	t.line("")
	t.line("%d of %d notices sent in %s, %.0f a second.", sent, n, millis(took), float64(sent)/took.Seconds())
	t.line("Meanwhile %d passengers registered, one after the other. From the button to the code in the inbox:",
		len(codes))
	t.line("median %s, one in a hundred over %s, the slowest %s.", t.paint("32", millis(at(.5))), millis(at(.99)),
		t.paint("32", millis(at(1))))
}
