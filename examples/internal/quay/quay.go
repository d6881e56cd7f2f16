// Package quay is what several examples begin with: a service on an SQLite file of its own, whose
// letters stay in the program. A real service reads its keyring from a file and has a mail server; see
// examples/signup.
package quay

import (
	"context"
	"log"
	"log/slog"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A Quay is a running service and its letters.
type Quay struct {
	*illumicode.Service
	Ways *capture.Provider

	read int // letters that Next has returned
}

// Open starts a service at a site, in a folder, until ctx ends. Each change may alter the configuration.
func Open(ctx context.Context, dir, site string, change ...func(*illumicode.Config)) *Quay {
	st := Must(sqlite.Open(ctx, filepath.Join(dir, "quay.db")))
	Check(st.Migrate(ctx))
	return On(ctx, st, site, change...)
}

// On is Open on a store that there is.
func On(ctx context.Context, st *store.Store, site string, change ...func(*illumicode.Config)) *Quay {
	ways := new(capture.Provider)
	c := illumicode.Config{
		Store: st, Keys: token.Generate(time.Now()), From: Must(message.ParseAddress("desk@gullquay.example")),
		Site: illumicode.Site{BaseURL: site, Name: "Gull Quay Bookings"}, Providers: []provider.Provider{ways},
		Log: slog.New(slog.DiscardHandler), // the examples tell what happens themselves
	}
	for _, fn := range change {
		fn(&c)
	}
	svc := Must(illumicode.New(c))
	go func() { Check(svc.Run(ctx)) }()
	return &Quay{Service: svc, Ways: ways}
}

// A Letter is what somebody got.
type Letter struct {
	To, Subject, Code string
	Link              illumicode.Link
}

var (
	code = regexp.MustCompile(`(?m)^ {4}(\d{3} \d{3})$`)
	link = regexp.MustCompile(`https?://\S+\?t=(\S+)`)
)

// Next waits for the next letter.
func (q *Quay) Next() Letter {
	for end := time.Now().Add(time.Minute); len(q.Ways.Letters()) <= q.read; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			log.Fatalf("no letter came within a minute after the first %d", q.read)
		}
	}
	l := q.Ways.Letters()[q.read]
	q.read++
	out := Letter{To: l.Envelope.To, Subject: l.Letter.Subject}
	if m := code.FindStringSubmatch(strings.ReplaceAll(l.Letter.Text, "\r", "")); m != nil {
		out.Code = m[1]
	}
	if m := link.FindStringSubmatch(l.Letter.Text); m != nil {
		out.Link = illumicode.Link(m[1])
	}
	return out
}

// Must ends the program after an error.
func Must[T any](v T, err error) T {
	Check(err)
	return v
}

// Check ends the program after an error.
func Check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
