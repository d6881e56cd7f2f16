package report

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"golang.org/x/text/encoding/htmlindex"
)

// dsn returns a notification in the form of RFC 3464 appendix E, with a status part of its own.
func dsn(status string) string {
	return strings.ReplaceAll(`From: "Mail Delivery" <postmaster@islanders.example>
To: abc@bounces.ternisle.example
Message-ID: <n1@islanders.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status;
	boundary="rep"

--rep

Your letter to ole@islanders.example came back.

--rep
Content-Type: message/delivery-status

`+status+`
--rep
Content-Type: message/rfc822

Return-Path: <abc@bounces.ternisle.example>
From: Tern Isle <ferry@ternisle.example>
Content-Type: multipart/report; boundary=inner

--inner
Content-Type: message/delivery-status

Final-Recipient: rfc822;other@islanders.example
Action: delivered
Status: 2.0.0

--inner--

--rep--
`, "\n", "\r\n")
}

const failed = "Reporting-MTA: dns; mx.islanders.example\nArrival-Date: Mon, 23 Nov 2026 10:00:00 +0100 (CET)\n\n" +
	"Final-Recipient: rfc822;ole@islanders.example\nAction: failed\nStatus: 5.1.1 (no such user)\nDiagnostic-Code: " +
	"smtp; 550 5.1.1 nobody of that name\n"

func TestReadStatus(t *testing.T) {
	block := func(action, status, said string) string {
		return "Reporting-MTA: dns; mx\n\nFinal-Recipient: rfc822;ole@islanders.example\nAction: " + action +
			"\nStatus: " + status + "\nDiagnostic-Code: " + said + "\n"
	}
	second := func(action, status string) string {
		return "\nFinal-Recipient: rfc822;b@islanders.example\nAction: " + action + "\nStatus: " + status + "\n"
	}
	for _, tt := range []struct {
		name, status string
		want         Kind
		code, text   string
	}{
		{"a mailbox that is not there", failed, HardBounce, "5.1.1", "550 5.1.1 nobody of that name"},
		{"a full mailbox", block("failed", "5.2.2", "smtp; 552 5.2.2 full"), SoftBounce, "5.2.2", "552 5.2.2 full"},
		{"a policy", block("failed", "5.7.1", "smtp; 550 5.7.1 no"), SoftBounce, "5.7.1", "550 5.7.1 no"},
		{"given up after days", block("failed", "4.4.1", "smtp; 451 no answer"), SoftBounce, "4.4.1", "451 no answer"},
		{"the diagnostic is more exact", block("failed", "5.0.0", "smtp; 550-5.1.1 unknown"), HardBounce, "5.1.1",
			"550-5.1.1 unknown"},
		{"a bare reply code", block("failed", "5.0.0", "smtp; 550 no such user"), HardBounce, "5.0.0",
			"550 no such user"},
		{"the sender's own fault", block("failed", "5.1.8", "smtp; 501 bad sender"), SoftBounce, "5.1.8",
			"501 bad sender"},
		{"late", block("delayed", "4.4.7", "smtp; 421 later"), Delayed, "4.4.7", "421 later"},
		{"there", block("delivered", "2.1.5", "smtp; 250 ok"), Delivered, "2.1.5", "250 ok"},
		{"relayed to one that says nothing", block("relayed", "2.1.9", "smtp; 250 ok"), Other, "2.1.9", "250 ok"},
		{"one of two got it", failed + second("delivered", "2.0.0"), Delivered, "2.0.0", ""},
		{"neither of two, one perhaps later", failed + second("failed", "4.2.2"), SoftBounce, "4.2.2", ""},
		{"a folded field, and one that is none", strings.Replace(failed, "smtp; 550", "smtp;\n  550", 1) +
			"no field at all\n", HardBounce, "5.1.1", "550 5.1.1 nobody of that name"},
		{"control characters", block("failed", "5.1.1", "smtp; 550 \x1b[31mred\x07"), HardBounce, "5.1.1",
			"550 [31mred"},
	} {
		whole := dsn(tt.status)
		for _, r := range []io.Reader{strings.NewReader(whole), iotest.OneByteReader(strings.NewReader(whole)),
			strings.NewReader(strings.ReplaceAll(whole, "\r\n", "\n")),
			strings.NewReader("From mx Mon Nov 23\n" + whole)} {
			got, err := Read(r)
			if err != nil || got.Kind != tt.want || got.Status != tt.code || tt.text != "" && got.Text != tt.text {
				t.Errorf("%s: Read = %q %q %q, %v; want %q %q %q", tt.name, got.Kind, got.Status, got.Text, err,
					tt.want, tt.code, tt.text)
				continue
			}
			if len(got.Paths) < 2 || got.Paths[0] != "abc@bounces.ternisle.example" ||
				got.ID != "n1@islanders.example" {
				t.Errorf("%s: paths %q, id %q", tt.name, got.Paths, got.ID)
			}
		}
	}
	got, err := Read(strings.NewReader(dsn(failed)))
	if want := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC); err != nil || !got.At.Equal(want) {
		t.Errorf("At = %v, %v; want %v", got.At, err, want)
	}
}

