// Signin-code is an application without passwords: who holds an address gets a code there, and the
// application makes a session of its own. The answer is the same for addresses without an account.
//
//	go run ./examples/signin-code DIR     then open http://127.0.0.1:8090/
//
// Letters are printed to the terminal instead of being sent.
package main

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"html"
	"log"
	"net/http"
	"os"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/examples/internal/quay"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/web"
)

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: signin-code DIR")
	}
	listen := cmp.Or(os.Getenv("LISTEN"), "127.0.0.1:8090")
	svc := quay.Open(context.Background(), os.Args[1], "http://"+listen)
	db := svc.Store().DB()
	quay.Must(db.Exec("CREATE TABLE IF NOT EXISTS session (token TEXT PRIMARY KEY, subject TEXT, ends INTEGER)"))
	quay.Check(desk.New(svc.Service).Confirm(context.Background(),
		illumicode.Holding{Subject: "7", Address: "mara@gullquay.example"}, "made for this example"))
	go func() {
		for {
			l := svc.Next()
			fmt.Printf("To %s: %s. The code is %s, the link %s/confirm?t=%s\n", l.To, l.Subject, l.Code,
				"http://"+listen, l.Link)
		}
	}()
	log.Printf("open http://%s/", listen)
	log.Fatal(http.ListenAndServe(listen, site(svc.Service, db)))
}

const sessionLife = 12 * time.Hour

// key is what is stored of a session: whoever reads the table can use none.
func key(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// site is the application's handler.
func site(svc *illumicode.Service, db *sql.DB) http.Handler {
	pages := quay.Must(web.NewPages(svc, web.Options{
		SignIn: "/", After: map[string]string{challenge.SignIn: "/account"},
		// The session is committed together with the end of the proof: of all who come with the same
		// code, one gets one.
		SignedIn: func(w http.ResponseWriter, r *http.Request, tx illumicode.Tx, who illumicode.SignedIn) error {
			token := rand.Text()
			if _, err := tx.SQL().ExecContext(r.Context(), "INSERT INTO session VALUES (?, ?, ?)", key(token),
				who.Subject, time.Now().Add(sessionLife).Unix()); err != nil {
				return err
			}
			http.SetCookie(w, &http.Cookie{Name: "session", Value: token, Path: "/",
				MaxAge:   int(sessionLife / time.Second),
				HttpOnly: true, SameSite: http.SameSiteLaxMode}) // and Secure, where the site is https
			return nil
		},
	}))
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w,
			`<form method="post" action="/code"><label>Address <input name="address" `+
				`autocomplete="username"></label><button>Send me a code</button></form>`)
	})
	mux.HandleFunc("POST /code", func(w http.ResponseWriter, r *http.Request) {
		pending, err := svc.SignIn(r.Context(), pages.Request(r, r.PostFormValue("address")))
		switch {
		case pages.TooSoon(w, r, err): // answered: when to come back, and the way to the code that is here already
		case errors.Is(err, message.ErrAddress):
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		case err != nil:
			http.Error(w, "Please try again.", http.StatusInternalServerError)
		default:
			pages.Await(w, r, pending)
		}
	})
	mux.HandleFunc("GET /account", func(w http.ResponseWriter, r *http.Request) {
		var subject string
		if c, err := r.Cookie("session"); err == nil {
			db.QueryRowContext(r.Context(), "SELECT subject FROM session WHERE token = ? AND ends > ?", key(c.Value),
				time.Now().Unix()).Scan(&subject)
		}
		if subject == "" {
			http.Redirect(w, r, "/", http.StatusSeeOther)
			return
		}
		fmt.Fprintf(w, "You are signed in as subject %s.", html.EscapeString(subject))
	})
	mux.Handle("/", pages)
	return http.NewCrossOriginProtection().Handler(mux)
}
