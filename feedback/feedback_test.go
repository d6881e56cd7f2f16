package feedback_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/smtp"
	"net/textproto"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
)

const mara = "mara@ternisle.example"

// bounce returns a notification that a letter with this return path came back.
func bounce(path, filling string) string {
	return strings.ReplaceAll(`From: postmaster@ternisle.example
To: `+path+`
Message-ID: <n1@ternisle.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status; boundary="rep"

--rep

`+filling+`
--rep
Content-Type: message/delivery-status

Reporting-MTA: dns; mx.ternisle.example

Final-Recipient: rfc822;mara@ternisle.example
Action: failed
Status: 5.1.1

--rep--
`, "\n", "\r\n")
}

// complaint returns an abuse report about a letter, which went to another address.
func complaint(path string) string {
	return strings.ReplaceAll(`From: abuse@ternisle.example
To: complaints@ternisle.example
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report; boundary="rep"

--rep

A report.
--rep
Content-Type: message/feedback-report

Feedback-Type: abuse
Version: 1

--rep
Content-Type: text/rfc822-headers

Return-Path: <`+path+`>
Subject: Confirm

--rep--
`, "\n", "\r\n")
}

type office struct {
	*illumicodetest.Kit
	post *feedback.Post
	path string // of mara's letter
}

func newOffice(t *testing.T) office {
	t.Helper()
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.ReturnPath = "bounces.ternisle.example" })
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: mara}, illumicode.Subject("7")); err != nil {
		t.Fatal(err)
	}
	return office{k, feedback.New(k.Service, []string{"complaints@ternisle.example"}, slog.New(slog.DiscardHandler)),
		k.Letter(mara, 1).EnvelopeFrom}
}

// delivery returns the id of mara's letter.
func (d office) delivery(t *testing.T) string {
	t.Helper()
	local, _, _ := strings.Cut(d.path, "@")
	id, ok := flow.Of(d.Service).Keys.ReadReturnPath(local, d.Service.Now())
	if !ok {
		t.Fatalf("%s is no return path", d.path)
	}
	return id
}

// wait waits until mara's suppressions are as wanted.
func (d office) wait(t *testing.T, want string) {
	t.Helper()
	got := ""
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		story, err := desk.New(d.Service).Story(t.Context(), mara)
		if err != nil {
			t.Fatal(err)
		}
		got = ""
		for _, s := range story.Suppressed {
			got += string(s.Scope) + " "
		}
		if got == want {
			return
		}
	}
	t.Fatalf("suppressed: %q, want %q", got, want)
}

func (d office) serve(t *testing.T, lmtp bool) (address string) {
	t.Helper()
	network, where := "tcp", "127.0.0.1:0"
	if lmtp {
		network, where = "unix", filepath.Join(t.TempDir(), "lmtp")
	}
	l, err := net.Listen(network, where)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- d.post.Serve(ctx, l, lmtp) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Errorf("Serve = %v", err)
		}
	})
	return l.Addr().String()
}

// Over SMTP only return paths of this service and addresses for complaints are taken. A bounce of 50 MB
// is one like another, and its repeat is no second one.
func TestSMTP(t *testing.T) {
	d := newOffice(t)
	address := d.serve(t, false)
	send := func(to, message string) error { return smtp.SendMail(address, nil, "", []string{to}, []byte(message)) }
	forged := "b" + d.path[1:]
	for _, to := range []string{mara, forged, "crew@ternisle.example", "complaints@bounces.ternisle.example"} {
		if err := send(to, bounce(d.path, "")); err == nil || !strings.HasPrefix(err.Error(), "550") {
			t.Errorf("a message to %s: %v, want a 550", to, err)
		}
	}
	// taken, lest it bounce, and about nothing
	if err := send("complaints@ternisle.example", complaint(forged)); err != nil {
		t.Error(err)
	}
	if err := send(d.path, "Subject: I am away\r\n\r\nuntil Monday\r\n"); err != nil {
		t.Error(err)
	}
	d.wait(t, "")
	long := bounce(d.path, strings.Repeat(strings.Repeat("x", 998)+"\n", 50_000))
	for range 2 {
		if err := send(strings.ToUpper(d.path), long); err != nil {
			t.Fatal(err)
		}
	}
	d.wait(t, "bounced ")
	if err := send("complaints@ternisle.example", complaint(d.path)); err != nil {
		t.Fatal(err)
	}
	d.wait(t, "bounced notices ")
	id := d.delivery(t)
	if all, err := flow.Of(d.Service).Store.FeedbackOn(t.Context(), id); err != nil || len(all) != 2 {
		t.Errorf("%d feedbacks on the letter, %v; want a bounce and a complaint", len(all), err)
	}
}