// Wherever a report is cut, what is read of it is what it says, or an error: never something else.
func TestReadTruncated(t *testing.T) {
	whole := dsn(strings.Replace(failed, "5.1.1 (no such user)", "5.1.10", 1))
	told := 0
	for n := range len(whole) {
		got, err := Read(strings.NewReader(whole[:n]))
		if err == nil {
			told++
			if got.Kind != HardBounce || got.Status != "5.1.10" {
				t.Fatalf("cut after %d bytes: %+v", n, got)
			}
		} else if !errors.Is(err, ErrTruncated) && !errors.Is(err, ErrNotReport) {
			t.Fatalf("cut after %d bytes: %v", n, err)
		}
	}
	if told == 0 {
		t.Error("no cut report was read, though what it says stands before the letter that came back")
	}
}

// A report that is inside another message is not about our letter.
func TestReadNested(t *testing.T) {
	wrap := func(inner, kind string) string {
		return "MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=out\r\n\r\n--out\r\nContent-Type: " +
			"text/plain\r\n\r\nsee below\r\n--out\r\nContent-Type: " + kind + "\r\n\r\n" + inner + "\r\n--out--\r\n"
	}
	_, inner, _ := strings.Cut(dsn(failed), "MIME-Version: 1.0\r\nContent-Type: ")
	kind, body, _ := strings.Cut(inner, "\r\n\r\n")
	if got, err := Read(strings.NewReader(wrap(body, kind))); err != nil || got.Kind != HardBounce {
		t.Errorf("in a multipart/mixed: %q, %v", got.Kind, err)
	}
	if _, err := Read(strings.NewReader(wrap(dsn(failed), "message/rfc822"))); !errors.Is(err, ErrNotReport) {
		t.Errorf("a forwarded report: %v, want ErrNotReport", err)
	}
	deep := dsn(failed)
	for range 50 {
		deep = wrap(deep, "multipart/mixed; boundary=out")
	}
	for _, other := range []string{"", "\r\n", "To: a@b.example\r\n\r\nI am away until Monday.\r\n", deep} {
		if _, err := Read(strings.NewReader(other)); !errors.Is(err, ErrNotReport) {
			t.Errorf("Read(%.30q) = %v, want ErrNotReport", other, err)
		}
	}
}

func TestReadCharsets(t *testing.T) {
	for charset, said := range map[string]string{
		"utf-8": "brukeren finnes ikke på øya", "iso-8859-1": "bruker på øya", "iso-8859-15": "kostet 5 € for øya",
		"windows-1251": "нет такого адреса",
		"koi8-r":       "нет такого адреса", "shift_jis": "宛先がありません", "iso-2022-jp": "宛先がありません", "gb18030": "没有这个地址",
	} {
		enc, err := htmlindex.Get(charset)
		if err != nil {
			t.Fatal(err)
		}
		raw, err := enc.NewEncoder().String(said)
		if err != nil {
			t.Fatal(err)
		}
		whole := strings.Replace(dsn(strings.Replace(failed, "nobody of that name", raw, 1)), "message/delivery-status",
			"message/delivery-status; charset="+charset, 1)
		if got, err := Read(strings.NewReader(whole)); err != nil || got.Text != "550 5.1.1 "+said {
			t.Errorf("%s: %q, %v; want %q", charset, got.Text, err, said)
		}
	}
	encoded := strings.Replace(dsn(failed), "nobody of that name", "=?iso-8859-1?q?p=E5_=F8ya?=", 1)
	if got, err := Read(strings.NewReader(encoded)); err != nil || got.Text != "550 5.1.1 på øya" {
		t.Errorf("an encoded word: %q, %v", got.Text, err)
	}
	quoted := strings.Replace(dsn(strings.Replace(failed, "Status: 5", "Status: =35", 1)), "message/delivery-status",
		"message/delivery-status\r\nContent-Transfer-Encoding: quoted-printable", 1)
	if got, err := Read(strings.NewReader(quoted)); err != nil || got.Status != "5.1.1" {
		t.Errorf("quoted-printable: %q, %v", got.Status, err)
	}
}

