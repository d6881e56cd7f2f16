package main

import (
	"fmt"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/oldrows"
)

// What operators do while workers are killed.
var operations = []scenario{
	{"letters called back, workers killed", "", senders, calledBack},
	// Without a bound: with leases of a second, a checkpoint of SQLite, or signups beside them, can outlast one.
	{"old rows removed, workers killed", "", 0, sweptMeanwhile},
	{"keys rotated machine by machine, workers killed", "", 0, rotated},
	{"a worker of the version before beside new ones, killed", "", senders, besideBefore},
}

// calledBack calls all letters back in the middle, kills a worker, and counts what begins nevertheless. Then it lets
// them go, so that all have to arrive.
func calledBack(s *stage, letters, _ int) error {
	if err := s.enqueue(letters); err != nil {
		return err
	}
	for range 3 {
		if err := s.start(); err != nil {
			return err
		}
	}
	for s.progress() < letters/10 {
		if err := s.pause(100 * time.Millisecond); err != nil {
			return err
		}
	}
	operators := desk.New(s.svc)
	r, err := operators.Recall(s.ctx, desk.Choice{Letter: "trial"}, "chaos")
	if err != nil {
		return err
	}
	if r.WillNot+r.Lists == 0 {
		return fmt.Errorf("all letters had begun before the recall: take more letters")
	}
	if err := s.kill(); err != nil {
		return err
	}
	time.Sleep(5 * leaseOfWorkers) // what had begun arrives, and what the killed worker had is given back
	if n := s.progress(); n > r.HaveIt+r.MayHaveIt {
		return fmt.Errorf("%d letters arrived, and the recall knew of %d and perhaps %d: some were BEGUN AFTER IT", n,
			r.HaveIt, r.MayHaveIt)
	}
	if _, err := operators.EndRecall(s.ctx, r.ID); err != nil {
		return err
	}
	return s.untilEmpty(func() error { return s.pause(100 * time.Millisecond) })
}

// sweptMeanwhile has several old rows for each letter, which must all go in the end.
func sweptMeanwhile(s *stage, letters, faults int) error {
	s.accepted = letters + 1
	if err := s.one(); err != nil {
		return err
	}
	db, longAgo := s.svc.Store().DB(), time.Now().AddDate(-1, 0, 0)
	if err := oldrows.Add(s.ctx, db, flow.Of(s.svc).Store.Dialect(), 4*letters, longAgo); err != nil {
		return err
	}
	if err := s.during(letters, max(1, faults/4), s.kill); err != nil {
		return err
	}
	for end := time.Now().Add(10 * time.Minute); ; {
		left, err := oldrows.Left(s.ctx, db, longAgo)
		if err != nil || left == 0 {
			return err
		}
		if time.Now().After(end) {
			return fmt.Errorf("%d of %d old rows are still there", left, 4*letters)
		}
		if err := s.pause(200 * time.Millisecond); err != nil {
			return err
		}
	}
}

// one delivers a letter to somebody who is in no list.
func (s *stage) one() error {
	_, err := desk.New(s.svc).Send(s.ctx, illumicode.Notice{Letter: "trial",
		To: illumicode.Request{Address: "before@ternisle.example"}})
	return err
}
