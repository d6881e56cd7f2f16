package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/keyring"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/token"
)

// machines are how many workers have a keyring of their own, besides the process that begins the signups.
const machines = 3

// rotated has people sign up while a key is added and activated, on one machine after the other, and workers are killed.
// A second rotation is in haste: the key signs before the last machine knows it. No letter may fail for it.
func rotated(s *stage, letters, faults int) error {
	ring := token.Generate(time.Now())
	files := make([]string, machines+1) // the last is the parent's
	for i := range files {
		files[i] = filepath.Join(s.dir, fmt.Sprintf("keyring-%d.json", i))
	}
	if err := writeKeys(ring, files...); err != nil {
		return err
	}
	s.closing()
	var err error
	s.setup.keyring = files[machines]
	if s.svc, s.closing, err = s.open(s.ctx); err != nil {
		return err
	}
	for _, file := range files[:machines] {
		own := s.setup
		own.keyring = file
		if err := s.startAs(own); err != nil {
			return err
		}
	}
	begun := 0
	signups := func(upTo int) error {
		for ; begun < upTo; begun++ {
			to := illumicode.Request{Address: fmt.Sprintf("p%d@ternisle.example", begun)}
			if _, err := s.svc.Signup(s.ctx, to, illumicode.Subject(fmt.Sprint(begun))); err != nil {
				return err
			}
		}
		return nil
	}
	part := letters / 10
	kill := func() error {
		if s.faults >= faults {
			return nil
		}
		return s.kill()
	}
	for round, inHaste := range []bool{false, true} {
		next, kid, err := ring.Add(token.ForLinks, time.Now())
		if err != nil {
			return err
		}
		know := files // all
		if inHaste {
			know = files[1:]
		}
		for _, file := range know { // one machine after the other
			if err := writeKeys(next, file); err != nil {
				return err
			}
			if err := signups(begun + part); err != nil {
				return err
			}
			if err := kill(); err != nil {
				return err
			}
		}
		if err := s.known(kid, len(know)); err != nil {
			return err
		}
		if ring, err = next.Activate(kid, time.Now(), time.Now().Add(24*time.Hour)); err != nil {
			return err
		}
		if err := writeKeys(ring, files[machines]); err != nil {
			return err
		}
		for keyring.Of(ring).Active().ID() != flow.Of(s.svc).Keys.Active().ID() {
			if err := signups(begun + 1); err != nil { // the parent's calls take the keyring up
				return err
			}
		}
		if err := signups((round + 1) * letters / 2); err != nil {
			return err
		}
		if err := writeKeys(ring, files...); err != nil {
			return err
		}
	}
	if err := signups(letters); err != nil {
		return err
	}
	s.accepted = begun
	if err := s.untilEmpty(func() error { return s.pause(100 * time.Millisecond) }); err != nil {
		return err
	}
	sum, err := flow.Of(s.svc).Store.Summary(s.ctx, s.svc.Now())
	if err != nil {
		return err
	}
	if sum.Count[store.Sent] != begun {
		return fmt.Errorf("of %d letters, %v", begun, sum.Count)
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
