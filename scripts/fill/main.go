// Fill makes an SQLite file with large tables, for a test of plans. It is a program of its own, as SQLite is thirty
// times slower where the race detector watches.
package main

import (
	"context"
	"log"
	"os"
	"time"

	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/storetest/grown"
	"github.com/illumicode/illumicode/store/sqlite"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("name the file")
	}
	if err := fill(context.Background(), os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

func fill(ctx context.Context, path string) error {
	st, err := sqlite.Open(ctx, path)
	if err != nil {
		return err
	}
	defer st.Close()
	st.DB().SetMaxOpenConns(1)
	if _, err := st.DB().ExecContext(ctx, "PRAGMA synchronous = OFF"); err != nil {
		return err
	}
	if _, err := store.Of(st).Migrate(ctx, time.Now()); err != nil {
		return err
	}
	return grown.Fill(ctx, store.Of(st))
}
