// Own-provider shows a way out of one's own: thirty lines make a provider, and a contract test
// (main_test.go) says whether it keeps its promises. This one puts letters into a bottle, which is
// a folder, and throws it into the sea, which is another.
//
// Run it with `go run ./examples/own-provider DIR`: it sends one notice and shows where it went.
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A bottle is a provider.
type bottle struct{ ship, sea string }

func (bottle) Name() string          { return "bottle" }
func (bottle) Can() provider.Ability { return provider.Ability{Mail: true} }

func (b bottle) Send(ctx context.Context, h provider.Handover) provider.Result {
	aboard := filepath.Join(b.ship, h.ID)
	f, err := os.Create(aboard)
	if err != nil { // nothing has left: the loss is certain
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	defer os.Remove(aboard)
	_, err = h.Message.WriteTo(f)
	if closeErr := f.Close(); err != nil || closeErr != nil { // half a letter stays aboard
		return provider.Result{Class: retry.Transient, Reply: fmt.Sprint(err, closeErr)}
	}
	if err := h.Begin(ctx); err != nil { // not on record: it must not go
		return provider.NotSent(err)
	}
	if err := h.Final(ctx); err != nil { // another worker may have it by now
		return provider.NotSent(err)
	}
	if err := os.Rename(aboard, filepath.Join(b.sea, h.ID)); err != nil {
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	return provider.Result{Class: retry.Accepted, ID: h.ID, Reply: "it floats"}
}

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: own-provider DIR")
	}
	dir := os.Args[1]
	b := bottle{filepath.Join(dir, "ship"), filepath.Join(dir, "sea")}
	for _, d := range []string{b.ship, b.sea} {
		must(0, os.MkdirAll(d, 0o700))
	}
	ctx := context.Background()
	st := must(sqlite.Open(ctx, filepath.Join(dir, "letters.db")))
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		log.Fatal(err)
	}
	svc := must(illumicode.New(illumicode.Config{
		Store: st, Keys: token.Generate(time.Now()), Providers: []provider.Provider{b},
		Site: illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		From: must(message.ParseAddress("crew@ternisle.example")),
	}))
	d := must(desk.New(svc).Send(ctx,
		illumicode.Notice{Letter: "trial", To: illumicode.Request{Address: "far.away@gullquay.example"}}))
	fmt.Printf("%s: %s\n", d.State, filepath.Join(b.sea, d.ID))
}

func must[T any](v T, err error) T {
	if err != nil {
		log.Fatal(err)
	}
	return v
}
