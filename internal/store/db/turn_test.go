package db

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
)

// Where one writes at a time, nobody waits for ever for a turn that somebody keeps.
func TestTurnIsBounded(t *testing.T) { synctest.Test(t, testTurnIsBounded) }

func testTurnIsBounded(t *testing.T) {
	d := New(nil, Dialect{OneWriter: true, Explain: func(err error) error { return err }}, false)
	end, err := d.AwaitWriter(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.AwaitWriter(t.Context()); !errors.Is(err, ErrDatabase) {
		t.Errorf("the second writer got %v", err)
	}
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := d.AwaitWriter(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("one that was stopped got %v", err)
	}
	end()
	if end, err = d.AwaitWriter(t.Context()); err != nil {
		t.Fatal(err)
	}
	end()
}
