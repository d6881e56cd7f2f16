package illumicode_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/store/sqlite"
)

// A language is looked for among the first sixteen wishes, in the first half kilobyte, whatever else somebody sends.
func TestLanguageWishesAreBounded(t *testing.T) {
	k := illumicodetest.Idle(t)
	for wishes, want := range map[string]string{
		"de":                               "de",
		strings.Repeat("sv,", 15) + "de":   "de",
		strings.Repeat("sv,", 16) + "de":   "en",
		"de," + strings.Repeat("a", 1<<20): "de",
		"de;q=0.5, " + strings.Repeat("fr-", 1000) + "x, ja": "de",
		strings.Repeat(",", 1<<20) + "de":                    "en",
		strings.Repeat("a", 600) + ",de":                     "en",
	} {
		if got := k.Service.Locale(wishes); got != want {
			t.Errorf("%.40q…: %s, want %s", wishes, got, want)
		}
	}
}

// A zone has one name. What is none is refused before anything is spent or kept.
func TestZones(t *testing.T) {
	k := illumicodetest.Idle(t)
	for zone, good := range map[string]bool{
		"": true, "Europe/Oslo": true, "Etc/GMT+3": true, "America/Argentina/Buenos_Aires": true,
		"./Asia/Oral": false, "././Asia/Oral": false, "Asia//Oral": false, "/etc/localtime": false,
		"../etc/passwd": false,
		"Asia/Oral/":    false, "Local": false, "Sea/Deep": false, "Europe/Oslo\x00": false, strings.Repeat("a/", 100) +
			"b": false,
	} {
		_, err := k.Service.SignIn(t.Context(),
			illumicode.Request{Address: fmt.Sprint("reader", len(zone), "@ternisle.example"),
				Zone: zone})
		if good != (err == nil) || !good && !errors.Is(err, illumicode.ErrZone) {
			t.Errorf("zone %q: %v", zone, err)
		}
	}
}

// A file that is made is nobody else's.
func TestFileIsPrivate(t *testing.T) {
	file := filepath.Join(t.TempDir(), "new.db")
	st, err := sqlite.Open(t.Context(), file)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	made, err := filepath.Glob(file + "*")
	if err != nil || len(made) < 2 {
		t.Fatalf("files %q, %v", made, err)
	}
	for _, one := range made {
		if info, err := os.Stat(one); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: mode %v, %v", filepath.Base(one), info.Mode().Perm(), err)
		}
	}
	// Of one that was there before it is only said.
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	own, err := sqlite.Use(t.Context(), st.DB())
	if err != nil {
		t.Fatal(err)
	}
	if said := strings.Join(store.Of(own).Warnings(), "\n"); !strings.Contains(said, "others can read") {
		t.Errorf("a file that others can read: %q", said)
	}
}
