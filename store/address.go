package store

import (
	"context"
	"time"
)

// A Standing is what is known of an address for a subject.
type Standing string

// The standings.
const (
	Unconfirmed Standing = "unconfirmed"
	Confirmed   Standing = "confirmed"
)

// An Address is the row of an address and its standing for a subject.
type Address struct {
	Subject  string
	Address  string
	Standing Standing
	Since    time.Time
}

var insertAddress = q(`INSERT INTO illumicode_address (subject, address, standing, since)
	VALUES (?, ?, 'unconfirmed', ?) ON CONFLICT (subject, address) DO NOTHING`)

// AddAddress records an address as unconfirmed, unless the subject has it already.
func (t Tx) AddAddress(ctx context.Context, subject, address string, now time.Time) error {
	_, err := t.exec(ctx, insertAddress, subject, address, millis(now))
	return err
}

var (
	insertHolder = q(`INSERT INTO illumicode_holder (mailbox, subject, since) VALUES (?, ?, ?)
		ON CONFLICT (mailbox) DO NOTHING`)
	selectHolder   = q(`SELECT subject FROM illumicode_holder WHERE mailbox = ?`)
	confirmAddress = q(`INSERT INTO illumicode_address (subject, address, standing, since)
		VALUES (?, ?, 'confirmed', ?)
		ON CONFLICT (subject, address) DO UPDATE SET standing = 'confirmed', since = excluded.since`)
)

// Confirm records an address as confirmed for a subject and reports whether it could: false
// means that another subject holds the mailbox. No statement fails on a conflict.
func (t Tx) Confirm(ctx context.Context, subject, address, mailbox string, now time.Time) (bool, error) {
	n, err := t.exec(ctx, insertHolder, mailbox, subject, millis(now))
	if err != nil {
		return false, err
	}
	if n == 0 {
		rows, err := t.query(ctx, selectHolder, mailbox)
		holder, err := one(t.s, rows, err, func(r scanner) (h string, err error) { return h, r.Scan(&h) })
		if err != nil || holder != subject {
			return false, err
		}
	}
	_, err = t.exec(ctx, confirmAddress, subject, address, millis(now))
	return true, err
}

var selectAddresses = q(`SELECT subject, address, standing, since FROM illumicode_address WHERE subject = ? ORDER BY since DESC, address`)

// Addresses returns the addresses of a subject, the latest change first.
func (s *Store) Addresses(ctx context.Context, subject string) ([]Address, error) {
	rows, err := s.query(ctx, selectAddresses, subject)
	return collect(s, rows, err, func(r scanner) (a Address, err error) {
		var since int64
		err = r.Scan(&a.Subject, &a.Address, &a.Standing, &since)
		a.Since = instant(since)
		return a, err
	})
}
