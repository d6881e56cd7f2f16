package storetest

import (
	"slices"
	"time"

	"github.com/illumicode/illumicode/internal/store"
)

// processes are counted for a day, with what they know; a worker that says nothing of it is of an older version.
func processes(b *bed) {
	one := store.Process{ID: "1", Host: "quay", PID: 7, Version: "v1", Kids: []string{"a", "b"}, Signs: []string{"a"},
		Seen: start}
	other := store.Process{ID: "2", Host: "pier", PID: 8, Kids: []string{"a"}, Signs: []string{"a"}, Seen: start}
	b.must(b.st.Appear(b.Context(), one))
	b.must(b.st.Appear(b.Context(), other))
	other.Kids, other.Seen = []string{"a", "c"}, start.Add(time.Hour)
	b.must(b.st.Appear(b.Context(), other))
	is := func(when string, now time.Time, want ...store.Process) {
		b.Helper()
		all, err := b.st.Processes(b.Context(), now)
		same := slices.EqualFunc(all, want, func(got, want store.Process) bool {
			return got.ID == want.ID && got.Host == want.Host && got.PID == want.PID && got.Version == want.Version &&
				slices.Equal(got.Kids, want.Kids) && slices.Equal(got.Signs, want.Signs) && got.Seen.Equal(want.Seen)
		})
		if err != nil || !same {
			b.Errorf("%s: %+v, %v", when, all, err)
		}
	}
	const day = 24 * time.Hour
	is("at first", start.Add(time.Hour), other, one)
	is("a day later", start.Add(day+time.Minute), other)
	b.must(b.st.Disappear(b.Context(), other.ID))
	b.worker("new")
	if older, err := b.st.OlderWorkers(b.Context(), start); err != nil || len(older) != 0 {
		b.Errorf("older workers: %+v, %v", older, err)
	}
	// as one of before
	insert := `INSERT INTO @worker (id, host, pid, started, seen, lease) VALUES ('old', 'attic', 9, 0, 0, `
	if _, err := b.st.DB().ExecContext(b.Context(), b.st.Words(insert+`9000000000000)`)); err != nil {
		b.Fatal(err)
	}
	if older, err := b.st.OlderWorkers(b.Context(), start); err != nil || len(older) != 1 || older[0].Host != "attic" ||
		older[0].PID != 9 {
		b.Errorf("older workers: %+v, %v", older, err)
	}
}
