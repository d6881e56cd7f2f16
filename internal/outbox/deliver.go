package outbox

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/core/choose"
	"github.com/illumicode/illumicode/internal/core/mask"
	"github.com/illumicode/illumicode/internal/core/verdict"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/internal/strange"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// deliver takes one claimed delivery through one attempt, or ends it without one. A panic of a
// template or a provider costs this delivery, not the worker.
func (w *worker) deliver(ctx context.Context, d Addressed) {
	defer func() {
		if p := recover(); p != nil {
			w.logPanic(d.Delivery, p)
			w.drop(d, store.Failed, "a panic while it was composed; the log has the stack")
		}
	}()
	tried, err := w.resume(ctx, &d.Delivery)
	if err != nil {
		w.unclaim(d.Delivery, w.now().Add(w.cfg.Poll), "")
		return
	}
	d.Withheld = len(tried) > 0 && tried[0].Withheld()
	d.unsure = !d.Withheld && slices.ContainsFunc(tried, perhapsTaken)
	if len(tried) > 0 {
		d.before = tried[len(tried)-1].Ended
	}
	if !d.DeliverBefore.IsZero() && !w.now().Before(d.DeliverBefore) {
		w.drop(d, store.Expired, "its time to be delivered was over")
		return
	}
	if by := w.pausedBy(d); by != "" {
		w.hold(d.Delivery, by, "paused: "+by)
		return
	}
	if !w.cfg.Guard.allows(d) {
		w.hold(d.Delivery, store.HeldGuard, "the guard lets letters out to "+strings.Join(w.cfg.Guard.Domains, ", ")+
			" only")
		return
	}
	ctx, span := startSpan(ctx, d.Delivery)
	defer span.End()
	letter, err := w.composer.Compose(ctx, d)
	if err != nil {
		w.uncomposed(d, err)
		return
	}
	d.Signature = letter.Signature
	if letter.Withheld != "" {
		w.withhold(ctx, d, tried, letter)
		return
	}
	if c, ok := w.choose(ctx, d, tried, letter); ok {
		w.attempt(ctx, d, c, letter)
	}
}

// resume gives a delivery what its first attempt has fixed for all, and returns what was tried.
func (w *worker) resume(ctx context.Context, d *store.Delivery) ([]store.Attempt, error) {
	var tried []store.Attempt
	if d.Attempts > 0 {
		var err error
		if tried, err = w.store.Attempts(ctx, d.ID); err != nil {
			return nil, err
		}
	}
	if len(tried) == 0 { // the first, or the others were removed for their age
		d.Fixed, d.Sign = w.now().Truncate(time.Millisecond), true // as the row keeps it
		return nil, nil
	}
	last := tried[len(tried)-1].Signature
	d.Fixed, d.Signature = tried[0].Fixed, last
	if signed := tried[slices.IndexFunc(tried,
		func(a store.Attempt) bool { return a.Signature == last })]; last != "" &&
		w.now().Sub(signed.Begun) > signedFor && !slices.ContainsFunc(tried, perhapsTaken) {
		d.Signature, d.Sign = "", true
	}
	return tried, nil
}

// signedFor is how old a signature may be when its letter leaves: it expires after 14 days (dkim), and servers on the
// way try for five.
const signedFor = 4 * 24 * time.Hour

// perhapsTaken reports whether an attempt may have handed its letter over: then others carry the same bytes.
func perhapsTaken(a store.Attempt) bool { return a.Ended.IsZero() || a.Class == retry.Ambiguous }

// attempt sends the letter and records the result.
func (w *worker) attempt(ctx context.Context, to Addressed, p chosen, letter Letter) {
	d := to.Delivery
	t := &try{worker: w, d: d, found: to.found, by: p, secrets: letter.Secrets}
	t.row = store.Attempt{Delivery: d.ID, Number: d.Attempts + 1, Claim: d.Claim, Worker: w.row.ID, Provider: p.Name(),
		Begun: w.now(), Route: p.why}
	t.left = t.row.Begun
	slot, crowded := t.connect(ctx, to)
	if crowded && !t.began {
		p.putBack(ctx, to)
		w.unclaim(d, w.now().Add(p.breaker.Patience()/2), busy)
		return
	}
	var slow choose.Full
	if !crowded {
		if slow = t.heed(ctx, to); slow.Cap != "" || t.beginErr != nil {
			slot.give(d.Lane)
		}
		if slow.Cap != "" && !t.began {
			p.putBack(ctx, to)
			w.giveBack(to, slow.At, slow.Cap)
			return
		}
	}
	var r provider.Result
	panicked := false
	switch {
	case crowded: // the letter is not to blame
		r = provider.Result{Class: retry.Throttled, Reply: busy}
	case slow.Cap != "":
		r = throttledBy(slow, w.now())
	case t.beginErr != nil:
		r = provider.Result{Class: retry.Transient, Reply: "the worker stopped before it was sent"}
	default:
		r, panicked = t.hand(ctx, letter)
		slot.give(d.Lane)
		t.learn(ctx, to.To.Domain(), r)
	}
	if !t.began {
		p.putBack(ctx, to) // it has cost nothing of the caps
	}
	if t.cannot(r) {
		return
	}
	a := t.ended(r, panicked)
	end := t.judge(to, a, r)
	if panicked { // it would again; and each time the letter may have left
		end.State, end.Due = store.Unknown, time.Time{}
	}
	end.Then = w.sequel(d, end.State, end.Note, a.Ended)
	var also *store.Attempt
	if !t.began {
		also = &a
	}
	w.persist(d, func(ctx context.Context) error { return w.ledgerOf(d).write(ctx, d, also, &end) })
	w.wakeAt(end.Due)
	w.tell(ctx, to, a, end)
}

