package store

import (
	"context"
	"errors"
	"fmt"
	"io"
)

// An Attachment is a file that travels with the deliveries of a bundle: the row.
type Attachment struct {
	Bundle    string
	Position  int
	Name      string
	Type      string
	ContentID string // of one that the letter shows; empty for the others
	Size      int64
}

// pieceSize is how much of an attachment stands in one row, in bytes.
const pieceSize = 256 << 10

var (
	insertAttachment = q(
		`INSERT INTO illumicode_attachment (bundle, position, name, type, cid, size) VALUES (?, ?, ?, ?, ?, ?)`)
	insertPiece = q(`INSERT INTO illumicode_attachment_piece (bundle, position, piece, bytes) VALUES (?, ?, ?, ?)`)
)

// ErrTooLarge is the refusal of an attachment over the limit.
var ErrTooLarge = errors.New("store: the attachment is too large")

// InsertAttachment adds an attachment whose contents are read from r, of at most limit bytes, and
// returns its size. [ErrTooLarge] and errors of r leave rows behind that the caller's rollback
// removes.
func (t Tx) InsertAttachment(ctx context.Context, a Attachment, r io.Reader, limit int64) (int64, error) {
	buf := make([]byte, pieceSize)
	for piece := 0; ; piece++ {
		n, err := io.ReadFull(r, buf)
		a.Size += int64(n)
		if a.Size > limit {
			return a.Size, fmt.Errorf("%w: %q has more than %d bytes", ErrTooLarge, a.Name, limit)
		}
		if n > 0 {
			if _, err := t.exec(ctx, insertPiece, a.Bundle, a.Position, piece, buf[:n]); err != nil {
				return a.Size, err
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return a.Size, fmt.Errorf("store: the attachment %q cannot be read: %w", a.Name, err)
		}
	}
	_, err := t.exec(ctx, insertAttachment, a.Bundle, a.Position, a.Name, a.Type, a.ContentID, a.Size)
	return a.Size, err
}

var (
	selectAttachments = q(
		`SELECT bundle, position, name, type, cid, size FROM illumicode_attachment WHERE bundle = ? ORDER BY position`)
	selectPiece = q(`SELECT bytes FROM illumicode_attachment_piece WHERE bundle = ? AND position = ? AND piece = ?`)
)

// Attachments returns the attachments of a bundle in order.
func (s *Store) Attachments(ctx context.Context, bundle string) ([]Attachment, error) {
	rows, err := s.query(ctx, selectAttachments, bundle)
	return collect(s, rows, err, func(r scanner) (a Attachment, err error) {
		return a, r.Scan(&a.Bundle, &a.Position, &a.Name, &a.Type, &a.ContentID, &a.Size)
	})
}

// OpenAttachment returns the contents of an attachment, read piece by piece. The reader is not
// safe for concurrent use, and ends with ctx.
func (s *Store) OpenAttachment(ctx context.Context, a Attachment) io.ReadCloser {
	return io.NopCloser(&pieces{ctx: ctx, s: s, a: a})
}

type pieces struct {
	ctx  context.Context // of the one Send that reads
	s    *Store
	a    Attachment
	next int
	rest []byte
}

func (p *pieces) Read(b []byte) (int, error) {
	for len(p.rest) == 0 {
		rows, err := p.s.query(p.ctx, selectPiece, p.a.Bundle, p.a.Position, p.next)
		p.rest, err = one(p.s, rows, err, func(r scanner) (piece []byte, err error) { return piece, r.Scan(&piece) })
		if errors.Is(err, ErrNotFound) {
			return 0, io.EOF
		}
		if err != nil {
			return 0, err
		}
		p.next++
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

// An attachment is needed as long as a delivery of its bundle is on its way, or could be tried again.
const bundleDone = ` WHERE bundle = ? AND NOT EXISTS (SELECT 1 FROM illumicode_delivery d WHERE d.bundle = ?)
	AND NOT EXISTS (SELECT 1 FROM illumicode_fanout f WHERE f.bundle = ?)
	AND NOT EXISTS (SELECT 1 FROM illumicode_ended e WHERE e.bundle = ? AND e.bundle <> '' AND e.state = 'failed')`

var (
	deletePieces      = q(`DELETE FROM illumicode_attachment_piece` + bundleDone)
	deleteAttachments = q(`DELETE FROM illumicode_attachment` + bundleDone)
)

// eraseBundle erases the attachments of a bundle whose last delivery has ended.
func (t Tx) eraseBundle(ctx context.Context, bundle string) error {
	if bundle == "" {
		return nil
	}
	for _, text := range []string{deletePieces, deleteAttachments} {
		if _, err := t.exec(ctx, text, bundle, bundle, bundle, bundle); err != nil {
			return err
		}
	}
	return nil
}
