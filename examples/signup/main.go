// Signup is an application with a users table of its own that confirms addresses. Its accounts are made when their
// addresses are confirmed, in the same commit: who types somebody else's address has no account there.
//
// Run a capture inbox first (`go run ./cmd/illumicode inbox --certificate inbox.pem`), then
// `go run ./examples/signup`, and open http://127.0.0.1:8080/.
package main

import (
	"cmp"
	"context"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"errors"
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
		"CREATE TABLE IF NOT EXISTS users (id INTEGER PRIMARY KEY AUTOINCREMENT, email TEXT UNIQUE, password BLOB)"))
	// AUTOINCREMENT: an id is never used again

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
	pages := must(web.NewPages(svc, web.Options{Create: create}))

	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `<form method="post" action="/register"><input name="email">`+
			`<input name="password" type="password"><button>Register</button></form>`)
	})
	mux.HandleFunc("POST /register", func(w http.ResponseWriter, r *http.Request) { register(svc, pages, w, r) })
	mux.Handle("/", pages)

	go svc.Run(ctx) // delivers until ctx ends
	log.Printf("open http://%s/", listen)
	go http.ListenAndServe(listen, mux)
	<-ctx.Done()
}

// register takes the form. There is no user yet: what one will be made of is sealed beside the letter, in one commit.
func register(svc *illumicode.Service, pages *web.Pages, w http.ResponseWriter, r *http.Request) {
	pending, err := svc.Register(r.Context(), pages.Request(r, r.PostFormValue("email")),
		func(context.Context) (illumicode.Registration, error) { // once, and after the limits
			hash, err := hashOf(r.PostFormValue("password"))
			return illumicode.Registration{Secret: hash}, err
		})
	if pages.TooSoon(w, r, err) { // answered: a limit, and when to come back
		return
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	pages.Await(w, r, pending) // remembers this browser, and asks it to check its email
}

// create makes the user in the commit that confirms the address. Where another browser registered there is no password:
// then this one chooses one, on a page that a session of its own leads to.
func create(_ http.ResponseWriter, r *http.Request, tx illumicode.Tx, p illumicode.Proof,
	made illumicode.Registration) (subject string, err error) {
	err = tx.SQL().QueryRowContext(r.Context(),
		"INSERT INTO users (email, password) VALUES (?, ?) ON CONFLICT DO NOTHING RETURNING id", p.Address(),
		made.Secret).Scan(&subject)
	if errors.Is(err, sql.ErrNoRows) {
		err = illumicode.ErrOccupied
	}
	return subject, err
}

// hashOf returns what is kept of a password: the salt, and what PBKDF2 (RFC 8018 §5.2) makes of both.
func hashOf(password string) ([]byte, error) {
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	key, err := pbkdf2.Key(sha256.New, password, salt, 600_000, 32)
	return append(salt, key...), err
}

// must ends the program if its start fails.
func must[T any](v T, err error) T {
	if err != nil {
		log.Fatal(err)
	}
	return v
}