// A try is one attempt on its way.
type try struct {
	*worker
	d        store.Delivery
	found    bool // its address is to be written with the first attempt
	by       chosen
	row      store.Attempt
	secrets  mask.Secrets // of its letter
	left     time.Time    // when the row was on record; before that, when it was to be
	begun    time.Time    // the same by this machine's clocks
	began    bool         // the row is on record
	beginErr error        // why it is not
	keptBack error        // why the letter did not leave when all was ready: no fault of the provider
}

// begin records the attempt, once.
func (t *try) begin(ctx context.Context) error {
	if t.found && !t.began && t.beginErr == nil {
		t.beginErr = t.store.Readdress(ctx, t.d)
	}
	before := time.Now()
	if !t.began && t.beginErr == nil {
		t.beginErr = t.ledgerOf(t.d).write(ctx, t.d, &t.row, nil)
		t.began, t.left, t.begun = t.beginErr == nil, t.now(), before
	}
	return t.beginErr
}

// connect takes one of the provider's connections; crowded says that none is free for long. A letter of a quota has
// its own already.
//
// The begin is recorded before, so that no connection waits for a commit. Not of what goes out once at most, as a begin
// without an end would leave it unknown; and not of what counts under a cap that gives back what has not begun.
func (t *try) connect(ctx context.Context, d Addressed) (slot *slots, crowded bool) {
	if choose.Quotas(t.by.terms.Caps) {
		return t.by.slots, false
	}
	early := !t.d.Once && !t.by.byCountry(d)
	if early && t.begin(ctx) != nil {
		return nil, false
	}
	if !t.by.connection(ctx, t.d.Lane) {
		t.keptBack = ctx.Err() // the worker stops
		if t.beginErr == nil {
			t.beginErr = ctx.Err()
		}
		return nil, ctx.Err() == nil
	}
	return t.by.slots, false
}

// heed takes the moment at which the recipient's domain may have the letter, where it asked for fewer of them while
// this one was chosen already and waited for a connection. It says until when there is none.
func (t *try) heed(ctx context.Context, d Addressed) (slow choose.Full) {
	if t.beginErr == nil && t.by.leaves.IsZero() {
		t.by.leaves, slow, t.beginErr = t.by.to(d.To.Domain()).reserve(ctx, d.Lane)
	}
	return slow
}

// throttledBy is what an attempt comes to that must not leave before its domain takes it.
func throttledBy(slow choose.Full, now time.Time) provider.Result {
	return provider.Result{Class: retry.Throttled, Reply: slow.Cap, Concerns: provider.ConcernsDomain,
		After: slow.At.Sub(now)}
}

// learn remembers what the provider has answered, if it was asked.
func (t *try) learn(ctx context.Context, domain string, r provider.Result) {
	if t.beginErr != nil || t.keptBack != nil {
		return
	}
	if !concernsDomain(r) {
		t.by.remember(r.Class, t.began, t.now().Sub(t.left))
	}
	t.by.heard(context.WithoutCancel(ctx), domain, r, t.left)
}

// hand gives the letter to the provider.
func (t *try) hand(ctx context.Context, letter Letter) (r provider.Result, panicked bool) {
	envelope := letter.Envelope
	if letter.SMS == "" && !t.by.Can().MaySend(envelope.From) { // it knows the sender, and not where bounces go
		envelope.From = letter.Contents.From
	}
	ended := t.by.onWay()
	defer func() { ended() }()
	return t.worker.hand(ctx, t.d, t.by, provider.Handover{
		ID: t.d.ID, Envelope: envelope, Message: letter.Message, Letter: letter.Contents, SMS: letter.SMS,
		Once: t.d.Once,
		Begin: func(ctx context.Context) error {
			if err := t.begin(ctx); err != nil {
				return err
			}
			ended()
			if !sleep(ctx, t.by.leaves.Sub(t.now())) {
				t.keptBack = ctx.Err()
			} else {
				t.keptBack = t.by.moment(ctx, t.d.Lane) // the last thing before the letter leaves
			}
			ended = t.by.onWay()
			return t.keptBack
		},
		Final: func(ctx context.Context) error {
			t.keptBack = t.final(ctx)
			return t.keptBack
		},
	})
}

