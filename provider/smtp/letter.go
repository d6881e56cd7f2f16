// How one letter is handed over: command by command, pipelined (RFC 2920), or as one chunk (RFC 3030).

package smtp

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A letter is a handover whose attempt begins once, on however many connections it is tried.
type letter struct {
	provider.Handover
	begun bool
}

func (l *letter) begin(ctx context.Context) error {
	if l.begun {
		return nil // a failed begin ends the Send, so this was a success
	}
	l.begun = true
	return l.Begin(ctx)
}

// send hands one letter over. Afterwards s.usable says whether the session can carry another one, and s.stale whether
// it had ended before it took a byte of this one.
func (s *session) send(ctx context.Context, l *letter) provider.Result {
	stop := context.AfterFunc(ctx, func() { s.tcp.Close() })
	defer stop()
	s.usable, s.stale = true, false
	switch {
	case l.Envelope.UTF8 && !s.offered("SMTPUTF8"):
		return provider.Result{Class: retry.MessageRefused,
			Reply: "the address has letters before the @ that this server cannot carry: it does not offer " +
				"SMTPUTF8 (RFC 6531)"}
	case controls(l.Envelope.From + l.Envelope.To):
		return provider.Result{Class: retry.MessageRefused,
			Reply: "an address of the envelope has a control character, which would begin a command of its own"}
	case !s.offered("PIPELINING"):
		return s.stepByStep(ctx, l)
	case s.offered("CHUNKING") && !l.Once && l.Message.Size() <= maxChunk:
		return s.chunked(ctx, l)
	}
	return s.pipelined(ctx, l)
}

