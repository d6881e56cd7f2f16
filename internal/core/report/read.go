package report

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"strings"
	"time"
)

// What a message can be that is no readable report.
var (
	ErrNotReport = errors.New("report: it is neither a delivery status notification nor an abuse report")
	ErrTruncated = errors.New("report: it ends before it says what happened")
)

// Bounds of what is looked at; a report that needs more is none.
const (
	maxParts = 20
	maxDepth = 4
)

// Read reads a message, as it came over SMTP or lies in a file, and returns the report in it. It
// reads on until the report's own fields are known and the header of the letter it is about, if that
// follows; the rest stays unread.
//
// The report is the first multipart/report that is not inside another message: a returned letter that
// is a report itself is not taken for one. The error is [ErrNotReport] or [ErrTruncated], with ID and
// Paths as far as the header says them, or that of r.
func Read(r io.Reader) (Report, error) {
	watched := &watched{r: r}
	head, body := message(watched)
	rep, err := find(head, body, 0)
	if watched.err != nil {
		return Report{}, watched.err
	}
	rep.ID = oneLine(bare(head["message-id"]))
	// of the report, which went to the letter's return path
	for _, name := range []string{"delivered-to", "x-original-to", "envelope-to", "to"} {
		rep.Paths = append(rep.Paths, bare(head[name]))
	}
	return rep, err
}

// watched remembers an error of the input that is not its end.
type watched struct {
	r   io.Reader
	err error
}

func (w *watched) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		w.err = err
	}
	return n, err
}

// message reads the header of a message. A line "From …" that a mail folder puts in front is no field.
func message(r io.Reader) (fields, *bufio.Reader) {
	body := bufio.NewReaderSize(r, 4<<10)
	head, _ := readFields(body, "")
	return head, body
}

// find looks for the report in a message or part.
func find(head fields, body io.Reader, depth int) (Report, error) {
	kind, params := head.contentType()
	boundary := params["boundary"]
	if depth == maxDepth || !strings.HasPrefix(kind, "multipart/") || boundary == "" {
		return Report{}, ErrNotReport
	}
	parts := multipart.NewReader(body, boundary)
	if kind == "multipart/report" {
		return readParts(parts)
	}
	for range maxParts {
		part, head, err := nextPart(parts)
		if err != nil {
			return Report{}, ErrNotReport
		}
		if rep, err := find(head, part, depth+1); !errors.Is(err, ErrNotReport) {
			return rep, err
		}
	}
	return Report{}, ErrNotReport
}

// nextPart returns the next part with its transfer encoding undone.
func nextPart(parts *multipart.Reader) (io.Reader, fields, error) {
	part, err := parts.NextRawPart()
	if err != nil {
		return nil, nil, err
	}
	head := make(fields)
	for name, values := range part.Header {
		head[strings.ToLower(name)] = values[0]
	}
	return head.decoded(part), head, nil
}

// readParts reads the parts of a multipart/report: words for people, the fields for programs, and
// perhaps the letter or its header (RFC 6522 §3).
func readParts(parts *multipart.Reader) (Report, error) {
	var rep Report
	var words string
	known := false
	for n := 0; n < maxParts; n++ {
		part, head, err := nextPart(parts)
		if err != nil {
			switch {
			case known:
				return rep, nil
			case errors.Is(err, io.EOF):
				return rep, ErrNotReport
			}
			return rep, ErrTruncated
		}
		kind, params := head.contentType()
		switch kind {
		case "message/delivery-status", "message/global-delivery-status": // RFC 6533 §3
			if rep, err = readStatus(part, params["charset"]); err != nil {
				return rep, err
			}
			known = true
		case "message/feedback-report":
			f, err := readFields(bufio.NewReader(part), params["charset"])
			if err != nil && !errors.Is(err, io.EOF) {
				return rep, ErrTruncated
			}
			rep, known = readComplaint(f), true
		case "message/rfc822", "text/rfc822-headers", "message/global", "message/global-headers":
			if known {
				f, _ := message(part)
				rep.Paths = append(rep.Paths, bare(f["return-path"]))
				return rep, nil
			}
		default:
			if n == 0 {
				raw, _ := io.ReadAll(io.LimitReader(part, maxBlock)) // what is missing tells the next part
				words = inUTF8(raw, params["charset"])
			}
		}
		if known && rep.Text == "" {
			rep.Text = oneLine(words)
		}
	}
	if !known {
		return rep, ErrNotReport
	}
	return rep, nil
}

