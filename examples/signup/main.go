// Signup is an application with a users table of its own that confirms addresses. The account
// and its letter are committed together; so are the confirmation and the account's own change.
//
// Run a capture inbox first (`go run ./cmd/illumicode inbox --certificate inbox.pem`), then
// `go run ./examples/signup`, and open http://127.0.0.1:8080/.
package main

import (
	"cmp"
	"context"
	"fmt"
	"log"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
	"github.com/illumicode/illumicode/web"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	listen := cmp.Or(os.Getenv("LISTEN"), "127.0.0.1:8080")

	st := must(sqlite.Open(ctx, cmp.Or(os.Getenv("DATABASE"), "signup.db")))
	if err := st.Migrate(ctx); err != nil {
		log.Fatal(err)
	}
	db := st.DB() // one file, so that one transaction covers users and letters
	must(db.Exec(
		"CREATE TABLE IF NOT EXISTS users (id INTEGER PRIMARY KEY AUTOINCREMENT, email TEXT UNIQUE, password TEXT, " +
			"confirmed INTEGER DEFAULT 0)")) // an id is never used again

	way := must(smtp.New("inbox", smtp.Config{
		Host: "127.0.0.1", Port: must(strconv.Atoi(cmp.Or(os.Getenv("SMTP_PORT"), "8442"))),
		TLS: smtp.StartTLS, CAFile: cmp.Or(os.Getenv("SMTP_CA"), "inbox.pem"),
	}))
	svc := must(illumicode.New(illumicode.Config{
		Store:     st,
		Keys:      token.Generate(time.Now()), // a real service keeps its keyring in a file
		Site:      illumicode.Site{BaseURL: "http://" + listen, Name: "Gull Quay Bookings"},
		From:      must(message.ParseAddress("desk@gullquay.example")),
		Providers: []provider.Provider{way},
	}))
	pages := must(web.NewPages(svc, web.Options{Apply: confirm}))

	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `<form method="post" action="/register"><input name="email"><button>Register</button></form>`)
	})
	mux.HandleFunc("POST /register", func(w http.ResponseWriter, r *http.Request) { register(svc, pages, w, r) })
	mux.Handle("/", pages)

	go svc.Run(ctx) // delivers until ctx ends
	log.Printf("open http://%s/", listen)
	go http.ListenAndServe(listen, mux)
	<-ctx.Done()
}

// register takes the form: a user and the letter, in one commit.
func register(svc *illumicode.Service, pages *web.Pages, w http.ResponseWriter, r *http.Request) {
	email := r.PostFormValue("email")
	pending, err := svc.Signup(r.Context(), pages.Request(r, email),
		func(ctx context.Context, tx illumicode.Tx) (subject string, err error) {
			if _, err := tx.SQL().ExecContext(ctx, "INSERT INTO users (email) VALUES (?) ON CONFLICT DO NOTHING",
				email); err != nil {
				return "", err
			}
			err = tx.SQL().QueryRowContext(ctx, "SELECT id FROM users WHERE email = ?", email).Scan(&subject)
			return subject, err // whichever user has the address, confirmed or not: the answer will not tell
		})
	if pages.TooSoon(w, r, err) { // answered: a limit, and when to come back
		return
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	pages.Await(w, r, pending) // remembers this browser, and asks it to look into its mail
}

// confirm makes the user's own change in the commit that confirms the address. If somebody else
// registered the address, they must own nothing: the password goes, and with it, here, all that could sign in.
func confirm(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
	_, err := tx.SQL().ExecContext(ctx,
		"UPDATE users SET confirmed = 1, password = CASE WHEN ? THEN NULL ELSE password END WHERE id = ?",
		p.Contested(),
		p.Subject())
	return err
}

// must ends the program if its start fails.
func must[T any](v T, err error) T {
	if err != nil {
		log.Fatal(err)
	}
	return v
}