// controls reports whether a text has a control character.
func controls(text string) bool {
	return strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// mail returns the MAIL command, with the parameters that the server offers (RFC 1870, RFC 6152, RFC 6531).
func (s *session) mail(l *letter, size int64) string {
	command := "MAIL FROM:<" + l.Envelope.From + ">"
	if s.offered("SIZE") {
		command += " SIZE=" + strconv.FormatInt(size, 10)
	}
	if s.offered("8BITMIME") {
		command += " BODY=8BITMIME"
	}
	if l.Envelope.UTF8 {
		command += " SMTPUTF8"
	}
	return command
}

func rcpt(l *letter) string { return "RCPT TO:<" + l.Envelope.To + ">" }

// lost is the end of an exchange without a reply. The connection is not used again.
func (s *session) lost(at step, err error) provider.Result {
	s.usable = false
	return s.of.lost(at, err)
}

// ended is what a connection that ended before the letter comes to.
func (s *session) ended() provider.Result {
	s.stale = true
	return s.lost(stepMail, io.EOF)
}

// refused is the end of an exchange by a reply. The connection goes on if the server waits for a command, which pending
// denies.
func (s *session) refused(at step, r reply, pending bool) provider.Result {
	s.usable = s.usable && !pending && r.code >= 400 && r.code != 421 && s.reset()
	s.stale = at == stepMail && r.code == 421
	return s.judge(at, r)
}

// judge returns what a refusal means, and notices a server that refuses what it offered.
func (s *session) judge(at step, r reply) provider.Result {
	result := s.of.refused(at, r)
	words := strings.ToLower(strings.Join(r.lines, " "))
	switch {
	case strings.Contains(words, "pipelin") || strings.Contains(words, "synchroni"):
		if s.distrust("PIPELINING") {
			result.Class, result.Concerns = retry.Transient, provider.ConcernsProvider
		}
	case at == stepMail && (r.code == 501 || r.code == 504 || r.code == 555):
		if s.distrust("SIZE", "8BITMIME") { // the parameters may be what it does not know
			result.Class, result.Concerns = retry.Transient, provider.ConcernsProvider
		}
	}
	return result
}

// stepByStep waits for the reply to each command, and begins the attempt before DATA.
func (s *session) stepByStep(ctx context.Context, l *letter) provider.Result {
	if ready, _ := s.ready(); !ready {
		return s.ended()
	}
	for _, c := range []struct {
		at      step
		command string
	}{{stepMail, s.mail(l, l.Message.Size())}, {stepRcpt, rcpt(l)}} {
		r, err := s.ask(c.command)
		if err != nil {
			s.stale = c.at == stepMail
			return s.lost(c.at, err)
		}
		if !r.agrees() {
			return s.refused(c.at, r, false)
		}
	}
	if err := l.begin(ctx); err != nil {
		s.usable = s.reset()
		return provider.NotSent(err)
	}
	r, err := s.ask("DATA")
	if err != nil {
		return s.lost(stepData, err)
	}
	if r.code != 354 {
		return s.refused(stepData, r, false)
	}
	return s.body(ctx, l)
}

// pipelined begins the attempt, and writes MAIL, RCPT and DATA at once.
func (s *session) pipelined(ctx context.Context, l *letter) provider.Result {
	if err := l.begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	if ready, _ := s.ready(); !ready {
		return s.ended()
	}
	if err := s.say(s.mail(l, l.Message.Size()), rcpt(l), "DATA"); err != nil {
		s.stale = true
		return s.lost(stepMail, err)
	}
	replies, err := s.replies(s.patience)
	if at, r, refused := replies.refusal(); refused {
		// To a server that waits for a letter although it refused the recipient, a dot would complete one.
		return s.refused(at, r, err != nil || replies[len(replies)-1].code == 354)
	}
	if err != nil {
		if s.stale = len(replies) == 0; !s.stale && !errors.Is(err, net.ErrClosed) {
			s.distrust("PIPELINING") // it answered the first command, and may have dropped the others
		}
		return s.lost([]step{stepMail, stepRcpt, stepData}[len(replies)], err)
	}
	if r := replies[2]; r.code != 354 {
		return s.refused(stepData, r, false)
	}
	return s.body(ctx, l)
}

// replies are those to MAIL, RCPT and what was written after them; fewer if the connection was lost.
type replies []reply

// replies reads three replies; the third may take as long as last.
func (s *session) replies(last time.Duration) (all replies, err error) {
	for _, patience := range []time.Duration{s.patience, s.patience, last} {
		r, err := s.reply(patience)
		if err != nil {
			return all, err
		}
		all = append(all, r)
	}
	return all, nil
}

// refusal returns the first refusal of MAIL or RCPT: that is certain, whatever came after it.
func (all replies) refusal() (at step, r reply, refused bool) {
	for i, at := range []step{stepMail, stepRcpt} {
		if i < len(all) && !all[i].agrees() {
			return at, all[i], true
		}
	}
	return "", reply{}, false
}

// body sends the letter after a 354, with its dot.
func (s *session) body(ctx context.Context, l *letter) provider.Result {
	w := textproto.NewWriter(s.w).DotWriter()
	if _, err := l.Message.WriteTo(w); err != nil {
		return s.lost(stepBody, err) // no dot has been sent: the server cannot have the letter
	}
	if ready, _ := s.ready(); !ready { // it broke off, and may say why
		r, err := s.reply(s.patience)
		switch {
		case err != nil:
			return s.lost(stepBody, err)
		case r.code < 400:
			return s.lost(stepBody, errEarly)
		}
		return s.refused(stepBody, r, true)
	}
	if err := l.Final(ctx); err != nil {
		s.usable = false
		return provider.NotSent(err)
	}
	if err := w.Close(); err != nil { // a part of the write that holds the dot has not left
		return s.lost(stepBody, err)
	}
	r, err := s.reply(s.of.cfg.Final)
	if err != nil {
		return s.lost(stepFinal, err)
	}
	return s.final(r)
}

// final returns what the reply to a complete letter means.
func (s *session) final(r reply) provider.Result {
	switch {
	case r.agrees():
		return provider.Result{Class: retry.Accepted, Code: r.code, Enhanced: r.enhanced(), Reply: s.of.words(r)}
	case r.code >= 400:
		return s.refused(stepFinal, r, false)
	}
	return s.lost(stepFinal, fmt.Errorf("the server answered as to another command: %s", s.of.words(r)))
}

// maxChunk bounds a letter that is sent as one chunk, in bytes.
const maxChunk = 64 << 10

// fresh is how long after a reply a connection counts as alive enough to be trusted with a whole letter.
const fresh = time.Second

// chunked begins the attempt, and writes MAIL, RCPT and the letter at once, in one round trip. It does so only on a
// connection that has just replied and has nothing to say: without any reply nobody knows whether the letter arrived.
func (s *session) chunked(ctx context.Context, l *letter) provider.Result {
	var text bytes.Buffer
	if _, err := l.Message.WriteTo(&text); err != nil {
		return provider.Result{Class: retry.Transient, Reply: string(stepBody) + ": " + err.Error()}
	}
	if err := l.begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	ready, certain := s.ready()
	switch {
	case !ready:
		return s.ended()
	case !certain || time.Since(s.heard) > fresh:
		return s.pipelined(ctx, l)
	}
	if err := l.Final(ctx); err != nil {
		return provider.NotSent(err) // nothing was said: the connection is as it was
	}
	head := fmt.Sprintf("%s\r\n%s\r\nBDAT %d LAST\r\n", s.mail(l, int64(text.Len())), rcpt(l), text.Len())
	if _, err := (writes{s.wire}).Write(append([]byte(head), text.Bytes()...)); err != nil {
		return s.lost(stepBody, err) // the end of the chunk has not left
	}
	replies, err := s.replies(s.of.cfg.Final)
	if at, r, refused := replies.refusal(); refused {
		return s.refused(at, r, err != nil)
	}
	if err != nil { // the whole letter was on its way, and no reply to it came
		return s.lost(stepFinal, err)
	}
	if r := replies[2]; r.code == 500 || r.code == 502 || r.code == 504 { // it reads the letter as commands
		s.usable = false
		s.distrust("CHUNKING")
		return provider.Result{Class: retry.Transient, Code: r.code, Enhanced: r.enhanced(),
			Reply: "the server offers CHUNKING and refuses it; from now on letters go without: " + s.of.words(r)}
	}
	return s.final(replies[2])
}