// Over LMTP each recipient has an answer of its own. While the database is away it is "not now", and
// the server that has the report comes again.
func TestLMTP(t *testing.T) {
	d := newOffice(t)
	conn, err := net.Dial("unix", d.serve(t, true))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(20 * time.Second))
	replies := textproto.NewReader(bufio.NewReader(conn))
	say := func(line string, want int) {
		t.Helper()
		if line != "" {
			fmt.Fprintf(conn, "%s\r\n", line)
		}
		if _, said, err := replies.ReadResponse(want); err != nil {
			t.Fatalf("%.40q is answered %q, %v; want %d", line, said, err, want)
		}
	}
	transaction := func(want int) {
		t.Helper()
		say("MAIL FROM:<>", 250)
		say("RCPT TO:<"+d.path+">", 250)
		say("RCPT TO:<mara@ternisle.example>", 550)
		say("DATA", 354)
		say(strings.TrimSuffix(bounce(d.path, "words"), "\r\n")+"\r\n.", want)
	}
	say("", 220)
	say("LHLO mx.ternisle.example", 250)
	st := d.Service.Store()
	if _, err := st.DB().Exec("ALTER TABLE illumicode_feedback RENAME TO elsewhere"); err != nil {
		t.Fatal(err)
	}
	transaction(451)
	if _, err := st.DB().Exec("ALTER TABLE elsewhere RENAME TO illumicode_feedback"); err != nil {
		t.Fatal(err)
	}
	transaction(250)
	d.wait(t, "bounced ")
}

// From a file or a pipe the address may be in the header alone. What ends too early is shown, and
// nothing follows from it.
func TestTake(t *testing.T) {
	d := newOffice(t)
	whole := bounce(d.path, "words")
	for _, tt := range []struct {
		name, message string
		to            []string
		want          error
	}{
		{"cut in its status", whole[:strings.Index(whole, "Status:")+9], nil, nil},
		{"cut, about nobody's letter", strings.ReplaceAll(whole[:strings.Index(whole, "Status:")+9], d.path,
			"gone@elsewhere.example"), nil, feedback.ErrUnread},
		{"no report", "To: " + d.path + "\r\n\r\nhello\r\n", nil, feedback.ErrUnread},
		{"about nobody's letter", bounce("gone@elsewhere.example", ""), []string{mara}, feedback.ErrForeignPath},
		{"delivered with its address beside it", strings.Replace(whole, "To: ", "X-To: ", 1), []string{d.path}, nil},
	} {
		if _, err := d.post.Take(t.Context(), tt.to, strings.NewReader(tt.message)); !errors.Is(err, tt.want) ||
			err != nil && tt.want == nil {
			t.Errorf("%s: %v, want %v", tt.name, err, tt.want)
		}
	}
	if _, err := d.post.Take(t.Context(), nil, io.MultiReader(strings.NewReader(whole[:200]), broken{})); !errors.Is(
		err, io.ErrClosedPipe) {
		t.Errorf("an input that fails: %v", err)
	}
	d.wait(t, "bounced ")
	id := d.delivery(t)
	all, err := flow.Of(d.Service).Store.FeedbackOn(t.Context(), id)
	if err != nil || len(all) != 2 || !slices.ContainsFunc(all, func(f store.Feedback) bool {
		return strings.Contains(f.Words, "ends too early") && f.State != store.FeedbackAside
	}) {
		t.Errorf("on the letter: %+v, %v", all, err)
	}
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }
