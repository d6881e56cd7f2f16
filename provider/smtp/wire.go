// The lines of SMTP (RFC 5321 §4.2): commands out and replies in, each bounded in time and in bytes.

package smtp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/illumicode/illumicode/internal/strange"
)

// maxReply bounds one reply, in bytes: all of its lines together.
const maxReply = 64 << 10

// What a peer can do instead of replying.
var (
	errFlood  = fmt.Errorf("the server's reply did not end within %d KiB", maxReply>>10)
	errEarly  = errors.New("the server spoke before it was asked")
	errInsert = errors.New("bytes came in the clear after the reply to STARTTLS: somebody may be between")
)

// A reply is what the server said to one command.
type reply struct {
	code  int
	lines []string // without the code; empty for a code alone
}

// agrees reports whether the reply takes what MAIL, RCPT or a letter asks for. A code is read by its first digit (RFC
// 5321 §4.3.2), unless it belongs to another command: a greeting, a farewell, help, or authentication.
func (r reply) agrees() bool {
	switch r.code {
	case 211, 214, 220, 221, 235:
		return false
	}
	return r.code/100 == 2
}

// A refusal is a reply that ends an exchange.
type refusal struct{ reply }

func (r refusal) Error() string { return fmt.Sprint(r.code, " ", strings.Join(r.lines, " ")) }

// A wire carries commands and replies over one connection. It is not safe for concurrent use.
type wire struct {
	conn     net.Conn
	r        *bufio.Reader
	w        *bufio.Writer // over writes
	patience time.Duration // for each write, and for each reply but the final one
	until    time.Time     // no read or write waits longer; zero for no such bound
	heard    time.Time     // when the last reply had come
	log      io.Writer     // the conversation, for Check; nil for none
}

func newWire(conn net.Conn, patience time.Duration, log io.Writer) *wire {
	w := &wire{patience: patience, log: log}
	w.over(conn)
	return w
}

// over goes on over conn: what was buffered of the connection before is dropped.
func (w *wire) over(conn net.Conn) {
	w.conn, w.r, w.w = conn, bufio.NewReader(conn), bufio.NewWriterSize(writes{w}, 16<<10)
}

// deadline returns when a wait of d ends.
func (w *wire) deadline(d time.Duration) time.Time {
	t := time.Now().Add(d)
	if !w.until.IsZero() && w.until.Before(t) {
		return w.until
	}
	return t
}

// writes bounds each write of a wire's buffer: a peer that stops reading holds nobody.
type writes struct{ *wire }

func (w writes) Write(b []byte) (int, error) {
	if err := w.conn.SetWriteDeadline(w.deadline(w.patience)); err != nil {
		return 0, err
	}
	return w.conn.Write(b)
}

// say writes command lines, all in one write.
func (w *wire) say(lines ...string) error {
	for _, line := range lines {
		if w.log != nil {
			io.WriteString(w.log, line+"\r\n") // a transcript in memory
		}
		w.w.WriteString(line) // the buffer keeps its error for Flush
		w.w.WriteString("\r\n")
	}
	return w.w.Flush()
}

// ask says one command and returns the reply.
func (w *wire) ask(line string) (reply, error) {
	if err := w.say(line); err != nil {
		return reply{}, err
	}
	return w.reply(w.patience)
}

// reply reads one reply. All of its lines have one deadline, so that a byte an hour is as silent as none. Lines may be
// longer than RFC 5321 §4.5.3.1.5 allows; NUL and bare line feeds are text.
func (w *wire) reply(patience time.Duration) (r reply, err error) {
	if err := w.conn.SetReadDeadline(w.deadline(patience)); err != nil {
		return reply{}, err
	}
	for left := maxReply; ; {
		line, err := w.line(&left)
		if err != nil {
			return reply{}, err
		}
		if w.log != nil {
			io.WriteString(w.log, line+"\r\n")
		}
		code, rest, more, ok := splitLine(line)
		switch {
		case !ok && r.code == 0:
			return reply{}, fmt.Errorf("the server's reply has no code: %q", strange.Cut(line, 100))
		case !ok: // text that a server broke across lines
			code, rest, more = r.code, line, true
		case r.code != 0 && code != r.code:
			return reply{}, fmt.Errorf("the server's reply has two codes, %d and %d", r.code, code)
		}
		r.code = code
		if rest != "" {
			r.lines = append(r.lines, rest)
		}
		if !more {
			w.heard = time.Now()
			return r, nil
		}
	}
}

// line reads one line without its end, of at most *left bytes, which it lowers.
func (w *wire) line(left *int) (string, error) {
	var whole []byte
	for {
		part, err := w.r.ReadSlice('\n')
		if *left -= len(part); *left < 0 {
			return "", errFlood
		}
		whole = append(whole, part...)
		if errors.Is(err, bufio.ErrBufferFull) {
			continue
		}
		if err != nil {
			return "", err
		}
		return strings.TrimRight(string(whole), "\r\n"), nil
	}
}

// splitLine takes "250-text" apart; more says that another line follows. Three digits from 200 to 599 and a space, a
// hyphen or the end make a reply line (RFC 5321 §4.2).
func splitLine(line string) (code int, rest string, more, ok bool) {
	if len(line) < 3 || line[0] < '2' || line[0] > '5' {
		return 0, "", false, false
	}
	for _, digit := range line[:3] {
		if digit < '0' || digit > '9' {
			return 0, "", false, false
		}
		code = 10*code + int(digit-'0')
	}
	switch {
	case len(line) == 3:
		return code, "", false, true
	case line[3] == ' ', line[3] == '-':
		return code, line[4:], line[3] == '-', true
	}
	return 0, "", false, false
}
