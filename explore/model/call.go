package model

import (
	"fmt"
	"time"
)

// A Verb is what somebody does.
type Verb string

// The verbs: who does them, and the fields of [Call] that they read.
const (
	Pass        Verb = "pass"         // time passes: For
	Admit       Verb = "admit"        // a browser asks to register an address: Browser, Address
	BeginSignup Verb = "begin-signup" // the application registers what was admitted: Admission, Account, End
	Register    Verb = "register"     // a browser registers an account that is made later: Browser, Address
	SignIn      Verb = "sign-in"      // a browser asks for a code: Browser, Address
	StepUp      Verb = "step-up"      // an account is about to do something: Browser, Account, Address
	Prove       Verb = "prove"        // a browser types the code of a letter, or a wrong one: Browser, Letter
	ProveLink   Verb = "prove-link"   // a browser opens the link of a letter: Browser, Letter
	Accept      Verb = "accept"       // the application accepts a proof: Proof, Account, End
	Resend      Verb = "resend"       // a browser asks for its letter again: Browser
	Change      Verb = "change"       // an account asks to change an address: Browser, Account, Address, Other
	Undo        Verb = "undo"         // a letter's reader takes a change back: Letter
	Decide      Verb = "decide"       // an operator decides which address stays: Account, Address
	Release     Verb = "release"      // the application closes an account: Account, Undoable, End
	NotMe       Verb = "not-me"       // a letter's reader says that it was somebody else: Letter
	Revoke      Verb = "revoke"       // an account forgets its known browsers: Account
	Stale       Verb = "stale"        // the application doubts an address: Account, Address
	Notify      Verb = "notify"       // the application writes to an account: Account, Key
	Cancel      Verb = "cancel"       // it cancels what it has written under a key: Key
	Deliver     Verb = "deliver"      // a worker tries one letter that is due: Letter, Fate
	Care        Verb = "care"         // a worker does what time asks for
	// a browser puts another address in the place of a mistyped one: Browser, Address
	Correct      Verb = "correct"
	Elsewhere    Verb = "elsewhere"      // a browser with a sign-in's link begins one of its own: Browser, Letter
	ResendByLink Verb = "resend-by-link" // a letter's reader asks for it again: Letter
	RevokeByLink Verb = "revoke-by-link" // a letter's reader makes all browsers unknown: Letter
	Suppress     Verb = "suppress"       // an operator keeps letters from an address: Address
	Restore      Verb = "restore"        // an operator lets them go again: Address
	Vouch        Verb = "vouch"          // an operator confirms an address: Account, Address
	Move         Verb = "move"           // the application moves what it has written under a key: Key, For
	Custom       Verb = "custom"         // a challenge of the application's own: Browser, Account, Address, End
	Recall       Verb = "recall"         // an operator calls letters to an address back: Address
	EndRecall    Verb = "end-recall"     // an operator lets them go again: Address
	Steal        Verb = "steal"          // a thief copies a browser's cookies into another: Browser, Other
	Tamper       Verb = "tamper"         // somebody writes to the row of a challenge: Challenge
	Rotate       Verb = "rotate"         // an operator has another key sign
)

// An End is how the application ends its transaction.
type End string

// The ends.
const (
	Commit   End = "commits"
	Rollback End = "rolls back"
	Panic    End = "panics"
)

// A Fate is what a provider does with a letter.
type Fate string

// The fates.
const (
	Takes   Fate = "takes it"
	Rejects Fate = "refuses the letter"
	Later   Fate = "says later"
	Loses   Fate = "takes it, and its answer is lost"
)

// A Call is one step of a history, resolved: numbers are those of the model's own lists.
type Call struct {
	Verb      Verb
	Browser   int // -1 for none
	Account   int
	Address   int
	Other     int
	Admission int
	Letter    int // -1 for a wrong code
	Proof     int
	Challenge int
	Key       int
	Undoable  bool
	End       End
	Fate      Fate
	For       time.Duration

	// Due is when a letter is tried again that a provider put off. Only the service knows, as it adds jitter; the
	// model checks it.
	Due time.Duration
}

// Do does a call and returns what its caller is told.
func (m *Model) Do(c Call) string {
	do := map[Verb]func(Call) string{
		Pass: m.pass, Admit: m.admit, BeginSignup: m.beginSignup, Register: m.register, SignIn: m.signIn,
		StepUp: m.stepUp, Prove: m.prove, ProveLink: m.proveLink, Accept: m.accept, Resend: m.resend,
		Change: m.change, Undo: m.undo, Decide: m.decide, Release: m.release, NotMe: m.notMe, Revoke: m.revoke,
		Stale: m.stale, Notify: m.notify, Cancel: m.cancel, Deliver: m.deliver, Care: m.care,
		Correct: m.correct, Elsewhere: m.elsewhere, ResendByLink: m.resendByLink, RevokeByLink: m.revokeByLink,
		Suppress: m.suppress, Restore: m.restore, Vouch: m.vouch, Move: m.move, Custom: m.custom,
		Steal: m.steal, Tamper: m.tamper, Recall: m.recall, EndRecall: m.endRecall,
		Rotate: func(Call) string { return "ok" },
	}[c.Verb]
	answer := do(c)
	m.Done++
	m.meet(string(c.Verb) + ": " + kindOf(answer))
	return answer
}

// kindOf returns an answer without its numbers.
func kindOf(answer string) string {
	for i, r := range answer {
		if r == ',' || r == ':' || r >= '0' && r <= '9' {
			return answer[:i]
		}
	}
	return answer
}

func (m *Model) pass(c Call) string {
	m.Now += c.For
	return "ok"
}

// tooSoon is the answer to what must wait.
func tooSoon(at time.Duration) string { return fmt.Sprintf("too soon, until %v", at) }