// Of 50 MB little is kept, wherever they stand.
func TestReadLong(t *testing.T) {
	const long = 50 << 20
	for name, whole := range map[string]string{
		"the words":    strings.Replace(dsn(failed), "came back.", strings.Repeat("x", long), 1),
		"the header":   "X-Long: " + strings.Repeat("x", long) + "\r\n" + dsn(failed),
		"a field":      dsn(failed + "X-Long: " + strings.Repeat("y ", long/2) + "\n"),
		"the returned": strings.Replace(dsn(failed), "From: Tern", "X: "+strings.Repeat("z", long)+"\r\nFrom: Tern", 1),
	} {
		allocated := testing.AllocsPerRun(1, func() {
			if got, err := Read(strings.NewReader(whole)); err != nil || got.Kind != HardBounce {
				t.Errorf("50 MB in %s: %q, %v", name, got.Kind, err)
			}
		})
		if allocated > 30_000 {
			t.Errorf("50 MB in %s: %v allocations", name, allocated)
		}
	}
}

func TestReadComplaint(t *testing.T) {
	arf := func(kind string) string { // RFC 5965 appendix B.2
		return strings.ReplaceAll(`From: <abuse@islanders.example>
To: <complaints@ternisle.example>
Message-ID: <c1@islanders.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=feedback-report; boundary="p"

--p
Content-Type: text/plain; charset="US-ASCII"

This is a report.
--p
Content-Type: message/feedback-report

Feedback-Type: `+kind+`
User-Agent: Islanders/1
Version: 1
Original-Mail-From: <abc@bounces.ternisle.example>
Arrival-Date: Tue, 24 Nov 2026 09:00:00 +0000

--p
Content-Type: text/rfc822-headers

Return-Path: <def@bounces.ternisle.example>
Subject: Storm

--p--
`, "\n", "\r\n")
	}
	for kind, want := range map[string]Kind{"abuse": Complaint, "Fraud": Complaint, "not-spam": Other, "virus": Other,
		"auth-failure": Other} {
		got, err := Read(strings.NewReader(arf(kind)))
		if err != nil || got.Kind != want || got.Paths[0] != "abc@bounces.ternisle.example" ||
			got.Paths[1] != "def@bounces.ternisle.example" || got.At.Hour() != 9 {
			t.Errorf("%s: %+v, %v; want %q", kind, got, err, want)
		}
	}
}

