package smtp

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/standin"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A pipe reads what a test says a server sent.
type pipe struct {
	net.Conn
	r io.Reader
}

func (p pipe) Read(b []byte) (int, error)     { return p.r.Read(b) }
func (pipe) SetReadDeadline(time.Time) error  { return nil }
func (pipe) SetWriteDeadline(time.Time) error { return nil }

func TestReadReply(t *testing.T) {
	long := strings.Repeat("x", 10_000)
	for _, tt := range []struct {
		sent, want, err string
	}{
		{"250 ok\r\n", "250 ok", ""},
		{"250\r\n", "250 ", ""},
		{"250 \r\n", "250 ", ""},
		{"250 ok\n", "250 ok", ""}, // a bare line feed
		{"250-one\r\n250-two\r\n250 three\r\n", "250 one two three", ""},
		{"550-5.1.1 no\r\nsuch person\r\n550 5.1.1 here\r\n", "550 5.1.1 no such person 5.1.1 here", ""},
		{"250 " + long + "\r\n", "250 " + long, ""}, // longer than RFC 5321 §4.5.3.1.5 allows
		{"250 a\x00b\r\n", "250 a\x00b", ""},
		{"what?\r\n", "", "no code"},
		{"\r\n", "", "no code"},
		{"25 ok\r\n", "", "no code"},
		{"2500 ok\r\n", "", "no code"},
		{"950 ok\r\n", "", "no code"},
		{"250-ok\r\n550 no\r\n", "", "two codes"},
		{"250-ok\r\n", "", "EOF"},
		{"250 ok", "", "EOF"},
		{"250 " + strings.Repeat("x", 1<<20), "", "64 KiB"},
		{strings.Repeat("250-x\r\n", 1<<17), "", "64 KiB"},
	} {
		for how, r := range map[string]io.Reader{"whole": strings.NewReader(tt.sent),
			"byte by byte": iotest.OneByteReader(strings.NewReader(tt.sent)),
			"in halves":    iotest.HalfReader(strings.NewReader(tt.sent))} {
			got, err := newWire(pipe{r: r}, time.Second, nil).reply(time.Second)
			if err != nil {
				if tt.err == "" || !strings.Contains(err.Error(), tt.err) {
					t.Errorf("%.40q %s: %v, want %q", tt.sent, how, err, tt.err)
				}
			} else if text := (refusal{got}).Error(); tt.err != "" || text != tt.want {
				t.Errorf("%.40q %s: %.60q, want %.60q and an error with %q", tt.sent, how, text, tt.want, tt.err)
			}
		}
	}
}

