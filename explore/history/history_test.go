package history_test

import (
	"reflect"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/explore/history"
	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/explore/world"
)

// What was found once is not there any more.
func TestCorpus(t *testing.T) {
	all, err := history.Corpus()
	if err != nil || len(all) == 0 {
		t.Fatalf("%d histories, %v", len(all), err)
	}
	w, err := world.Open(t.Context(), world.SQLite)
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	for _, one := range all {
		if _, err := history.Play(t.Context(), w, one.History, func(string) {}); err != nil {
			t.Errorf("%s:\n%v", one.What, err)
		}
	}
}

// A few histories of each kind, of seeds that are always the same.
func TestHistories(t *testing.T) {
	for _, r := range []history.Run{{Kind: history.Sequential, On: world.SQLite, Most: 60},
		{Kind: history.Interleaved, On: world.SQLite, Most: 60}, {Kind: history.Faulty, On: world.SQLite, Most: 60},
		{Kind: history.Sequential, On: world.Postgres, Most: 20}, {Kind: history.Interleaved, On: world.Postgres,
			Most: 20}} {
		r.Seed = 20
		got, err := history.Explore(t.Context(), &r)
		if err != nil || got.Histories != r.Most || len(got.Situations) < 20 {
			t.Errorf("%s on %s: %d histories, %d situations, %v", r.Kind, r.On, got.Histories, len(got.Situations), err)
		}
	}
}

// A run that was interrupted goes on where it was.
func TestContinue(t *testing.T) {
	keep := t.TempDir() + "/run"
	first := history.Run{Kind: history.Sequential, On: world.SQLite, Seed: 7, Most: 5, Keep: keep}
	if _, err := history.Explore(t.Context(), &first); err != nil {
		t.Fatal(err)
	}
	next := history.Run{Kind: history.Sequential, On: world.SQLite, Most: 8, Keep: keep}
	if err := next.Resume(); err != nil || next.Seed != 7 || next.Done != 5 {
		t.Fatalf("%+v, %v", next, err)
	}
	if got, err := history.Explore(t.Context(), &next); err != nil || got.Histories != 3 {
		t.Errorf("it went on with %d histories, %v", got.Histories, err)
	}
}

// steps are calls that are steps of histories.
var steps = map[string]model.Verb{
	"Service.Address": model.Care, "Service.Admit": model.Admit, "Service.Browsers": model.Revoke,
	"Service.ChangeAddress": model.Change, "Service.Correct": model.Correct, "Service.NotMe": model.NotMe,
	"Service.Notify": model.Notify, "Service.Now": model.Pass, "Service.Prove": model.Prove,
	"Service.ProveLinkFrom": model.ProveLink, "Service.Register": model.Register,
	"Service.ResendForBrowser": model.Resend, "Service.ResendForReader": model.ResendByLink,
	"Service.RevokeByLink": model.RevokeByLink, "Service.SignIn": model.SignIn,
	"Service.SignInElsewhere": model.Elsewhere, "Service.StepUp": model.StepUp, "Service.Transact": model.Accept,
	"Service.Undo": model.Undo,

	"Tx.Accept": model.Accept, "Tx.AcceptAction": model.Accept, "Tx.AcceptRegistration": model.Accept,
	"Tx.AcceptSignIn": model.Accept, "Tx.Begin": model.Custom, "Tx.BeginSignup": model.BeginSignup,
	"Tx.Cancel": model.Cancel, "Tx.MarkStale": model.Stale, "Tx.Move": model.Move, "Tx.Release": model.Release,
	"Tx.RevokeBrowsers": model.Revoke,

	"Desk.Confirm": model.Vouch, "Desk.Decide": model.Decide, "Desk.EndRecall": model.EndRecall,
	"Desk.Recall": model.Recall, "Desk.Restore": model.Restore, "Desk.Suppress": model.Suppress,
}

