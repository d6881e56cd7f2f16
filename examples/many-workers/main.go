// Many-workers delivers from three processes at once, as on three machines, with one PostgreSQL
// between them: every letter goes out once, and each process does its share. Run it:
//
//	go run ./examples/many-workers "host=/var/run/postgresql dbname=ferry"
package main

import (
	"context"
	"fmt"
	"log"
	"log/slog"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/token"
)

const passengers = 3000

func main() {
	if len(os.Args) < 2 {
		log.Fatal("usage: many-workers CONNECTION")
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	conn := os.Args[1]
	st := must(postgres.Open(ctx, conn, postgres.Options{}))
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		log.Fatal(err)
	}
	svc := must(illumicode.New(illumicode.Config{
		Store: st, Keys: token.Generate(time.Now()), From: must(message.ParseAddress("crew@ternisle.example")),
		Site:      illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		Providers: []provider.Provider{discard.Provider{}}, Log: slog.New(slog.DiscardHandler),
	}))
	if len(os.Args) > 2 { // this is one of the workers: deliver until told to stop
		check(svc.Run(ctx))
		return
	}

	var workers []*exec.Cmd
	for range 3 {
		w := exec.Command(must(os.Executable()), conn, "worker")
		w.Stderr = os.Stderr
		check(w.Start())
		workers = append(workers, w)
	}
	start := time.Now()
	must(svc.NotifyAll(ctx, illumicode.Notice{Letter: "trial"}, func(yield func(illumicode.Recipient, error) bool) {
		for i := range passengers {
			if !yield(illumicode.Recipient{
				Request: illumicode.Request{Address: fmt.Sprintf("passenger%d@ternisle.example", i)}}, nil) {
				return
			}
		}
	}))
	for must(desk.New(svc).Summary(ctx)).Left {
		time.Sleep(20 * time.Millisecond)
	}
	fmt.Printf("%d letters in %v\n", passengers, time.Since(start).Round(10*time.Millisecond))
	for _, w := range workers {
		check(w.Process.Signal(syscall.SIGTERM))
		check(w.Wait())
	}
	rows := must(
		st.DB().QueryContext(ctx,
			"SELECT worker, COUNT(*), COUNT(DISTINCT delivery) FROM illumicode_attempt "+
				"GROUP BY worker ORDER BY worker"))
	defer rows.Close()
	for rows.Next() {
		var worker string
		var attempts, deliveries int
		check(rows.Scan(&worker, &attempts, &deliveries))
		fmt.Printf("worker …%s: %d attempts, %d letters\n", worker[len(worker)-8:], attempts, deliveries)
	}
	check(rows.Err())
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
