package world

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/token"
)

// Do does a call on the service and returns what its caller is told, in the model's words. Of a letter that a provider
// has put off it says in the call when it is due again.
func (w *World) Do(ctx context.Context, c *model.Call) string {
	do := map[model.Verb]func(context.Context, *model.Call) (string, error){
		model.Admit: w.admit, model.BeginSignup: w.beginSignup, model.Register: w.register,
		model.SignIn: w.signIn, model.StepUp: w.stepUp, model.Prove: w.prove, model.ProveLink: w.proveLink,
		model.Accept: w.accept, model.Resend: w.resend, model.Change: w.change, model.Undo: w.undo,
		model.Decide: w.decide, model.Release: w.release, model.NotMe: w.notMe, model.Revoke: w.revoke,
		model.Stale: w.stale, model.Notify: w.notify, model.Cancel: w.cancel, model.Deliver: w.deliver,
		model.Care: w.care, model.Rotate: w.rotate, model.Correct: w.correct, model.Elsewhere: w.elsewhere,
		model.ResendByLink: w.resendByLink, model.RevokeByLink: w.revokeByLink, model.Suppress: w.suppress,
		model.Restore: w.restore, model.Vouch: w.vouch, model.Move: w.move, model.Custom: w.custom,
		model.Recall: w.recall, model.EndRecall: w.endRecall,
		model.Steal: func(_ context.Context, c *model.Call) (string, error) {
			w.browsers[c.Browser] = w.browsers[c.Other]
			return "ok", nil
		},
		model.Tamper: w.tamper,
		model.Pass:   func(_ context.Context, c *model.Call) (string, error) { w.now += c.For; return "ok", nil },
	}[c.Verb]
	answer, err := do(ctx, c)
	if err != nil {
		return w.words(err)
	}
	return answer
}

// Why a transaction of an application ends without a commit.
var (
	errRollback = errors.New("the application rolls back")
	errPanic    = errors.New("the application panics")
)

// words returns an error in the model's words.
func (w *World) words(err error) string {
	if e, ok := errors.AsType[*illumicode.TooSoonError](err); ok {
		return fmt.Sprintf("too soon, until %v", w.since(e.At))
	}
	if e, ok := errors.AsType[*illumicode.WrongCodeError](err); ok {
		return fmt.Sprintf("wrong code, %d tries left", e.TriesLeft)
	}
	for _, one := range []struct {
		err   error
		words string
	}{{illumicode.ErrExpired, "expired"}, {illumicode.ErrUsed, "used"}, {illumicode.ErrCalledOff, "called off"},
		{illumicode.ErrInvalid, "invalid"}, {illumicode.ErrNoTries, "no tries"}, {illumicode.ErrTaken, "taken"},
		{illumicode.ErrOtherBrowser, "other browser"}, {illumicode.ErrFrozen, "frozen"},
		{illumicode.ErrUndoable, "undoable"}, {illumicode.ErrNotConfirmed, "not confirmed"},
		{illumicode.ErrNothingPending, "nothing pending"}, {illumicode.ErrAdmissionUsed, "admission used"},
		{errRollback, string(model.Rollback)}, {errPanic, string(model.Panic)}} {
		if errors.Is(err, one.err) {
			return one.words
		}
	}
	return "an error that nobody has promised: " + err.Error()
}

// transact runs what the application does in a transaction, which ends as the call says.
func (w *World) transact(ctx context.Context, end model.End, fn func(context.Context,
	illumicode.Tx) error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			if p != any(model.Panic) {
				panic(p)
			}
			err = errPanic
		}
	}()
	return w.svc.Transact(ctx, func(ctx context.Context, tx illumicode.Tx) error {
		if err := fn(ctx, tx); err != nil {
			return err
		}
		switch end {
		case model.Rollback:
			return errRollback
		case model.Panic:
			panic(model.Panic)
		}
		return nil
	})
}

func (w *World) request(b, at int) illumicode.Request {
	return illumicode.Request{Address: address(at), Ticket: w.browsers[b].ticket}
}

// waits gives a browser the ticket of its new challenge, and returns the answer.
func (w *World) waits(ctx context.Context, b int, p illumicode.Pending, err error) (string, error) {
	if err != nil {
		return "", err
	}
	w.browsers[b].ticket = p.Ticket
	return w.told(ctx, flow.Digest(string(p.Ticket)), p)
}

