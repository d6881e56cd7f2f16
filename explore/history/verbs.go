package history

import (
	"strconv"
	"strings"

	"github.com/illumicode/illumicode/explore/model"
)

// verbs are what histories are made of: how often each is chosen, and how it is told.
var verbs = []struct {
	verb   model.Verb
	weight int
	words  string
}{
	{model.Pass, 12, "{span} pass"},
	{model.Admit, 6, "{browser} asks to register address {address}"},
	{model.BeginSignup, 8, "the application registers {account} with admission {admission}, and {end}"},
	{model.Register, 5, "{browser} registers address {address}, for an account to be made"},
	{model.SignIn, 9, "{browser} asks to sign in with address {address}"},
	{model.StepUp, 4, "{browser} of {account} asks for a step-up at address {address}"},
	{model.Prove, 14, "{browser} types the code of letter {letter}"},
	{model.ProveLink, 10, "{browser} opens the link of letter {letter}"},
	{model.Accept, 14, "the application accepts proof {proof}, and {end}"},
	{model.Resend, 7, "{browser} asks for its letter again"},
	{model.Change, 8, "{browser} of {account} asks to change address {address} to {other}"},
	{model.Undo, 7, "the reader of letter {letter} takes the change back"},
	{model.Decide, 4, "an operator decides that {account} keeps address {address}"},
	{model.Release, 3, "the application closes {account} (even if a change can be taken back: {undoable}), and {end}"},
	{model.NotMe, 4, "the reader of letter {letter} says that it was somebody else"},
	{model.Revoke, 2, "{account} forgets its browsers"},
	{model.Stale, 3, "the application doubts address {address} of {account}"},
	{model.Notify, 3, "the application writes to {account} under key {key}"},
	{model.Cancel, 1, "the application cancels key {key}"},
	{model.Move, 1, "the application moves key {key} to {span} later"},
	{model.Deliver, 24, "a worker tries letter {letter}, and the provider {fate}"},
	{model.Care, 4, "a worker does what time asks for"},
	{model.Rotate, 2, "an operator rotates the keys"},
	{model.Correct, 4, "{browser} corrects the address to {address}"},
	{model.Elsewhere, 3, "{browser} begins a sign-in with the link of letter {letter}"},
	{model.ResendByLink, 2, "the reader of letter {letter} asks for it again"},
	{model.RevokeByLink, 1, "the reader of letter {letter} makes all browsers unknown"},
	{model.Suppress, 1, "an operator keeps letters from address {address}"},
	{model.Restore, 1, "an operator lets letters go to address {address} again"},
	{model.Vouch, 3, "an operator confirms address {address} for {account}"},
	{model.Custom, 3, "{browser} of {account} is asked to prove address {address}, by an application that {end}"},
	{model.Recall, 2, "an operator calls letters to address {address} back"},
	{model.EndRecall, 1, "an operator lets recalled letters go to address {address}"},
	{model.Steal, 2, "{browser} gets the cookies of browser {other}"},
	{model.Tamper, 2, "somebody writes to the row of challenge {challenge}"},
}

// Verbs are those that histories are made of.
func Verbs() map[model.Verb]bool {
	out := map[model.Verb]bool{}
	for _, v := range verbs {
		out[v.verb] = true
	}
	return out
}

// Say returns a call in words.
func Say(c model.Call) string {
	browser := "browser " + strconv.Itoa(c.Browser)
	if c.Browser < 0 {
		browser = "a browser that knows nothing"
	}
	words := strings.NewReplacer("letter -1", "no letter", "{browser}", browser, "{account}",
		"account "+strconv.Itoa(c.Account), "{address}", strconv.Itoa(c.Address), "{other}", strconv.Itoa(c.Other),
		"{admission}", strconv.Itoa(c.Admission), "{letter}", strconv.Itoa(c.Letter), "{proof}", strconv.Itoa(c.Proof),
		"{challenge}", strconv.Itoa(c.Challenge), "{key}", strconv.Itoa(c.Key), "{undoable}",
		strconv.FormatBool(c.Undoable), "{end}", string(c.End), "{fate}", string(c.Fate), "{span}", c.For.String())
	for _, v := range verbs {
		if v.verb == c.Verb {
			return strings.Replace(words.Replace(v.words), "the code of letter -1", "a code of no letter", 1)
		}
	}
	return string(c.Verb)
}
