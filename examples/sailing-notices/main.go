// Sailing-notices turns events into letters and text messages: who has booked is reminded two hours
// before the sailing, and when the sailing moves, so does the reminder. Run it:
//
//	go run ./examples/sailing-notices DIR
//
// Its clock is virtual, so that a day takes a second; nothing leaves the program.
package main

import (
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/event"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

//go:embed letters
var own embed.FS

// rules say what events lead to. An event's data are the letter's values.
var rules = []illumicode.EventRule{
	{Type: "ternisle.booking.made", Letter: "reminder", To: "/passenger", Key: "/sailing", Remind: "/departs",
		Before: 2 * time.Hour},
	{Type: "ternisle.sailing.moved", Letter: "moved", To: "/passengers"},
}

// clock is the program's time: morning, and then as late as main says.
var clock atomic.Int64

func now() time.Time { return time.UnixMilli(clock.Load()).UTC() }

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: sailing-notices DIR")
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	morning := time.Date(2031, 3, 4, 8, 0, 0, 0, time.UTC)
	clock.Store(morning.UnixMilli())
	st := must(sqlite.Open(ctx, filepath.Join(os.Args[1], "notices.db")))
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		log.Fatal(err)
	}
	ways := new(capture.Provider) // a mail server and an SMS gateway, in a real service
	svc := must(illumicode.New(illumicode.Config{
		Store: st, Keys: token.Generate(now()), From: must(message.ParseAddress("crew@ternisle.example")),
		Site:      illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		Providers: []provider.Provider{ways},
		Letters:   must(letters.Load(must(fs.Sub(own, "letters")), letters.Fallback)),
		Events:    rules, Now: now, Outbox: delivery.Settings{Poll: 20 * time.Millisecond},
	}))
	go svc.Run(ctx)

	// Two bookings, as any program may insert them in a transaction of its own, in any language.
	for i, passenger := range []string{"mara.quist@ternisle.example", "+44 7700 900123"} {
		must(st.DB().Exec(
			`INSERT INTO illumicode_event (source, id, type, data) VALUES ('/bookings', ?, 'ternisle.booking.made', ?)`,
			fmt.Sprint(i),
			fmt.Sprintf(`{"sailing": "7", "pier": "pier 2", "departs": "2031-03-04T14:30:00Z", "passenger": %q}`,
				passenger)))
	}
	wait(svc, 2) // until both reminders are there

	// The sailing moves by two hours: its passengers are told, and their reminders move.
	check(svc.Receive(ctx, event.Event{Source: "/harbour", ID: "71", Type: "ternisle.sailing.moved",
		Data: json.RawMessage(`{"sailing": "7", "pier": "pier 2", "departs": "2031-03-04T16:30:00Z",
			"passengers": ["mara.quist@ternisle.example", {"address": "+44 7700 900123"}]}`)}))
	var n int64
	check(svc.Transact(ctx, func(ctx context.Context, tx illumicode.Tx) (err error) {
		n, err = tx.Move(ctx, "7", time.Date(2031, 3, 4, 16, 30, 0, 0, time.UTC))
		return err
	}))
	fmt.Printf("%s  sailing 7 moves to 16:30, and %d reminders with it\n", now().Format("15:04"), n)

	seen := 0
	for hour := 8; hour <= 16; hour++ {
		clock.Store(morning.Add(time.Duration(hour-8)*time.Hour + 31*time.Minute).UnixMilli())
		svc.Wake()
		time.Sleep(150 * time.Millisecond) // for people: the worker needs less
		waitIdle(svc)
		for _, l := range ways.Letters()[seen:] {
			what := l.SMS
			if what == "" {
				what = l.Letter.Subject
			}
			fmt.Printf("%s  %-28s %s\n", now().Format("15:04"), l.Envelope.To, what)
			seen++
		}
	}
}

// wait returns when n deliveries are on their way.
func wait(svc *illumicode.Service, n int) {
	for count := 0; count < n; time.Sleep(10 * time.Millisecond) {
		count = 0
		for _, l := range must(desk.New(svc).Summary(context.Background())).Loads {
			count += l.Count
		}
	}
}

// waitIdle returns when nothing is due and nothing is in work: on a slow machine the clock must not run ahead
// of the letters.
func waitIdle(svc *illumicode.Service) {
	for busy := true; busy; time.Sleep(10 * time.Millisecond) {
		sum := must(desk.New(svc).Summary(context.Background()))
		busy = !sum.OldestDue.IsZero() || sum.Count["claimed"] > 0
	}
}

func must[T any](v T, err error) T {
	check(err)
	return v
}

func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