// cannot reports whether nothing is to be recorded of an attempt, and gives the delivery back where it is still ours.
func (t *try) cannot(r provider.Result) bool {
	if errors.Is(t.beginErr, store.ErrFenced) ||
		t.beginErr != nil && !t.began && !verdict.HandedOver(r.Class) { // the database's fault, not the letter's
		t.notBegun(t.d, t.beginErr)
		return true
	}
	return false
}

// notBegun gives a delivery back of whose attempt no begin is on record, where it is still ours.
func (w *worker) notBegun(d store.Delivery, err error) {
	if errors.Is(err, store.ErrFenced) {
		w.log.Warn("the claim was lost before sending", "delivery", d.ID)
		return
	}
	w.log.Error("an attempt cannot be recorded, so nothing is sent", "delivery", d.ID, "error", err)
	until := w.now().Add(w.cfg.Poll)
	w.persist(d, func(ctx context.Context) error { return w.store.Unbegin(ctx, d, until, w.now()) })
}

// mostReply bounds what is stored of a reply, in characters.
const mostReply = 2000

// ended returns the attempt as it ended.
func (t *try) ended(r provider.Result, panicked bool) store.Attempt {
	a := t.row
	a.Ended, a.Class, a.Code = t.now(), r.Class, r.Code
	a.Enhanced, a.Remote = strange.Line(r.Enhanced), strange.Line(r.ID)
	a.Reply = strange.Cut(t.secrets.Hide(r.Reply), mostReply) // hidden first: half a secret would not be found
	if !panicked && (!verdict.Known(r.Class) || verdict.HandedOver(r.Class) && !t.began) {
		// A provider that breaks its contract: whatever it did, the letter may be out.
		a.Class, a.Reply = retry.Ambiguous, fmt.Sprintf("the provider answered %q, against its contract: %s", r.Class,
			a.Reply)
	}
	return a
}

// wakeAt makes this process look when something is due that the next poll would find late.
func (w *worker) wakeAt(due time.Time) {
	if in := due.Sub(w.now()); !due.IsZero() && in < w.cfg.Poll {
		time.AfterFunc(max(0, in)+time.Millisecond, w.Wake)
	}
}

// ledgerOf returns the ledger that records what becomes of d.
func (w *worker) ledgerOf(d store.Delivery) *ledger {
	if d.Lane == store.Urgent {
		return w.urgent
	}
	return w.ledger
}

// tell says what has come of an attempt: one line of log, the observer's figures, the span.
func (w *worker) tell(ctx context.Context, d Addressed, a store.Attempt, end store.End) {
	took := a.Ended.Sub(a.Begun)
	w.log.Info("attempt", "delivery", d.ID, "letter", d.Letter, "lane", d.Lane, "number", a.Number, "provider",
		a.Provider,
		"class", a.Class, "code", a.Code, "enhanced", a.Enhanced, "ms", took.Milliseconds(), "state", end.State)
	w.cfg.Observer.Attempted(d.Lane, a.Provider, a.Class, took)
	if end.State.Final() {
		w.ended(d.Delivery, end.State, end.Note)
	}
	if end.State == store.Waiting && !d.before.IsZero() && days(a.Ended.Sub(d.Fixed)) > days(d.before.Sub(d.Fixed)) {
		w.log.Warn("a letter has been waiting for days", "delivery", d.ID, "days", days(a.Ended.Sub(d.Fixed)),
			"provider", a.Provider, "class", a.Class)
	}
	endSpan(ctx, a, end)
}

// hand calls the provider. A panic in it is an end like any other, of which nobody knows whether
// the letter has left.
func (w *worker) hand(ctx context.Context, d store.Delivery, p provider.Provider, h provider.Handover) (
	r provider.Result, panicked bool) {
	ctx, cancel := context.WithTimeout(ctx, w.cfg.Attempt)
	defer cancel()
	defer func() {
		if p := recover(); p != nil {
			w.logPanic(d, p)
			r, panicked = provider.Result{
				Class: retry.Ambiguous, Reply: "a panic in the provider; the log has the stack"}, true
		}
	}()
	return p.Send(ctx, h), false
}

// logPanic logs the stack and the kind of a panic, whose value may hold what no log may.
func (w *worker) logPanic(d store.Delivery, p any) {
	w.log.Error("panic in a delivery", "delivery", d.ID, "letter", d.Letter, "panic", fmt.Sprintf("%T", p), "stack",
		string(debug.Stack()))
}
