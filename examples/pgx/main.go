// Pgx is an application on a pool of pgx: its own rows and Illumicode's are written in one transaction of that pool,
// in the calls that make it themselves and in one that the application makes. Run it:
//
//	go run ./examples/pgx "host=/var/run/postgresql dbname=ferry"
package main

import (
	"context"
	"errors"
	"fmt"
	"log"
	"os"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/examples/internal/quay"
	"github.com/illumicode/illumicode/store/postgres"
)

const users = "CREATE TABLE IF NOT EXISTS users (id TEXT PRIMARY KEY, email TEXT UNIQUE, confirmed BOOLEAN DEFAULT " +
	"false)"

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: pgx CONNECTION")
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	pool := quay.Must(pgxpool.New(ctx, os.Args[1]))
	defer pool.Close()
	quay.Must(pool.Exec(ctx, users))
	st := quay.Must(postgres.UsePool(ctx, pool, postgres.Options{}))
	quay.Check(st.Migrate(ctx))
	svc := quay.On(ctx, st, "https://gullquay.example",
		func(c *illumicode.Config) { c.TellOwner = true }) // an owner is told of a signup with a taken address

	// A call that makes the transaction itself: the callback gets it, and Own gives it back as what it is.
	pending := quay.Must(svc.Signup(ctx, illumicode.Request{Address: "mara@gullquay.example", Name: "Mara"},
		func(ctx context.Context, tx illumicode.Tx) (string, error) {
			return "7", addUser(ctx, illumicode.Own[pgx.Tx](tx), "7", "mara@gullquay.example")
		}))
	quay.Check(svc.ConfirmCode(ctx, pending.Ticket, svc.Next().Code,
		func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
			_, err := illumicode.Own[pgx.Tx](tx).Exec(ctx, "UPDATE users SET confirmed = true WHERE id = $1",
				p.Subject())
			return err
		}))
	fmt.Println("confirmed:", count(ctx, pool, "SELECT count(*) FROM users WHERE confirmed"))

	// A transaction that the application makes. The limits are asked before it begins; a taken address begins a decoy,
	// so that the answer, and what it spends, are the same.
	for _, email := range []string{"jens@gullquay.example", "mara@gullquay.example"} {
		admission := quay.Must(svc.Admit(ctx, illumicode.Request{Address: email}))
		quay.Check(pgx.BeginFunc(ctx, pool, func(tx pgx.Tx) error {
			on := svc.On(postgres.Handle(tx))
			err := addUser(ctx, tx, "of "+email, email)
			if errors.Is(err, errTaken) {
				_, err = on.BeginDecoy(ctx, admission)
				return err
			}
			if err == nil {
				_, err = on.BeginSignup(ctx, admission, "of "+email)
			}
			return err
		}))
		svc.Wake()
	}
	for range 2 { // in whatever order they go out
		l := svc.Next()
		fmt.Println("a letter to", l.To)
	}
	fmt.Println("users:", count(ctx, pool, "SELECT count(*) FROM users"))
}

var errTaken = errors.New("the address has a user already")

// addUser adds a user unless the address is taken, without a statement that would break the transaction.
func addUser(ctx context.Context, tx pgx.Tx, id, email string) error {
	tag, err := tx.Exec(ctx, "INSERT INTO users (id, email) VALUES ($1, $2) ON CONFLICT DO NOTHING", id, email)
	if err == nil && tag.RowsAffected() == 0 {
		err = errTaken
	}
	return err
}

func count(ctx context.Context, pool *pgxpool.Pool, query string) (n int) {
	quay.Check(pool.QueryRow(ctx, query).Scan(&n))
	return n
}