func listen(t *testing.T) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// script runs a server whose every connection is played by play, after a greeting and an EHLO that offers extensions.
func script(t *testing.T, extensions []string, play func(conn net.Conn, r *bufio.Reader)) *Provider {
	t.Helper()
	l := listen(t)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				r := bufio.NewReader(conn)
				io.WriteString(conn, "220 pier.example\r\n")
				r.ReadString('\n')
				for _, e := range append([]string{"pier.example"}, extensions...) {
					io.WriteString(conn, "250-"+e+"\r\n")
				}
				io.WriteString(conn, "250 HELP\r\n")
				play(conn, r)
			}()
		}
	}()
	p, err := New("harbour", Config{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, TLS: NoTLS,
		Command: 10 * time.Second, Final: 10 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

// hurried returns a provider whose patience soon ends, where a test waits for that.
func hurried(p *Provider) *Provider {
	p.cfg.Command, p.cfg.Final = time.Second, time.Second
	return p
}

// answers plays a server that says one line after each line of a dialogue, and what comes last after that for ever.
func answers(lines ...string) func(net.Conn, *bufio.Reader) {
	return func(conn net.Conn, r *bufio.Reader) {
		for _, line := range lines {
			if _, err := r.ReadString('\n'); err != nil {
				return
			}
			fmt.Fprint(conn, line+"\r\n")
			if strings.HasPrefix(line, "354") {
				for line := ""; line != ".\r\n" && line != ".\n"; {
					var err error
					if line, err = r.ReadString('\n'); err != nil {
						return
					}
				}
			}
		}
		io.Copy(io.Discard, r)
	}
}

// A server that never stops talking, or says a byte now and then, is left soon and costs no memory. Before the dot that
// is a certain loss.
func TestFloodIsLeft(t *testing.T) {
	flood := func(conn net.Conn) {
		line := []byte("250-" + strings.Repeat("x", 60_000) + "\r\n")
		for sent := 0; sent < 3<<30; sent += len(line) {
			if _, err := conn.Write(line); err != nil {
				return
			}
		}
	}
	drip := func(conn net.Conn) {
		for range 1000 {
			if _, err := io.WriteString(conn, "2"); err != nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	for how, talk := range map[string]func(net.Conn){"64 KiB": flood, "in time": drip} {
		for _, tt := range []struct {
			after string
			class retry.Class
		}{{"MAIL", retry.Transient}, {"the dot", retry.Ambiguous}} {
			p := hurried(script(t, nil, func(conn net.Conn, r *bufio.Reader) {
				lines := []string{"250 ok", "250 ok", "354 go on"}
				for line := ""; ; {
					line, _ = r.ReadString('\n')
					if line == "" || strings.HasPrefix(line, tt.after) || tt.after == "the dot" && line == ".\r\n" {
						break
					}
					if len(lines) > 0 {
						fmt.Fprint(conn, lines[0]+"\r\n")
						lines = lines[1:]
					}
				}
				talk(conn)
			}))
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			h, _ := handover()
			r := p.Send(t.Context(), h)
			runtime.ReadMemStats(&after)
			if r.Class != tt.class || !strings.Contains(r.Reply, how) {
				t.Errorf("%s after %s: %+v, want %s", how, tt.after, r, tt.class)
			}
			if grown := after.TotalAlloc - before.TotalAlloc; grown > 8<<20 {
				t.Errorf("%s after %s: %d MiB were used", how, tt.after, grown>>20)
			}
		}
	}
}

// What a server says that is not an answer to what it was asked.
func TestOddReplies(t *testing.T) {
	for _, tt := range []struct {
		name  string
		lines []string
		class retry.Class
		words string
	}{
		{"a greeting to MAIL", []string{"220 hello"}, retry.Transient, "another command"},
		{"go on, to RCPT", []string{"250 ok", "354 go on"}, retry.Transient, "another command"},
		{"taken, to DATA", []string{"250 ok", "250 ok", "250 ok"}, retry.Transient, "another command"},
		{"a greeting after the dot", []string{"250 ok", "250 ok", "354 go on", "220 hello"}, retry.Ambiguous, ""},
		{"a farewell after the dot", []string{"250 ok", "250 ok", "354 go on", "221 bye"}, retry.Ambiguous, ""},
		{"no code at MAIL", []string{"hello"}, retry.Transient, "no code"},
		{"a NUL", []string{"450 4.2.1 a\x00b"}, retry.Transient, "450 4.2.1 a"},
		{"an enhanced code of another kind", []string{"450 5.1.1 no"}, retry.Transient, "450 5.1.1 no"},
		{"a reply of 9 KB", []string{"550 " + strings.Repeat("no ", 3000)}, retry.Misconfigured, "…"},
	} {
		r := script(t, nil, answers(tt.lines...)).Send(t.Context(), first(handover()))
		if r.Class != tt.class || !strings.Contains(r.Reply, tt.words) || len(r.Reply) > 3<<10 {
			t.Errorf("%s: %.200v, want %s and %q", tt.name, r, tt.class, tt.words)
		}
	}
}

func first[A, B any](a A, _ B) A { return a }

// A reply that comes before its letter belongs to none: the connection is not used.
func TestReplyBeforeItsLetter(t *testing.T) {
	for _, extensions := range [][]string{nil, {"PIPELINING"}, {"PIPELINING", "CHUNKING"}} {
		sessions := make(chan int, 9)
		p := script(t, extensions, func(conn net.Conn, r *bufio.Reader) {
			sessions <- 1
			take(conn, r)
			io.WriteString(conn, "250 2.0.0 one more than was asked for\r\n")
			take(conn, r)
		})
		for i := range 2 {
			if r := p.Send(t.Context(), first(handover())); r.Class != retry.Accepted {
				t.Errorf("%q, letter %d: %+v", extensions, i+1, r)
			}
			time.Sleep(20 * time.Millisecond) // the reply that nobody asked for arrives
		}
		if len(sessions) != 2 {
			t.Errorf("%q: %d connections, want 2: the first was out of step", extensions, len(sessions))
		}
	}
}

// take takes one letter, by DATA or as a chunk, and reports whether there was one.
func take(conn net.Conn, r *bufio.Reader) bool {
	for {
		line, err := r.ReadString('\n')
		var size int
		if n, _ := fmt.Sscanf(line, "BDAT %d LAST", &size); n == 1 {
			if _, err := io.CopyN(io.Discard, r, int64(size)); err == nil {
				io.WriteString(conn, "250 taken\r\n")
				return true
			}
			return false
		}
		switch {
		case err != nil:
			return false
		case line == "DATA\r\n":
			io.WriteString(conn, "354 go on\r\n")
			for line != ".\r\n" {
				if line, err = r.ReadString('\n'); err != nil {
					return false
				}
			}
			_, err = io.WriteString(conn, "250 taken\r\n")
			return err == nil
		}
		io.WriteString(conn, "250 ok\r\n")
	}
}

// What stands behind the reply to STARTTLS came in the clear: it must not count as said under TLS (RFC 3207 §6).
func TestWordsBehindStartTLS(t *testing.T) {
	s := newServer(t, StartTLS, "localhost",
		map[string]string{"STARTTLS": "220 go on\r\n250-pier.example\r\n250 AUTH PLAIN"})
	r := s.provider(nil).Send(t.Context(), first(handover()))
	if r.Class != retry.Transient || !strings.Contains(r.Reply, "STARTTLS") {
		t.Errorf("%+v", r)
	}
}

// A refusal that repeats what AUTH was sent is kept without it.
func TestRefusalRepeatsPassword(t *testing.T) {
	for _, said := range []string{"sea gull", "AGNyZXcAc2VhIGd1bGw=", "c2VhIGd1bGw="} {
		s := newServer(t, StartTLS, "localhost", map[string]string{"AUTH": "535 5.7.8 no: " + said + ", really"})
		p := s.provider(func(c *Config) { c.User, c.Password = "crew", "sea gull" })
		r := p.Send(t.Context(), first(handover()))
		if r.Class != retry.Misconfigured || strings.Contains(r.Reply, said) ||
			!strings.Contains(r.Reply, "•••, really") {
			t.Errorf("%q: %+v", said, r)
		}
	}
}

// A server that stops reading in the middle of a letter holds nobody, and has no letter.
func TestServerStopsReading(t *testing.T) {
	p := hurried(script(t, []string{"PIPELINING"}, func(conn net.Conn, r *bufio.Reader) {
		for range 3 {
			r.ReadString('\n')
		}
		io.WriteString(conn, "250 ok\r\n250 ok\r\n354 go on\r\n")
		<-t.Context().Done()
	}))
	h, _ := handover()
	h.Message = compose.Bytes("Subject: x\r\n\r\n" + strings.Repeat("x\r\n", 32<<20/3))
	if r := p.Send(t.Context(), h); r.Class != retry.Transient || !strings.Contains(r.Reply, "in time") {
		t.Errorf("%+v", r)
	}
}

// An address with a line break would be a command of its own.
func TestAddressWithALine(t *testing.T) {
	for _, address := range []string{"mara@ternisle.example>\r\nRCPT TO:<eve@gale.example", "a\nb@x.example",
		"a\x00@x.example"} {
		s := newServer(t, StartTLS, "localhost", nil)
		h, began := handover()
		h.Envelope.To = address
		if r := s.provider(nil).Send(t.Context(), h); r.Class != retry.MessageRefused || *began != 0 ||
			strings.Contains(s.heard(), "MAIL") {
			t.Errorf("%q: %+v; %s", address, r, s.heard())
		}
	}
}

// A letter goes in one round trip where that is safe, and else step by step.
func TestChunks(t *testing.T) {
	offer := []string{"PIPELINING", "CHUNKING"}
	large := compose.Bytes("Subject: x\r\n\r\n" + strings.Repeat("a line of the letter\r\n", 5000))
	for _, tt := range []struct {
		name   string
		change func(*provider.Handover)
		chunk  bool
	}{
		{"a letter", func(*provider.Handover) {}, true},
		{"one that goes out once at most", func(h *provider.Handover) { h.Once = true }, false},
		{"a large one", func(h *provider.Handover) { h.Message = large }, false},
		{"a connection that has been silent", func(h *provider.Handover) {
			begin := h.Begin
			h.Begin = func(ctx context.Context) error { time.Sleep(fresh + 50*time.Millisecond); return begin(ctx) }
		}, false},
	} {
		s := newServer(t, StartTLS, "localhost", offering(nil, offer...))
		h, _ := handover()
		tt.change(&h)
		r := s.provider(nil).Send(t.Context(), h)
		said := s.heard()
		if r.Class != retry.Accepted || strings.Contains(said, "BDAT ") != tt.chunk ||
			strings.Contains(said, "DATA") == tt.chunk || s.letters != 1 {
			t.Errorf("%s: %+v, %d letters arrived:\n%s", tt.name, r, s.letters, said)
		}
	}
}

// A refused recipient is refused, whatever the server says to the letter behind it; and no dot is sent to one that
// waits for it all the same.
func TestLetterOfARefusedRecipient(t *testing.T) {
	dots := make(chan string, 9)
	for _, tt := range []struct{ offers, last string }{{"PIPELINING", "354 go on"}, {"CHUNKING PIPELINING", "250 ok"},
		{"CHUNKING PIPELINING", ""}} {
		p := script(t, strings.Fields(tt.offers), func(conn net.Conn, r *bufio.Reader) {
			r.ReadString('\n')
			r.ReadString('\n')
			io.WriteString(conn, "250 ok\r\n550 5.1.1 nobody\r\n"+tt.last+"\r\n")
			if rest, _ := io.ReadAll(r); strings.HasSuffix(string(rest), "\r\n.\r\n") {
				dots <- tt.offers
			}
		})
		if r := p.Send(t.Context(), first(handover())); r.Class != retry.RecipientRefused || r.Code != 550 {
			t.Errorf("%q: %+v", tt.offers, r)
		}
	}
	if len(dots) > 0 {
		t.Errorf("%q: a dot was sent", <-dots)
	}
}

// A server that offers what it cannot do is served without, from the next attempt on.
func TestOffersThatAreNone(t *testing.T) {
	for name, tt := range map[string]struct {
		offers string
		first  retry.Class
		play   func(conn net.Conn, r *bufio.Reader)
	}{
		"it drops what came too early": {"PIPELINING", retry.Transient, func(conn net.Conn, r *bufio.Reader) {
			for {
				if _, err := r.Peek(1); err != nil {
					return
				}
				time.Sleep(20 * time.Millisecond)
				command, _ := r.ReadString('\n')
				r.Discard(r.Buffered())
				if command == "DATA\r\n" {
					io.WriteString(conn, "354 go on\r\n")
					for line := ""; line != ".\r\n"; line, _ = r.ReadString('\n') {
					}
				}
				io.WriteString(conn, "250 ok\r\n")
			}
		}},
		"it says that it cannot": {"PIPELINING", retry.Transient, func(conn net.Conn, r *bufio.Reader) {
			r.Peek(1)
			time.Sleep(20 * time.Millisecond)
			if line, _ := r.ReadString('\n'); r.Buffered() > 0 {
				io.WriteString(conn, "554 5.5.0 SMTP synchronization error\r\n")
				return
			} else if line != "" {
				io.WriteString(conn, "250 ok\r\n")
			}
			take(conn, r)
		}},
		"chunking": {"PIPELINING CHUNKING", retry.Transient, func(conn net.Conn, r *bufio.Reader) {
			for {
				line, err := r.ReadString('\n')
				switch {
				case err != nil:
					return
				case strings.HasPrefix(line, "BDAT"):
					io.WriteString(conn, "502 5.5.1 what?\r\n")
				case line == "DATA\r\n":
					io.WriteString(conn, "354 go on\r\n")
					for line != ".\r\n" {
						line, _ = r.ReadString('\n')
					}
					fallthrough
				default:
					io.WriteString(conn, "250 ok\r\n")
				}
			}
		}},
		"size": {"SIZE", retry.Transient, func(conn net.Conn, r *bufio.Reader) {
			line, _ := r.ReadString('\n')
			if strings.Contains(line, "SIZE=") {
				io.WriteString(conn, "555 5.5.4 unsupported option\r\n")
				return
			}
			io.WriteString(conn, "250 ok\r\n")
			take(conn, r)
		}},
	} {
		p := hurried(script(t, strings.Fields(tt.offers), tt.play))
		if r := p.Send(t.Context(), first(handover())); r.Class != tt.first {
			t.Errorf("%s: first %+v", name, r)
		}
		if r := p.Send(t.Context(), first(handover())); r.Class != retry.Accepted {
			t.Errorf("%s: then %+v", name, r)
		}
	}
}

// A kept connection that the server has closed takes no chunk: nobody would know what became of the letter.
func TestChunkOfAClosedConnection(t *testing.T) {
	p := script(t, []string{"PIPELINING", "CHUNKING"}, func(conn net.Conn, r *bufio.Reader) { take(conn, r) })
	for i := range 20 {
		h, began := handover()
		if r := p.Send(t.Context(), h); r.Class != retry.Accepted || *began != 1 {
			t.Fatalf("letter %d: %+v, began %d times", i, r, *began)
		}
		time.Sleep(5 * time.Millisecond) // the end arrives
	}
}

// TLS that breaks in the middle is a loss like any other.
func TestTLSAlert(t *testing.T) {
	s := newServer(t, StartTLS, "localhost", map[string]string{".": "break TLS"})
	if r := s.provider(nil).Send(t.Context(), first(handover())); r.Class != retry.Ambiguous {
		t.Errorf("after the dot: %+v", r)
	}
	s = newServer(t, StartTLS, "localhost", map[string]string{"RCPT": "break TLS"})
	if r := s.provider(nil).Send(t.Context(), first(handover())); r.Class != retry.Transient {
		t.Errorf("at RCPT: %+v", r)
	}
}

// The relay that development and tests send to, and the capture inbox, offer what real servers do.
func TestStandInsOfferBoth(t *testing.T) {
	l := listen(t)
	go standin.New(1, standin.Temper{}).ServeSMTP(t.Context(), l)
	in, err := inbox.New(inbox.Config{})
	if err != nil {
		t.Fatal(err)
	}
	mail, web := listen(t), listen(t)
	go in.Serve(t.Context(), mail, web)
	for name, addr := range map[string]string{"stand-in": l.Addr().String(), "inbox": mail.Addr().String()} {
		conn, err := net.Dial("tcp", addr)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		s := &session{wire: newWire(conn, 5*time.Second, nil), tcp: conn,
			of: &Provider{cfg: Config{Hello: "ferry.example"}}}
		if _, err := s.reply(s.patience); err != nil {
			t.Fatal(err)
		}
		if err := s.hello(); err != nil || !s.offered("PIPELINING") || !s.offered("CHUNKING") {
			t.Errorf("the %s offers %v, %v", name, s.offers, err)
		}
	}
}
