// Package feedback takes what mail systems write back about letters: delivery status notifications and
// abuse reports, from an SMTP or LMTP listener, from a file, or from what a mail server pipes into a
// program. [Post] is the type to read first. What providers POST is taken by package web.
//
// A message counts only if it went to a return path that this service has signed, or names one: who
// makes up a bounce cannot make up that. Nothing is ever answered by mail.
package feedback

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
)

// A Post takes reports that come by mail. It is safe for concurrent use. Use [New].
type Post struct {
	svc        *illumicode.Service
	complaints []string
	log        *slog.Logger
}

// New returns a post for the letters of svc, which must have a return path. complaints are addresses,
// beside the return paths, to which mailbox providers send abuse reports.
func New(svc *illumicode.Service, complaints []string, log *slog.Logger) *Post {
	return &Post{svc: svc, complaints: complaints, log: log}
}

// ErrUnread means that a message is no report that can be read. It was taken, and nothing follows:
// mostly it is somebody's automatic answer.
var ErrUnread = errors.New("feedback: that is no report")

// Take reads one message of any length and keeps what it reports. to are the addresses it was sent to,
// as far as they are known; without any, those count which its header names. A report about a letter
// that ends too early is kept as "other", for somebody to see. The error is [ErrUnread],
// [ErrForeignPath] if neither address nor report names a return path of this service, or
// one of the database's, after which the message should be offered again.
func (p *Post) Take(ctx context.Context, to []string, r io.Reader) (Feedback, error) {
	rep, err := report.Read(r)
	path := p.pathIn(append(to, rep.Paths...))
	switch {
	case errors.Is(err, report.ErrTruncated) && path != "":
		rep = report.Report{Kind: report.Other, Text: "a report that cannot be read: it ends too early"}
	case errors.Is(err, report.ErrTruncated) || errors.Is(err, report.ErrNotReport):
		return Feedback{}, fmt.Errorf("%w: %w", ErrUnread, err)
	case err != nil:
		return Feedback{}, err
	case path == "":
		return Feedback{}, ErrForeignPath
	}
	f := Feedback{Kind: rep.Kind, Status: rep.Status, Text: rep.Text, ID: rep.ID, At: rep.At, Path: path}
	_, err = Take(ctx, p.svc, f)
	return f, err
}

// pathIn returns the first of addresses that is a return path of this service.
func (p *Post) pathIn(all []string) string {
	for _, one := range all {
		if _, err := deliveryOf(flow.Of(p.svc), one); err == nil {
			return one
		}
	}
	return ""
}

// takes reports whether messages to an address are wanted.
func (p *Post) takes(to string) bool {
	for _, one := range p.complaints {
		if strings.EqualFold(one, to) {
			return true
		}
	}
	return p.pathIn([]string{to}) != ""
}
