package illumicode

import (
	"time"

	"github.com/illumicode/illumicode/challenge"
	"github.com/illumicode/illumicode/internal/core/judge"
	"github.com/illumicode/illumicode/limit"
)

// DefaultLimits returns the rules that hold where Config.Limits is nil. They bear with somebody who
// mistypes and presses every button, and with an office behind one network address; a form that
// strangers use as a mail cannon they stop. Half of what is for everybody is for who presents something
// (limit.Rule.Reserved). `illumicode limits report` shows what they let through.
func DefaultLimits() []limit.Rule {
	const day, hour = 24 * time.Hour, time.Hour
	return []limit.Rule{
		// Nobody holds back an owner for long: a browser that has signed in before has all of this to
		// itself, and for any other some of it comes back every hour.
		{Name: "address-again", By: limit.Address, Stage: limit.Again,
			Ladder: limit.Ladder{
				Rungs: []time.Duration{30 * time.Second, time.Minute, 5 * time.Minute, 15 * time.Minute}, Decay: hour}},
		{Name: "address-hour", By: limit.Address, Rate: limit.Rate{Times: 12, Per: hour, Burst: 8}},
		{Name: "address-day", By: limit.Address, Rate: limit.Rate{Times: 24, Per: day, Burst: 24}},
		// No more guesses than 100 a day at the codes of one account.
		{Name: "signin-day", By: limit.Address, On: []string{challenge.SignIn}, Stage: limit.First,
			Rate: limit.Rate{Times: 8, Per: day, Burst: 8}},
		{Name: "network-hour", By: limit.Network, Rate: limit.Rate{Times: 120, Per: hour, Burst: 60}},
		{Name: "network-day", By: limit.Network, Quota: limit.Quota{Times: 1000, Window: limit.Day}},
		// After a hundred wrong codes a day from one network each further one waits a quarter of an hour; known
		// browsers do not.
		{Name: "wrong-codes", By: limit.Network, Stage: limit.Wrong,
			Rate: limit.Rate{Times: 100, Per: day, Burst: 100}},
		// What a form can be made to send to people who never heard of the service, by any number of
		// strangers.
		{Name: "new-addresses", By: limit.All, New: true, Rate: limit.Rate{Times: 2000, Per: hour, Burst: 1000},
			Reserved: 0.5},
		{Name: "new-addresses-day", By: limit.All, New: true, Quota: limit.Quota{Times: 20000, Window: limit.Day},
			Reserved: 0.5},
		// Texts cost money, which caps of the providers bound by country (route.Caps.PerCountry), when a text is handed
		// over: a rule here would be a door that a few networks close.
		{Name: "told-by-text", By: limit.All, On: []string{judge.Told}, Medium: limit.SMS,
			Quota: limit.Quota{Times: 20, Window: limit.Day}},
	}
}