// told is what is said of a challenge that waits, by its ticket's digest.
func (w *World) told(ctx context.Context, digest string, p illumicode.Pending) (string, error) {
	if err := w.learn(ctx); err != nil {
		return "", err
	}
	n, ok := w.challenges[digest]
	if !ok {
		return "", errors.New("the ticket is of no challenge")
	}
	return fmt.Sprintf("ok: challenge %d, %d tries left, again after %v, ends %v", n, p.TriesLeft,
		w.since(p.ResendAfter),
		w.since(p.Ends)), nil
}

// since returns an instant as the model has it.
func (w *World) since(at time.Time) time.Duration { return at.Sub(w.zero).Truncate(time.Millisecond) }

func (w *World) admit(ctx context.Context, c *model.Call) (string, error) {
	a, err := w.svc.Admit(ctx, w.request(c.Browser, c.Address))
	if err != nil {
		return "", err
	}
	w.admissions = append(w.admissions, a)
	return "ok", nil
}

func (w *World) beginSignup(ctx context.Context, c *model.Call) (string, error) {
	var p illumicode.Pending
	err := w.transact(ctx, c.End, func(ctx context.Context, tx illumicode.Tx) (err error) {
		p, err = tx.BeginSignup(ctx, w.admissions[c.Admission], account(c.Account))
		return err
	})
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) register(ctx context.Context, c *model.Call) (string, error) {
	p, err := w.svc.Register(ctx, w.request(c.Browser, c.Address),
		func(context.Context) (illumicode.Registration, error) {
			return illumicode.Registration{Profile: []byte("profile"), Secret: []byte(secret)}, nil
		})
	return w.waits(ctx, c.Browser, p, err)
}

// secret is what nobody may find in the database.
const secret = "the hash of a password, which is sealed"

func (w *World) signIn(ctx context.Context, c *model.Call) (string, error) {
	r := w.request(c.Browser, c.Address)
	r.Browser = w.browsers[c.Browser].known
	p, err := w.svc.SignIn(ctx, r)
	return w.waits(ctx, c.Browser, p, err)
}

var pay = illumicode.Action{Exact: []byte("pay 25000 cents to 8215"), Words: "pay 250.00 to Ines Amdal"}

func (w *World) stepUp(ctx context.Context, c *model.Call) (string, error) {
	p, err := w.svc.StepUp(ctx, account(c.Account), illumicode.Request{Address: address(c.Address)}, pay)
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) resend(ctx context.Context, c *model.Call) (string, error) {
	p, err := w.svc.ResendForBrowser(ctx, w.browsers[c.Browser].ticket)
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) prove(ctx context.Context, c *model.Call) (string, error) {
	code := "000000000"
	if c.Letter >= 0 {
		code = w.letter(c.Letter).code
	}
	p, err := w.svc.Prove(ctx, w.browsers[c.Browser].ticket, code)
	return w.proven(p, err)
}

func (w *World) proveLink(ctx context.Context, c *model.Call) (string, error) {
	ticket := illumicode.Ticket("")
	if c.Browser >= 0 {
		ticket = w.browsers[c.Browser].ticket
	}
	p, err := w.svc.ProveLinkFrom(ctx, ticket, w.letter(c.Letter).link)
	return w.proven(p, err)
}

func (w *World) proven(p illumicode.Proof, err error) (string, error) {
	if err != nil {
		return "", err
	}
	w.proofs = append(w.proofs, p)
	return fmt.Sprintf("proof %d of %s", len(w.proofs)-1, p.Purpose()), nil
}

// letter returns what the reader of a letter has in hand.
func (w *World) letter(n int) letter { return w.way.letters[w.letters[n]] }

func (w *World) accept(ctx context.Context, c *model.Call) (answer string, err error) {
	p := w.proofs[c.Proof]
	err = w.transact(ctx, c.End, func(ctx context.Context, tx illumicode.Tx) error {
		switch {
		case p.Purpose() == "signin":
			who, err := tx.AcceptSignIn(ctx, p)
			if err != nil {
				return err
			}
			answer = "signed in to " + who.Subject
			if c.End == model.Commit {
				w.browsers[c.Browser].known = who.Browser
			}
			return nil
		case p.Purpose() == "stepup":
			answer = "ok"
			return tx.AcceptAction(ctx, p, pay)
		case p.Purpose() == "signup" && p.Subject() == "":
			err := tx.AcceptRegistration(ctx, p, func(context.Context, illumicode.Tx, illumicode.Registration) (string,
				error) {
				return account(c.Account), nil
			})
			answer = fmt.Sprintf("confirmed for %s, contested %t", account(c.Account), p.Contested())
			return err
		}
		counts, err := tx.Accept(ctx, p)
		switch {
		case err != nil:
			return err
		case !counts:
			answer = "kept, and does not count"
		case p.Purpose() == "signup":
			answer = fmt.Sprintf("confirmed for %s, contested %t", p.Subject(), p.Contested())
		default:
			answer = "confirmed for " + p.Subject()
		}
		return nil
	})
	return answer, err
}

