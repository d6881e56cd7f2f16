package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"time"

	smtplib "github.com/emersion/go-smtp"
	"github.com/google/uuid"

	"github.com/illumicode/illumicode/outbox"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/standin"
	"github.com/illumicode/illumicode/store"
)

// A sink is a simulated relay that accepts everything.
type sink struct{ listen net.Listener }

func newSink() (*sink, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go standin.New(1, standin.Temper{}).ServeSMTP(context.Background(), l) // ends with the process
	return &sink{l}, nil
}

// finished composes every delivery to the same finished message: what composing costs is for a
// figure of its own.
type finished struct{ message []byte }

func (f finished) Compose(_ context.Context, d store.Delivery) (outbox.Letter, error) {
	return outbox.Letter{Envelope: provider.Envelope{From: "crew@ternisle.example", To: d.Address}, Message: provider.Bytes(f.message)}, nil
}

// deliveryFigures measures deliveries through the outbox (claim, attempt committed, sent,
// recorded; synchronous=FULL) against a loop that sends the same message over the same number of
// connections and keeps no record.
func deliveryFigures(scale int) ([]figure, error) {
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	message := []byte("Subject: x\r\n\r\n")
	for len(message) < 8<<10 { // about what a letter with both parts has
		message = append(message, "The sailing at seven is on time, and the sea is calm.\r\n"...)
	}
	var out []figure
	n := 200 * scale
	for _, connections := range []int{1, 4, 16} {
		var ours, bare []time.Duration
		for range 3 {
			d, err := throughOutbox(s, message, connections, n)
			if err != nil {
				return nil, err
			}
			f, err := bareLoop(s, message, connections, n)
			if err != nil {
				return nil, err
			}
			ours, bare = append(ours, d), append(bare, f)
		}
		rate := func(d time.Duration) float64 { return float64(n) / d.Seconds() }
		out = append(out, figure{fmt.Sprintf("delivery over SMTP, SQLite, %d connections", connections), "bare SMTP loop", medianRatio(ours, bare), 0,
			fmt.Sprintf("%.0f/s against %.0f/s", rate(median(ours)), rate(median(bare)))})
	}
	return out, nil
}

func throughOutbox(s *sink, message []byte, connections, n int) (time.Duration, error) {
	b, err := newBed(nobody{})
	if err != nil {
		return 0, err
	}
	defer b.close()
	way, err := smtp.New("sink", smtp.Config{Host: "127.0.0.1", Port: s.listen.Addr().(*net.TCPAddr).Port, TLS: smtp.NoTLS})
	if err != nil {
		return 0, err
	}
	defer way.Close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	now := time.Now()
	err = b.store.Write(ctx, func(t store.Tx) error {
		for i := range n {
			err := t.InsertDelivery(ctx, store.Delivery{ID: uuid.Must(uuid.NewV7()).String(), Letter: "trial", Data: "{}", Lane: store.Normal,
				Address: fmt.Sprintf("passenger%d@ternisle.example", i), Created: now, Due: now})
			if err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	o := outbox.New(b.store, finished{message}, []provider.Provider{way}, time.Now, slog.New(slog.DiscardHandler), outbox.Config{Senders: connections})
	start := time.Now()
	ended := make(chan error, 1)
	go func() { ended <- o.Run(ctx) }()
	for {
		sum, err := b.store.Summary(ctx, time.Now())
		if err != nil {
			return 0, err
		}
		if sum.Count[store.Sent] == n {
			break
		}
		time.Sleep(20 * time.Millisecond) // counting reads the whole table
	}
	took := time.Since(start)
	stop()
	return took, <-ended
}

func bareLoop(s *sink, message []byte, connections, n int) (time.Duration, error) {
	work := make(chan int)
	errs := make([]error, connections)
	var all sync.WaitGroup
	start := time.Now()
	for i := range connections {
		all.Go(func() { errs[i] = sendAll(s, message, work) })
	}
	for i := range n {
		work <- i
	}
	close(work)
	all.Wait()
	return time.Since(start), errors.Join(errs...)
}

func sendAll(s *sink, message []byte, work <-chan int) error {
	conn, err := net.Dial("tcp", s.listen.Addr().String())
	if err != nil {
		return err
	}
	c := smtplib.NewClient(conn)
	defer c.Close()
	for i := range work {
		if err := c.Mail("crew@ternisle.example", nil); err != nil {
			return err
		}
		if err := c.Rcpt(fmt.Sprintf("passenger%d@ternisle.example", i), nil); err != nil {
			return err
		}
		w, err := c.Data()
		if err != nil {
			return err
		}
		if _, err := w.Write(message); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
	}
	return nil
}
