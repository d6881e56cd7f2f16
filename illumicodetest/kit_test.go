package illumicodetest_test

import (
	"errors"
	"os"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
)

// What docs/signup.md shows, beside a table of the application's own; and nothing stays behind.
func TestKit(t *testing.T) {
	var file string
	t.Run("an application's test", func(t *testing.T) {
		kit := illumicodetest.New(t)
		db := kit.Service.Store().DB()
		if _, err := db.Exec("CREATE TABLE users (id TEXT)"); err != nil {
			t.Fatal(err)
		}
		if err := db.QueryRow("SELECT file FROM pragma_database_list").Scan(&file); err != nil {
			t.Fatal(err)
		}
		pending, err := kit.Service.Signup(t.Context(), illumicode.Request{Address: "mara@ternisle.example"},
			illumicode.Subject("7"))
		if err != nil {
			t.Fatal(err)
		}
		letter := kit.Letter("mara@ternisle.example", 1)
		kit.Clock.Move(11 * time.Minute)
		if err := kit.Service.ConfirmCode(t.Context(), pending.Ticket, letter.Code(), nil); !errors.Is(err,
			illumicode.ErrExpired) {
			t.Errorf("a code past its life: %v", err)
		}
		if err := kit.Service.Confirm(t.Context(), kit.Link(letter), nil); err != nil {
			t.Errorf("the link: %v", err)
		}
	})
	if _, err := os.Stat(file); !os.IsNotExist(err) {
		t.Errorf("%s is still there: %v", file, err)
	}
}
