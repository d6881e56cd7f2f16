package queue

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/illumicode/illumicode/internal/store/db"
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

// attachmentRow are the columns of an attachment.
var attachmentRow = db.Columns[Attachment]{
	db.Text("bundle", func(r *Attachment) *string { return &r.Bundle }),
	db.Number("position", func(r *Attachment) *int { return &r.Position }),
	db.Text("name", func(r *Attachment) *string { return &r.Name }),
	db.Text("type", func(r *Attachment) *string { return &r.Type }),
	db.Text("cid", func(r *Attachment) *string { return &r.ContentID }),
	db.Count("size", func(r *Attachment) *int64 { return &r.Size }),
}

// pieceSize is how much of an attachment stands in one row, in bytes.
const pieceSize = 256 << 10

var (
	newAttachment    = attachmentRow.Insert("attachment", db.Values{})
	insertAttachment = db.Q(newAttachment.Alone())
	insertPiece      = db.Q(`INSERT INTO @attachment_piece (bundle, position, piece, bytes) VALUES (?, ?, ?, ?)`)
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
			if _, err := t.Exec(ctx, insertPiece, a.Bundle, a.Position, piece, buf[:n]); err != nil {
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
	_, err := t.Exec(ctx, insertAttachment, newAttachment.Args(a)...)
	return a.Size, err
}

var (
	selectAttachments = db.Q(`SELECT ` + attachmentRow.Names() + ` FROM @attachment WHERE bundle = ? ORDER BY position`)
	selectPiece       = db.Q(`SELECT bytes FROM @attachment_piece WHERE bundle = ? AND position = ? AND piece = ?`)
)

// Attachments returns the attachments of a bundle in order.
func (s Rows) Attachments(ctx context.Context, bundle string) ([]Attachment, error) {
	return db.All(ctx, s, attachmentRow.Scan, selectAttachments, bundle)
}

// OpenAttachment returns the contents of an attachment, read piece by piece. The reader is not
// safe for concurrent use, and ends with ctx.
func (s Rows) OpenAttachment(ctx context.Context, a Attachment) io.ReadCloser {
	return io.NopCloser(&pieces{ctx: ctx, s: s, a: a})
}

type pieces struct {
	ctx  context.Context // of the one Send that reads
	s    Rows
	a    Attachment
	next int
	rest []byte
}

func (p *pieces) Read(b []byte) (int, error) {
	for len(p.rest) == 0 {
		rest, err := db.One(p.ctx, p.s, db.Scalar[[]byte], selectPiece, p.a.Bundle, p.a.Position, p.next)
		p.rest = rest
		if errors.Is(err, db.ErrNotFound) {
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
const bundleDone = ` WHERE bundle = ? AND NOT EXISTS (SELECT 1 FROM @delivery d WHERE d.bundle = ? AND d.bundle <> '')
	AND NOT EXISTS (SELECT 1 FROM @fanout f WHERE f.bundle = ?)
	AND NOT EXISTS (SELECT 1 FROM @ended e WHERE e.bundle = ? AND e.bundle <> ''
	AND e.state IN ('failed', 'unknown'))`

var (
	deletePieces      = db.Q(`DELETE FROM @attachment_piece` + bundleDone)
	deleteAttachments = db.Q(`DELETE FROM @attachment` + bundleDone)
)

// eraseBundle erases the attachments of a bundle whose last delivery has ended.
func (t Tx) eraseBundle(ctx context.Context, bundle string) error {
	if bundle == "" {
		return nil
	}
	for _, text := range []string{deletePieces, deleteAttachments} {
		if _, err := t.Exec(ctx, text, bundle, bundle, bundle, bundle); err != nil {
			return err
		}
	}
	return nil
}
