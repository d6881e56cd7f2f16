package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/textproto"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/text/language"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/core/render"
	"github.com/illumicode/illumicode/internal/standin"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/retry"
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

// deliveryFigures measures notices through the outbox with everything on (claim, compose, attempt
// committed, sent, recorded; durable settings) over SMTP to a sink, against a loop without database
// that executes the same templates and sends by the same client over as many connections.
func deliveryFigures(scale int) ([]figure, error) {
	s, err := newSink()
	if err != nil {
		return nil, err
	}
	bare, err := bareTrial()
	if err != nil {
		return nil, err
	}
	var out []figure
	n := 500 * scale
	for _, tt := range []deliveryTrial{{onSQLite, 1, 2.5, 0}, {onSQLite, 4, 1.35, 2}, {onSQLite, 16, 1.35, 2},
		{onPostgres, 1, 2.5, 0}, {onPostgres, 4, 1.5, 1.35}, {onPostgres, 16, 1.5, 1.35}} {
		if !wanted(tt.what()) {
			continue
		}
		some, err := tt.measure(s, bare, n)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	for _, database := range databases() {
		if !wanted("delivery to nowhere, " + database) {
			continue
		}
		var times []time.Duration
		for range 3 {
			nowhere := func(int) (provider.Provider, error) { return discard.Provider{}, nil }
			d, _, err := throughOutbox(database, nowhere, 16, n)
			if err != nil {
				return nil, err
			}
			times = append(times, d)
		}
		out = append(out, figure{what: "delivery to nowhere, " + database, floor: "a second",
			ratio: rate(n, median(times)), note: "deliveries a second, no network"})
	}
	return out, nil
}

// A deliveryTrial is deliveries to one database over some connections, with the goals of its two ratios.
type deliveryTrial struct {
	database    string
	connections int
	goal        float64 // against a loop that records nothing
	least       float64 // against one that records as little as an outbox can
}

func (t deliveryTrial) what() string {
	return fmt.Sprintf("delivery over SMTP, %s, %d connections", t.database, t.connections)
}

func (t deliveryTrial) measure(s *sink, templates func() error, n int) ([]figure, error) {
	var ours, floor, least []time.Duration
	var cost string // of the last
	for range 7 {   // the pace of a shared machine changes
		d, each, err := throughOutbox(t.database, s.way, t.connections, n)
		if err != nil {
			return nil, err
		}
		f, err := sameClient(s, templates, letterSized(), t.connections, n)
		if err != nil {
			return nil, err
		}
		l, err := recorded(t.database, s, templates, t.connections, n)
		if err != nil {
			return nil, err
		}
		ours, floor, least, cost = append(ours, d), append(floor, f), append(least, l), each
	}
	const alone, recording = "templates and the same client", "these and the least that an outbox records"
	return []figure{
		{t.what(), alone, medianRatio(ours, floor), t.goal,
			fmt.Sprintf("%.0f/s against %.0f/s; %s", rate(n, median(ours)), rate(n, median(floor)), cost)},
		{t.what(), recording, medianRatio(ours, least), t.least,
			fmt.Sprintf("against %.0f/s; that against the floor: %.2f", rate(n, median(least)),
				medianRatio(least, floor))},
	}, nil
}

func rate(n int, d time.Duration) float64 { return float64(n) / d.Seconds() }

// way returns a provider to the sink with so many connections.
func (s *sink) way(connections int) (provider.Provider, error) {
	return smtp.New("sink", smtp.Config{Host: "127.0.0.1", Port: s.listen.Addr().(*net.TCPAddr).Port, TLS: smtp.NoTLS,
		Most: connections, Letters: 1 << 30})
}

// sendersEach is how many letters are in work for each connection, so that none waits for a commit.
const sendersEach = 16

// throughOutbox delivers n notices and returns how long that took, and what each cost.
func throughOutbox(database string, makeWay func(connections int) (provider.Provider, error), connections,
	n int) (took time.Duration, each string, err error) {
	way, err := makeWay(connections)
	if err != nil {
		return 0, "", err
	}
	if c, ok := way.(io.Closer); ok {
		defer c.Close()
	}
	b, err := newBedOn(database, way, func(c *illumicode.Config) {
		c.Outbox.Senders = max(128, sendersEach*connections)
	})
	if err != nil {
		return 0, "", err
	}
	defer b.close()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	if err := b.fill(ctx, n, illumicode.Notice{Letter: "trial"}); err != nil {
		return 0, "", err
	}
	before, err := b.spent(ctx)
	if err != nil {
		return 0, "", err
	}
	if took, err = b.drain(ctx); err != nil {
		return 0, "", err
	}
	after, err := b.spent(ctx)
	return took, after.each(before, n), err
}

// fill enqueues a notice to n people and expands the list.
func (b *bed) fill(ctx context.Context, n int, notice illumicode.Notice) error {
	_, err := b.svc.NotifyAll(ctx, notice, passengers(n))
	for any := true; any && err == nil; {
		var expanded int
		expanded, _, err = b.store.Expand(ctx, uuid.NewString, nil)
		any = expanded > 0
	}
	return err
}

func passengers(n int) iter.Seq2[illumicode.Recipient, error] {
	return func(yield func(illumicode.Recipient, error) bool) {
		for i := range n {
			if !yield(illumicode.Recipient{Request: illumicode.Request{Address: passenger(i)}}, nil) {
				return
			}
		}
	}
}

// passenger returns the address of one of a list.
func passenger(i int) string { return fmt.Sprintf("passenger%d@ternisle.example", i) }

// drain runs a worker until nothing is left and returns how long that took.
func (b *bed) drain(ctx context.Context) (time.Duration, error) {
	running, stop := context.WithCancel(ctx)
	defer stop()
	start := time.Now()
	ended := make(chan error, 1)
	go func() { ended <- b.svc.Run(running) }()
	for {
		left, err := b.store.Left(ctx, time.Now().Add(24*time.Hour))
		if err != nil {
			return 0, err
		}
		if !left {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	took := time.Since(start)
	stop()
	return took, <-ended
}

// bareTrial returns what executes the templates of the letter that is measured, and no more.
func bareTrial() (func() error, error) {
	set, err := letters.Default()
	if err != nil {
		return nil, err
	}
	w, err := render.Writer{Name: "Tern Isle Ferry"}.Check()
	if err != nil {
		return nil, err
	}
	return bareTemplates(render.Of(set), render.Of(set).Sample("trial", language.English, w, "https://ferry.example"))
}

// letterSized returns a message with about as many bytes as a letter with both parts.
func letterSized() []byte {
	message := []byte("Subject: x\r\n\r\n")
	return append(message, bytes.Repeat([]byte("The sailing at seven is on time, and the sea is calm.\r\n"), 110)...)
}

// sameClient executes templates and sends a message by the library's client, n times over some connections.
func sameClient(s *sink, templates func() error, message []byte, connections, n int) (time.Duration, error) {
	way, err := s.way(connections)
	if err != nil {
		return 0, err
	}
	defer way.(io.Closer).Close()
	start := time.Now()
	err = many(connections, n, func(i int) error {
		if err := templates(); err != nil {
			return err
		}
		return sendBy(way, message, i, false)
	})
	return time.Since(start), err
}

// many does something n times, some at once.
func many(atOnce, n int, do func(i int) error) error {
	work := make(chan int)
	errs := make([]error, atOnce)
	var all sync.WaitGroup
	for at := range atOnce {
		all.Go(func() {
			for i := range work {
				if err := do(i); err != nil && errs[at] == nil {
					errs[at] = err
				}
			}
		})
	}
	for i := range n {
		work <- i
	}
	close(work)
	all.Wait()
	return errors.Join(errs...)
}

// sendBy hands a message to a provider, outside an outbox.
func sendBy(way provider.Provider, message []byte, i int, once bool) error {
	r := way.Send(context.Background(), provider.Handover{ID: "d", Message: compose.Bytes(message), Once: once,
		Envelope: provider.Envelope{From: "crew@ternisle.example", To: passenger(i)},
		Begin:    func(context.Context) error { return nil }, Final: func(context.Context) error { return nil }})
	if r.Class != retry.Accepted {
		return errors.New(r.Reply)
	}
	return nil
}

// bareLoop executes templates and sends a message, n times over some connections, in four round trips each and with
// nothing besides.
func bareLoop(addr string, templates func() error, message []byte, connections, n int) (time.Duration, error) {
	conns := make(chan *textproto.Conn, connections)
	for range connections {
		c, err := textproto.Dial("tcp", addr)
		if err != nil {
			return 0, err
		}
		defer c.Close()
		if _, _, err = c.ReadResponse(220); err == nil {
			err = ask(c, 250, "EHLO bench.example")
		}
		if err != nil {
			return 0, err
		}
		conns <- c
	}
	start := time.Now()
	err := many(connections, n, func(i int) error {
		if err := templates(); err != nil {
			return err
		}
		c := <-conns
		defer func() { conns <- c }()
		for _, step := range []struct {
			want    int
			command string
		}{{250, "MAIL FROM:<crew@ternisle.example>"}, {250, "RCPT TO:<" + passenger(i) + ">"}, {354, "DATA"}} {
			if err := ask(c, step.want, step.command); err != nil {
				return err
			}
		}
		w := c.DotWriter()
		if _, err := w.Write(message); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		_, _, err := c.ReadResponse(250)
		return err
	})
	return time.Since(start), err
}

// ask says one command of SMTP.
func ask(c *textproto.Conn, want int, command string) error {
	if err := c.PrintfLine("%s", command); err != nil {
		return err
	}
	_, _, err := c.ReadResponse(want)
	return err
}
