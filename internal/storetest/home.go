package storetest

import "strings"

// homes tells a database from its copy.
func homes(b *bed) {
	ctx := b.Context()
	marks, err := b.st.Home(ctx)
	b.must(err)
	if len(marks) < 2 {
		b.Fatalf("marks %q", marks)
	}
	at := func(want bool) {
		b.Helper()
		home, err := b.st.AtHome(ctx)
		b.must(err)
		away, err := b.st.LooksAway(ctx)
		if err != nil || home != want || away == want {
			b.Errorf("at home %v, looks away %v, %v; want %v", home, away, err, want)
		}
	}
	at(true)
	at(true)
	all := make([]string, len(marks))
	for i := range all {
		all[i] = "other " + marks[i]
	}
	b.must(b.st.Set(ctx, "home", strings.Join(all, "\n")))
	at(false)
	at(false)
	unknown := append([]string{""}, marks[1:]...)
	b.must(b.st.Set(ctx, "home", strings.Join(unknown, "\n"))) // as by a user who may not ask for all
	at(true)
	b.must(b.st.Adopt(ctx, "https://ferry.example"))
	at(true)
	if b.st.Moved() > 1 { // one that differs is no copy's, and the next is reckoned from there
		for i := range marks {
			one := strings.Split(strings.Join(marks, "\n"), "\n")
			one[i] = all[i]
			b.must(b.st.Set(ctx, "home", strings.Join(one, "\n")))
			at(true)
			kept, err := b.st.Setting(ctx, "home")
			if err != nil || marks[i] != "" && kept != strings.Join(marks, "\n") {
				b.Errorf("kept %q, %v", kept, err)
			}
		}
	}
}
