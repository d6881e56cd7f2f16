package demo

import (
	"context"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
)

// The ferry's own tables, beside those of Illumicode in the same file.
const schema = `
CREATE TABLE IF NOT EXISTS passenger (
  id        INTEGER PRIMARY KEY AUTOINCREMENT, -- never used again
  email     TEXT NOT NULL UNIQUE COLLATE NOCASE,
  name      TEXT NOT NULL,
  password  TEXT NOT NULL,
  confirmed INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS frozen (
  passenger INTEGER PRIMARY KEY      -- whose change of address was taken back: somebody at the office decides
);
CREATE TABLE IF NOT EXISTS session (
  token     TEXT PRIMARY KEY,        -- SHA-256
  passenger INTEGER NOT NULL,
  full      INTEGER NOT NULL         -- 0: the password was right, the address is not confirmed yet
);`

// A passenger is an account of the ferry.
type passenger struct {
	ID        int64
	Email     string
	Name      string
	Confirmed bool
	Frozen    bool
}

func (p passenger) subject() string { return strconv.FormatInt(p.ID, 10) }

// insertPassenger is the callback of a signup: it runs in the transaction that the letter is committed in. A passenger
// who is there already is not changed: what follows is for the library to know.
func insertPassenger(ctx context.Context, tx *sql.Tx, email, name, password string) (subject string, err error) {
	if _, err := tx.ExecContext(ctx,
		"INSERT INTO passenger (email, name, password) VALUES (?, ?, ?) ON CONFLICT (email) DO NOTHING", email, name,
		password); err != nil {
		return "", err
	}
	err = tx.QueryRowContext(ctx, "SELECT id FROM passenger WHERE email = ?", email).Scan(&subject)
	return subject, err
}

// confirmPassenger is the callback of a confirmation: of a signup, or of another address.
func confirmPassenger(ctx context.Context, tx illumicode.Tx, p illumicode.Proof) error {
	if p.Contested() { // whoever registered somebody else's address must own nothing
		for _, void := range []string{"UPDATE passenger SET password = '' WHERE id = ?",
			"DELETE FROM session WHERE passenger = ?"} {
			if _, err := tx.SQL().ExecContext(ctx, void, p.Subject()); err != nil {
				return err
			}
		}
	}
	_, err := tx.SQL().ExecContext(ctx, "UPDATE passenger SET confirmed = 1, email = ? WHERE id = ?", p.Address(),
		p.Subject())
	return err
}

// correctPassenger is the callback of a signup whose address was mistyped.
func correctPassenger(ctx context.Context, tx illumicode.Tx, to illumicode.Holding) error {
	r, err := tx.SQL().ExecContext(ctx, "UPDATE OR IGNORE passenger SET email = ? WHERE id = ?", to.Address, to.Subject)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(illumicode.ErrOccupied, err)
	}
	return nil
}

// undoChange is the callback of a change of address that was taken back. If it was in effect, whoever
// is in the account must leave it, and does not come in again by its password.
func undoChange(ctx context.Context, tx illumicode.Tx, c illumicode.Change) error {
	if !c.Made {
		return nil
	}
	if _, err := tx.SQL().ExecContext(ctx, "INSERT OR IGNORE INTO frozen (passenger) VALUES (?)",
		c.Subject); err != nil {
		return err
	}
	_, err := tx.SQL().ExecContext(ctx, "DELETE FROM session WHERE passenger = ?", c.Subject)
	return err
}

// disown is the callback of "this was not me".
func disown(ctx context.Context, tx illumicode.Tx, d illumicode.Disowned) error {
	if !d.Done {
		return nil
	}
	_, err := tx.SQL().ExecContext(ctx, "DELETE FROM session WHERE passenger = ?", d.Subject)
	return err
}

// byPassword returns the passenger with this address and password. An unknown address takes as
// long as a wrong password.
func byPassword(ctx context.Context, db *sql.DB, email, password string) (passenger, bool, error) {
	var p passenger
	hash := spareHash
	err := db.QueryRowContext(ctx,
		`SELECT id, email, name, password, confirmed, EXISTS (SELECT 1 FROM frozen WHERE passenger = id)
		FROM passenger WHERE email = ?`, strings.TrimSpace(email)).
		Scan(&p.ID, &p.Email, &p.Name, &hash, &p.Confirmed, &p.Frozen)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return passenger{}, false, err
	}
	if hash == "" { // void, as others may have known it; that takes as long
		hash = spareHash
	}
	fits := samePassword(hash, password)
	return p, fits && err == nil, nil
}

// iterations of PBKDF2. A real site would take more (OWASP names 600,000 for SHA-256); the demo
// signs in dozens of passengers in a few seconds.
const iterations = 60_000

func hashPassword(password string) (string, error) {
	var salt [16]byte
	rand.Read(salt[:])
	sum, err := pbkdf2.Key(sha256.New, password, salt[:], iterations, 32)
	return base64.RawStdEncoding.EncodeToString(append(salt[:], sum...)), err
}

func samePassword(hash, password string) bool {
	raw, err := base64.RawStdEncoding.DecodeString(hash)
	if err != nil || len(raw) != 48 {
		return false
	}
	sum, err := pbkdf2.Key(sha256.New, password, raw[:16], iterations, 32)
	return err == nil && subtle.ConstantTimeCompare(sum, raw[16:]) == 1
}

// spareHash belongs to nobody; comparing with it costs what comparing with a real one does.
var spareHash = base64.RawStdEncoding.EncodeToString(make([]byte, 48))

// An execer is a database or a transaction.
type execer interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// startSession returns the cookie value of a new session of a passenger.
func startSession(ctx context.Context, db execer, subject string, full bool) (string, error) {
	token := rand.Text()
	_, err := db.ExecContext(ctx, "INSERT INTO session (token, passenger, full) VALUES (?, ?, ?)", sessionKey(token),
		subject, full)
	return token, err
}

// sessionOf returns the passenger of a session, and whether it is a full one.
func sessionOf(ctx context.Context, db *sql.DB, token string) (p passenger, full bool, err error) {
	err = db.QueryRowContext(ctx,
		`SELECT p.id, p.email, p.name, p.confirmed, s.full FROM session s JOIN passenger p ON p.id = s.passenger
		WHERE s.token = ?`, sessionKey(token)).Scan(&p.ID, &p.Email, &p.Name, &p.Confirmed, &full)
	return p, full, err
}

func endSession(ctx context.Context, db *sql.DB, token string) error {
	_, err := db.ExecContext(ctx, "DELETE FROM session WHERE token = ?", sessionKey(token))
	return err
}

func sessionKey(token string) string {
	sum := sha256.Sum256([]byte(token))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// sessionLife is how long a browser keeps its cookie.
const sessionLife = 12 * time.Hour
