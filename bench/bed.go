package main

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/pgtest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	opened "github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/postgres"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// A bed is a fresh database with a service on it, in a temporary folder.
type bed struct {
	dir    string
	public *opened.Store
	store  *store.Store
	svc    *illumicode.Service

	onServer bool // PostgreSQL's
}

// The databases of beds.
const (
	onSQLite   = "SQLite"
	onPostgres = "PostgreSQL"
)

// server is the PostgreSQL of all beds, started by the first that needs it.
var server = sync.OnceValues(func() (*pgtest.Server, error) {
	serverStarted.Store(true)
	return pgtest.Start(context.Background())
})

var serverStarted atomic.Bool

// stopServer stops it if it was started.
func stopServer() error {
	if !serverStarted.Load() {
		return nil
	}
	s, err := server()
	if err != nil {
		return err
	}
	return s.Close()
}

// newBed returns a bed on SQLite; newBedOn says on what, and may change the configuration.
func newBed(way provider.Provider) (*bed, error) { return newBedOn(onSQLite, way, nil) }

func newBedOn(database string, way provider.Provider, change func(*illumicode.Config)) (*bed, error) {
	dir, err := os.MkdirTemp("", "illumicode-bench-")
	if err != nil {
		return nil, err
	}
	b := &bed{dir: dir, onServer: database == onPostgres}
	if database == onPostgres {
		if b.public, err = openPostgres(context.Background()); err != nil {
			return nil, err
		}
		return b, b.open(way, change)
	}
	return b, b.openFile(way, change)
}

func (b *bed) openFile(way provider.Provider, change func(*illumicode.Config)) (err error) {
	if b.public, err = sqlite.Open(context.Background(), filepath.Join(b.dir, "bench.db")); err != nil {
		return err
	}
	return b.open(way, change)
}

// open makes the service.
func (b *bed) open(way provider.Provider, change func(*illumicode.Config)) error {
	ctx := context.Background()
	b.store = store.Of(b.public)
	if err := b.public.Migrate(ctx); err != nil {
		return err
	}
	ring := token.Generate(time.Now())
	from, err := message.ParseAddress("crew@ternisle.example")
	if err != nil {
		return err
	}
	c := illumicode.Config{
		Store: b.public, Keys: ring, From: from, Providers: []provider.Provider{way},
		Log:    slog.New(slog.DiscardHandler),
		Site:   illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		Limits: []limit.Rule{}, // measured by themselves
	}
	if change != nil {
		change(&c)
	}
	b.svc, err = illumicode.New(c)
	return err
}

func openPostgres(ctx context.Context) (*opened.Store, error) {
	s, err := server()
	if err != nil {
		return nil, err
	}
	conn, err := s.Database(ctx)
	if err != nil {
		return nil, err
	}
	// Tables are filled in one statement, which takes longer than a server should.
	return postgres.Open(ctx, conn, postgres.Options{Silence: 10 * time.Minute})
}

func (b *bed) close() {
	b.store.Close()
	os.RemoveAll(b.dir)
}