// readStatus reads the fields about a message and about its recipients (RFC 3464 §2). A letter of
// ours has one recipient; where a server tells of several, since the address stands for more than one,
// the letter came back only if it came back from all.
func readStatus(part io.Reader, charset string) (Report, error) {
	in := bufio.NewReader(part)
	about, err := readFields(in, charset)
	rep := Report{At: instant(about["arrival-date"])}
	for err == nil {
		var f fields
		f, err = readFields(in, charset)
		if err != nil && !errors.Is(err, io.EOF) || len(f) == 0 { // it is cut, or these are two empty lines in a row
			continue
		}
		one, err := readRecipient(f)
		if err != nil {
			return rep, err
		}
		if rep.Kind == "" || lighter(one.Kind, rep.Kind) {
			at := rep.At
			rep = one
			if rep.At.IsZero() {
				rep.At = at
			}
		}
	}
	if rep.Kind == "" {
		return rep, ErrTruncated
	}
	return rep, nil
}

// lighter orders what is told of several recipients: one that got the letter outweighs those that
// did not.
func lighter(a, b Kind) bool {
	order := map[Kind]int{Delivered: 0, Other: 1, Delayed: 2, SoftBounce: 3, HardBounce: 4}
	return order[a] < order[b]
}

// readRecipient reads the fields about one recipient (RFC 3464 §2.3).
func readRecipient(f fields) (Report, error) {
	said := f.typed("diagnostic-code")
	rep := Report{Status: statusIn(f["status"]), Text: oneLine(said), At: instant(f["last-attempt-date"])}
	// what the server itself has said is often more exact
	if rep.Status == "" || strings.HasSuffix(rep.Status, ".0.0") {
		if exact := statusIn(said); exact != "" {
			rep.Status = exact
		}
	}
	action, _, _ := strings.Cut(strings.ToLower(f["action"]), " ")
	switch action {
	case "failed":
		rep.Kind = Severity(rep.Status, codeIn(said))
		if rep.Kind == Delivered {
			return rep, fmt.Errorf("%w: it says that a recipient failed with the status %s, a success", ErrNotReport,
				rep.Status)
		}
	case "delayed":
		rep.Kind = Delayed
	case "delivered", "expanded":
		rep.Kind = Delivered
	case "relayed": // to a server that reports nothing: nobody knows the end
		rep.Kind = Other
	default:
		return rep, fmt.Errorf("%w: it has no action that RFC 3464 §2.3.3 knows", ErrNotReport)
	}
	return rep, nil
}

// readComplaint reads an abuse report. Of the types (RFC 5965 §7.3, RFC 6430, RFC 6591) those count in
// which a reader speaks against the letter.
func readComplaint(f fields) Report {
	kind := strings.ToLower(f["feedback-type"])
	rep := Report{Kind: Other, Text: oneLine("feedback type " + kind), At: instant(f["arrival-date"])}
	if agent := oneLine(f["user-agent"]); agent != "" {
		rep.Text += ", by " + agent
	}
	if kind == "abuse" || kind == "fraud" {
		rep.Kind = Complaint
	}
	if rep.At.IsZero() {
		rep.At = instant(f["received-date"])
	}
	if path := bare(f["original-mail-from"]); path != "" {
		rep.Paths = append(rep.Paths, path)
	}
	return rep
}

// instant reads a date (RFC 5322 §3.3); the zero time if it is none.
func instant(s string) time.Time {
	s, _, _ = strings.Cut(s, "(") // a comment with the zone's name
	s = strings.Join(strings.Fields(s), " ")
	for _, layout := range []string{"Mon, 2 Jan 2006 15:04:05 -0700", "2 Jan 2006 15:04:05 -0700",
		"Mon, 2 Jan 2006 15:04:05 MST", "2 Jan 2006 15:04:05 MST"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.UTC()
		}
	}
	return time.Time{}
}
