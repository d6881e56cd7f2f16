// Worker is what the memory figures of bench measure: an application that does nothing but deliver what
// waits in the file it is given, until it is told to end.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	if err := deliver(ctx, os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "worker:", err)
		os.Exit(1)
	}
}

func deliver(ctx context.Context, file string) error {
	db, err := sqlite.Open(ctx, file)
	if err != nil {
		return err
	}
	defer db.Close()
	ring := token.Generate(time.Now())
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		return err
	}
	svc, err := illumicode.New(illumicode.Config{
		Store: db, Keys: ring, From: from, Providers: []provider.Provider{discard.Provider{}},
		Log:  slog.New(slog.DiscardHandler),
		Site: illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
	})
	if err != nil {
		return err
	}
	return svc.Run(ctx)
}