func TestMapping(t *testing.T) {
	m := Mapping{Each: "/events", ID: "/n", Letter: "/letter/id", Kind: "/what", Status: "/status", Text: "/said",
		At:    "/at",
		Kinds: map[string]Kind{"arrived": Delivered, "returned": Bounce, "marked": Complaint}}
	if err := m.Check(); err != nil {
		t.Fatal(err)
	}
	got, err := m.Read([]byte(`{"events": [
		{"n": 9007199254740993, "letter": {"id": "h-1"}, "what": "returned", "status": "5.1.1",
			"said": "550 5.1.1 nobody", "at": 1795428000},
		{"n": "b", "letter": {"id": "h-2"}, "what": "returned", "said": "552 5.2.2 full", "at": "2026-11-23T10:00:00Z"},
		{"n": "c", "letter": {"id": "h-3"}, "what": "opened", "at": 1795428000123},
		{"n": "d", "letter": {"id": 77}, "what": "marked"}]}`))
	if err != nil || len(got) != 4 {
		t.Fatal(got, err)
	}
	for i, want := range []Event{
		{Report: Report{ID: "9007199254740993", Kind: HardBounce, Status: "5.1.1"}, Letter: "h-1"},
		{Report: Report{ID: "b", Kind: SoftBounce, Status: "5.2.2"}, Letter: "h-2"},
		{Report: Report{ID: "c", Kind: Other}, Letter: "h-3"}, {Report: Report{ID: "d", Kind: Complaint}, Letter: "77"},
	} {
		if g := got[i]; g.ID != want.ID || g.Kind != want.Kind || g.Status != want.Status || g.Letter != want.Letter {
			t.Errorf("event %d = %+v, want %+v", i+1, g, want)
		}
	}
	if at := got[2].At.Sub(got[0].At); at != 123*time.Millisecond {
		t.Errorf("milliseconds are read %v away", at)
	}
	for body, says := range map[string]string{
		`{`: "no JSON", `{"event": []}`: "nothing at /events",
		`{"events": [{"what": "arrived"}]}`:                   "event 1 of 1 has no id",
		`{"events": [{"letter": {"id": "x"}, "at": "soon"}]}`: "neither RFC 3339 nor Unix time",
	} {
		if _, err := m.Read([]byte(body)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("Read(%s) = %v, want an error that says %q", body, err, says)
		}
	}
	for _, bad := range []Mapping{{}, {Kind: "what"}, {Kind: "/k", Kinds: m.Kinds},
		{Kind: "/k", Letter: "/l", Kinds: map[string]Kind{"x": "lost"}}} {
		if bad.Check() == nil {
			t.Errorf("%+v passed", bad)
		}
	}
}

func TestSignature(t *testing.T) {
	now := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	s := Signature{Key: []byte("sixteen bytes or more"), Header: "X-Sign", Prefix: "sha256=", Timestamp: "X-Time"}
	sign := func(body string, at time.Time) (sum, stamp string) {
		stamp = strconv.FormatInt(at.Unix(), 10)
		h := hmac.New(sha256.New, s.Key)
		fmt.Fprintf(h, "%s.%s", stamp, body)
		return "sha256=" + hex.EncodeToString(h.Sum(nil)), stamp
	}
	good, stamp := sign("body", now)
	old, oldStamp := sign("body", now.Add(-Tolerance-time.Second))
	for _, tt := range []struct {
		name, body, sum, stamp string
		ok                     bool
	}{
		{"as signed", "body", good, stamp, true},
		{"another body", "Body", good, stamp, false},
		{"another time", "body", good, oldStamp, false},
		{"kept too long", "body", old, oldStamp, false},
		{"without prefix", "body", strings.TrimPrefix(good, "sha256="), stamp, false},
		{"missing", "body", "", stamp, false},
		{"only the prefix", "body", "sha256=", stamp, false},
		{"half of it", "body", good[:20], stamp, false},
		{"no time", "body", good, "", false},
	} {
		err := s.Verify([]byte(tt.body), func(name string) string {
			return map[string]string{"X-Sign": tt.sum, "X-Time": tt.stamp}[name]
		}, now)
		if (err == nil) != tt.ok || err != nil && !errors.Is(err, ErrSignature) {
			t.Errorf("%s: %v", tt.name, err)
		}
	}
}

// What is read of any input can be printed, is bounded, and does not depend on how the input arrives.
func FuzzRead(f *testing.F) {
	f.Add(dsn(failed))
	f.Add(dsn("\n\nAction: failed\nStatus: 5.2.2\n"))
	f.Add("Content-Type: multipart/report; boundary=a\n\n--a\nContent-Type: " +
		"message/feedback-report\n\nFeedback-Type: abuse\n\n--a--")
	f.Fuzz(func(t *testing.T, whole string) {
		got, err := Read(strings.NewReader(whole))
		again, againErr := Read(iotest.HalfReader(strings.NewReader(whole)))
		if fmt.Sprint(got, err) != fmt.Sprint(again, againErr) {
			t.Errorf("whole: %+v, %v\nin pieces: %+v, %v", got, err, again, againErr)
		}
		if err == nil && (!Known(got.Kind) || len([]rune(got.Text)) > 300 ||
			strings.ContainsAny(got.Text, "\r\n\x1b")) {
			t.Errorf("%+v", got)
		}
	})
}
