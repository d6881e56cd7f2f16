// Reverify changes the address of an account twice. Its owner asks for the first change. Somebody who
// got into the account asks for the second, and the owner takes that one back. Run it:
//
//	go run ./examples/reverify DIR
package main

import (
	"context"
	"fmt"
	"log"
	"os"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/examples/internal/quay"
)

const (
	first  = "mara@gullquay.example"
	second = "mara.quist@ternisle.example"
	thief  = "mara.quist@elsewhere.example"
)

// The application's table: what it knows of an account.
const users = `CREATE TABLE IF NOT EXISTS users (id TEXT PRIMARY KEY, email TEXT, locked INTEGER DEFAULT 0);
INSERT INTO users (id, email) VALUES ('7', '` + first + `') ON CONFLICT DO NOTHING`

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: reverify DIR")
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	svc := quay.Open(ctx, os.Args[1], "https://gullquay.example")
	quay.Must(svc.Store().DB().Exec(users))
	quay.Check(desk.New(svc.Service).Confirm(ctx, illumicode.Holding{Subject: "7", Address: first},
		"made for this example"))

	// The application writes the proven address in the same commit.
	apply := func(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
		_, err := tx.SQL().ExecContext(ctx, "UPDATE users SET email = ? WHERE id = ?", p.Address(), p.Subject())
		return err
	}

	// The owner moves. Until the new address is proven, the old one works.
	proof, _, ticket := change(ctx, svc, first, second)
	fmt.Println("pending: the account has", quay.Must(svc.Address(ctx, "7")))
	quay.Check(svc.ConfirmCode(ctx, ticket, proof.Code, apply))
	told(svc.Next())
	fmt.Println("proven:  the account has", quay.Must(svc.Address(ctx, "7")))

	// Somebody else got into the account and moves it to an address of theirs.
	proof, undo, ticket := change(ctx, svc, second, thief)
	quay.Check(svc.ConfirmCode(ctx, ticket, proof.Code, apply))
	told(svc.Next()) // and once more a day later
	fmt.Println("stolen:  the account has", quay.Must(svc.Address(ctx, "7")))

	// The owner reads the letter at the old address, and takes it back. Neither address signs in now;
	// the application locks the account and ends its sessions.
	taken := quay.Must(svc.Undo(ctx, undo.Link, func(ctx context.Context, tx illumicode.Tx, c illumicode.Change) error {
		_, err := tx.SQL().ExecContext(ctx, "UPDATE users SET locked = 1 WHERE id = ?", c.Subject)
		return err
	}))
	fmt.Printf("undone:  the account has %q; locked\n", quay.Must(svc.Address(ctx, "7")))

	// Both addresses are asked to be proven anew. The owner's proof alone does not open the account:
	// the owner also shows a ticket at the desk, and the people there settle it.
	for range 2 {
		if l := svc.Next(); l.To == second {
			quay.Check(svc.Confirm(ctx, l.Link, nil))
		}
	}
	fmt.Printf("asked:   the account has %q\n", quay.Must(svc.Address(ctx, "7")))
	quay.Check(desk.New(svc.Service).Decide(ctx,
		desk.Decision{Change: taken.ID, Keep: second, Reason: "showed ticket 8215 at the desk"},
		func(ctx context.Context, tx illumicode.Tx) error {
			_, err := tx.SQL().ExecContext(ctx, "UPDATE users SET locked = 0, email = ? WHERE id = '7'", second)
			return err
		}))
	fmt.Println("settled: the account has", quay.Must(svc.Address(ctx, "7")))
}

// change begins a change of address, and returns its two letters: to the new address with the proof, to the old one
// with the way back.
func change(ctx context.Context, svc *quay.Quay, from, to string) (proof, undo quay.Letter, ticket illumicode.Ticket) {
	pending := quay.Must(svc.ChangeAddress(ctx, illumicode.Holding{Subject: "7", Address: from},
		illumicode.Request{Address: to, Name: "Mara"}))
	for range 2 {
		if l := svc.Next(); l.To == to {
			proof = l
		} else {
			undo = l
		}
	}
	told(proof)
	told(undo)
	return proof, undo, pending.Ticket
}

func told(l quay.Letter) { fmt.Printf("%-29s gets %q\n", l.To, l.Subject) }
