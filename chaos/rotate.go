package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/token"
)

// machines are how many workers have a keyring of their own, besides the process that begins the signups.
const machines = 3

// A rotation has people sign up while keys are added and activated, on one machine after the other.
type rotation struct {
	*stage
	ring   *token.Keyring
	files  []string // of the machines; the last is the parent's
	begun  int      // signups
	faults int      // at most
}

// rotated rotates twice while workers are killed. The second rotation is in haste: the key signs before the last
// machine knows it. No letter may fail for it.
func rotated(s *stage, letters, faults int) error {
	r := &rotation{stage: s, ring: token.Generate(time.Now()), files: make([]string, machines+1), faults: faults}
	for i := range r.files {
		r.files[i] = filepath.Join(s.dir, fmt.Sprintf("keyring-%d.json", i))
	}
	if err := r.begin(); err != nil {
		return err
	}
	for round, know := range [][]string{r.files, r.files[1:]} {
		if err := r.rotate(know, letters/10); err != nil {
			return err
		}
		if err := r.signups((round + 1) * letters / 2); err != nil {
			return err
		}
		if err := writeKeys(r.ring, r.files...); err != nil {
			return err
		}
	}
	if err := r.signups(letters); err != nil {
		return err
	}
	s.accepted = r.begun
	if err := s.untilEmpty(func() error { return s.pause(100 * time.Millisecond) }); err != nil {
		return err
	}
	sum, err := flow.Of(s.svc).Store.Summary(s.ctx, s.svc.Now())
	if err != nil {
		return err
	}
	if sum.Count[store.Sent] != r.begun {
		return fmt.Errorf("of %d letters, %v", r.begun, sum.Count)
	}
	return nil
}

// begin gives the parent and every worker a keyring file.
func (r *rotation) begin() (err error) {
	if err := writeKeys(r.ring, r.files...); err != nil {
		return err
	}
	r.closing()
	r.setup.keyring = r.files[machines]
	if r.svc, r.closing, err = r.open(r.ctx); err != nil {
		return err
	}
	for _, file := range r.files[:machines] {
		own := r.setup
		own.keyring = file
		if err := r.startAs(own); err != nil {
			return err
		}
	}
	return nil
}

// signups has people sign up until so many have.
func (r *rotation) signups(upTo int) error {
	for ; r.begun < upTo; r.begun++ {
		to := illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", r.begun)}
		if _, err := r.svc.Signup(r.ctx, to, illumicode.Subject(fmt.Sprint(r.begun))); err != nil {
			return err
		}
	}
	return nil
}

// rotate adds a key on some machines, and lets the parent sign with it.
func (r *rotation) rotate(know []string, part int) error {
	next, kid, err := r.ring.Add(token.ForLinks, time.Now())
	if err != nil {
		return err
	}
	for _, file := range know { // one machine after the other
		if err := writeKeys(next, file); err != nil {
			return err
		}
		if err := r.signups(r.begun + part); err != nil {
			return err
		}
		if r.stage.faults < r.faults {
			if err := r.kill(); err != nil {
				return err
			}
		}
	}
	if err := r.known(kid, len(know)); err != nil {
		return err
	}
	if r.ring, err = next.Activate(kid, time.Now(), time.Now().Add(24*time.Hour)); err != nil {
		return err
	}
	if err := writeKeys(r.ring, r.files[machines]); err != nil {
		return err
	}
	for kid != flow.Of(r.svc).Keys.Active().ID() { // the parent's calls take the keyring up
		if err := r.signups(r.begun + 1); err != nil {
			return err
		}
	}
	return nil
}

// known waits until so many processes know a key. The parent takes its keyring up by its calls.
func (s *stage) known(kid string, want int) error {
	for {
		if _, err := s.svc.Prove(s.ctx, "no ticket", "123 456"); !errors.Is(err, illumicode.ErrInvalid) {
			return fmt.Errorf("no ticket: %w", err)
		}
		all, err := flow.Of(s.svc).Store.Processes(s.ctx, s.svc.Now())
		if err != nil {
			return err
		}
		n := 0
		for _, p := range all {
			if p.Knows(kid) {
				n++
			}
		}
		if n >= want {
			return nil
		}
		if err := s.pause(200 * time.Millisecond); err != nil {
			return err
		}
	}
}

// writeKeys puts a keyring into files, each whole or not at all.
func writeKeys(ring *token.Keyring, files ...string) error {
	for _, file := range files {
		if err := os.WriteFile(file+".new", ring.Marshal(), 0o600); err != nil {
			return err
		}
		if err := os.Rename(file+".new", file); err != nil {
			return err
		}
	}
	return nil
}
