// Stepup lets somebody who is signed in prove their address once more before money moves. The code is
// good for exactly this payment: for a larger one it is refused, and for a second one too. Run it:
//
//	go run ./examples/stepup DIR
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

// A payment is the dangerous action.
type payment struct {
	to    string
	cents int
}

// action says exactly what is to happen, for the proof; and the same in words, for the letter.
func (p payment) action() illumicode.Action {
	return illumicode.Action{
		Exact: fmt.Appendf(nil, "pay %d cents to %q", p.cents, p.to),
		Words: fmt.Sprintf("pay %d.%02d to %s", p.cents/100, p.cents%100, p.to),
	}
}

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: stepup DIR")
	}
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	svc := quay.Open(ctx, os.Args[1], "https://gullquay.example")
	quay.Must(svc.Store().DB().Exec("CREATE TABLE IF NOT EXISTS paid (recipient TEXT, cents INTEGER)"))
	quay.Check(desk.New(svc.Service).Confirm(ctx, illumicode.Holding{Subject: "7", Address: "mara@gullquay.example"},
		"made for this example"))

	asked := payment{"Ines Amdal", 25_000}
	pending := quay.Must(svc.StepUp(ctx, "7", illumicode.Request{Address: "mara@gullquay.example", Name: "Mara"},
		asked.action()))
	letter := svc.Next()
	fmt.Printf("%s gets %q\n", letter.To, letter.Subject)

	// pay does it, if the code fits this payment: the row and the proof's end are one commit.
	pay := func(p payment) {
		err := svc.ActionCode(ctx, pending.Ticket, letter.Code, p.action(),
			func(ctx context.Context, tx illumicode.Tx, _ illumicode.Proof) error {
				_, err := tx.SQL().ExecContext(ctx, "INSERT INTO paid VALUES (?, ?)", p.to, p.cents)
				return err
			})
		if err != nil {
			fmt.Printf("%s: refused: %v\n", p.action().Words, err)
			return
		}
		fmt.Printf("%s: done\n", p.action().Words)
	}
	pay(payment{"Ines Amdal", 2_500_000}) // whoever is in the session has changed the amount
	pay(asked)
	pay(asked)

	var count, cents int
	quay.Check(svc.Store().DB().QueryRow("SELECT COUNT(*), SUM(cents) FROM paid").Scan(&count, &cents))
	fmt.Printf("%d payment, %d.%02d in all\n", count, cents/100, cents%100)
}