// exempt are calls that are no steps, with the reason.
var exempt = map[string]string{
	"Service.ActionCode": "is Prove and Tx.AcceptAction", "Service.Confirm": "is ProveLink and Tx.Accept",
	"Service.ConfirmCode": "is Prove and Tx.Accept", "Service.ConfirmFrom": "is ProveLinkFrom and Tx.Accept",
	"Service.RegisterCode": "is Prove and Tx.AcceptRegistration",
	"Service.RegisterLink": "is ProveLinkFrom and Tx.AcceptRegistration",
	"Service.SignInCode":   "is Prove and Tx.AcceptSignIn",
	"Service.SignInLink":   "is ProveLinkFrom and Tx.AcceptSignIn",
	"Service.Signup":       "is Admit and Tx.BeginSignup",
	"Service.ProveLink":    "is ProveLinkFrom of a browser without a ticket, which is a step",
	"Service.Confirmed":    "is whether Address returns one, which is compared after each step",
	"Service.Inspect":      "reads what ProveLinkFrom, NotMe and Undo act on, and changes nothing",
	"Service.Pending":      "reads what the beginning calls return, and changes nothing",
	"Service.Locale":       "computes", "Service.In": "computes", "Service.On": "computes", "Service.Store": "computes",
	"Service.Wake": "wakes a Run; histories walk through what that does", "Service.Run": "is walked step by step",
	"Service.Unsubscription":   "computes",
	"Service.Preferences":      "not yet a step: preferences concern notices with a category, and no flow",
	"Service.Prefer":           "not yet a step: the same",
	"Service.NotifyAll":        "not yet a step: lists; make chaos counts their letters",
	"Service.Receive":          "not yet a step: events lead to notices",
	"Service.ReceiveList":      "not yet a step: the same, with lists",
	"Service.ResendForOwner":   "not yet a step: which of two that began in one instant is not promised",
	"Service.ResendForSubject": "not yet a step: the same",

	"Tx.BeginDecoy": "is what Tx.BeginSignup does where an account has the address", "Tx.SQL": "computes",
	"Tx.Notify": "is Service.Notify in a transaction", "Tx.NotifyAll": "not yet a step, as Service.NotifyAll",
	"Tx.Receipt": "signs, and writes nothing that is seen", "Tx.Receive": "not yet a step, as Service.Receive",
	"Tx.RevokeBrowser": "is Tx.RevokeBrowsers for one",

	"Desk.CancelRecalled":  "not yet a step: ends a recall as EndRecall does, and cancels",
	"Desk.Correct":         "not yet a step: notices to those who have a letter",
	"Desk.ReleaseRecalled": "not yet a step: EndRecall for some",
	"Desk.Forget":          "not yet a step: erases the rows that a history is told by; TestForget walks all tables",
	"Desk.ResumeForget":    "not yet a step: the same", "Desk.Import": "is Desk.Confirm for many",
	"Desk.Preview": "reads", "Desk.Story": "reads", "Desk.Summary": "reads", "Desk.TryLimits": "reads",
	"Desk.Send": "is Service.Notify and one try",
}

// Every exported call is a step, or says why it is none: a flow without a model fails here.
func TestEveryCallIsAStep(t *testing.T) {
	known := map[string]bool{}
	for of, typ := range map[string]reflect.Type{"Service": reflect.TypeFor[*illumicode.Service](),
		"Tx": reflect.TypeFor[illumicode.Tx](), "Desk": reflect.TypeFor[*desk.Desk]()} {
		for i := range typ.NumMethod() {
			name := of + "." + typ.Method(i).Name
			known[name] = true
			if _, step := steps[name]; step == (exempt[name] != "") {
				t.Errorf("%s must be a step of the model, or be exempt with a reason, and not both", name)
			}
		}
	}
	verbs := history.Verbs()
	for name, verb := range steps {
		if !known[name] || !verbs[verb] {
			t.Errorf("%s is no call, or %s no step", name, verb)
		}
	}
	for name := range exempt {
		if !known[name] {
			t.Errorf("%s is exempt, and no call", name)
		}
	}
}