func (w *World) change(ctx context.Context, c *model.Call) (string, error) {
	p, err := w.svc.ChangeAddress(ctx, illumicode.Holding{Subject: account(c.Account), Address: address(c.Address)},
		illumicode.Request{Address: address(c.Other)})
	return w.waits(ctx, c.Browser, p, err)
}

func (w *World) undo(ctx context.Context, c *model.Call) (string, error) {
	told, err := w.svc.Undo(ctx, w.letter(c.Letter).takeBack, nil)
	return fmt.Sprintf("taken back, with %d; in effect %t", len(told.Stopped), told.Made), err
}

func (w *World) decide(ctx context.Context, c *model.Call) (string, error) {
	all, err := w.parts.Store.Changes(ctx, account(c.Account))
	if err != nil {
		return "", err
	}
	id := ""
	for _, one := range all {
		if one.State == "frozen" {
			id = one.ID // the first
		}
	}
	return "ok", desk.New(w.svc).Decide(ctx, desk.Decision{Change: id, Keep: address(c.Address), Reason: "known"}, nil)
}

func (w *World) release(ctx context.Context, c *model.Call) (string, error) {
	err := w.transact(ctx, c.End, func(ctx context.Context, tx illumicode.Tx) error {
		return tx.Release(ctx, illumicode.Closing{Subject: account(c.Account), Undoable: c.Undoable})
	})
	return "ok", err
}

func (w *World) notMe(ctx context.Context, c *model.Call) (string, error) {
	answer := "void already"
	err := w.svc.NotMe(ctx, w.letter(c.Letter).takeBack, func(_ context.Context, _ illumicode.Tx,
		d illumicode.Disowned) error {
		if answer = "ended"; d.Done {
			answer = "it had been accepted"
		}
		return nil
	})
	return answer, err
}

func (w *World) revoke(ctx context.Context, c *model.Call) (answer string, err error) {
	err = w.transact(ctx, model.Commit, func(ctx context.Context, tx illumicode.Tx) error {
		n, err := tx.RevokeBrowsers(ctx, account(c.Account))
		answer = fmt.Sprintf("%d revoked", n)
		return err
	})
	return answer, err
}

func (w *World) stale(ctx context.Context, c *model.Call) (string, error) {
	return "ok", w.transact(ctx, model.Commit, func(ctx context.Context, tx illumicode.Tx) error {
		return tx.MarkStale(ctx, illumicode.Holding{Subject: account(c.Account), Address: address(c.Address)},
			illumicode.Doubt{Reason: "it has grown old"})
	})
}

func (w *World) notify(ctx context.Context, c *model.Call) (string, error) {
	_, err := w.svc.Notify(ctx, illumicode.Notice{Letter: "trial", Key: fmt.Sprint("key ", c.Key),
		To: illumicode.Request{Subject: account(c.Account)}})
	return "ok", err
}

func (w *World) cancel(ctx context.Context, c *model.Call) (answer string, err error) {
	err = w.transact(ctx, model.Commit, func(ctx context.Context, tx illumicode.Tx) error {
		n, err := tx.Cancel(ctx, fmt.Sprint("key ", c.Key))
		answer = fmt.Sprintf("%d cancelled", n)
		return err
	})
	return answer, err
}

// deliver has a worker try one letter.
func (w *World) deliver(ctx context.Context, c *model.Call) (string, error) {
	w.way.fate = c.Fate
	d, err := w.parts.Outbox.DeliverOne(ctx, w.letters[c.Letter])
	if err != nil {
		return "", err
	}
	if c.Due = never; d.State == "waiting" {
		c.Due = w.since(d.Due)
	}
	return string(d.State), nil
}

func (w *World) care(ctx context.Context, _ *model.Call) (string, error) {
	_, err := w.parts.Outbox.Care(ctx)
	return "ok", err
}

// rotate has another key sign; the one before verifies.
func (w *World) rotate(context.Context, *model.Call) (string, error) {
	ring, id, err := w.keys.Add(token.ForLinks, w.svc.Now())
	if err == nil {
		ring, err = ring.Activate(id, w.svc.Now(), w.svc.Now().Add(90*24*time.Hour))
	}
	if err == nil {
		w.keys.Replace(ring)
	}
	return "ok", err
}
