package inbox

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http/httptest"
	"net/smtp"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// running returns an inbox that takes mail, and the address where.
func running(t *testing.T, c Config) (*Inbox, string) {
	t.Helper()
	in, err := New(c)
	if err != nil {
		t.Fatal(err)
	}
	mail, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	pages, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go in.Serve(t.Context(), mail, pages)
	t.Cleanup(func() { in.Close() })
	return in, mail.Addr().String()
}

// heavy is a letter with an attachment of so many bytes.
func heavy(i, size int) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "From: crew@ternisle.example\r\nTo: mara@ternisle.example\r\nSubject: Manifest %d\r\n"+
		"MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=x\r\n\r\n--x\r\nContent-Type: text/plain\r\n\r\n"+
		"Letter %d\r\n--x\r\nContent-Type: application/octet-stream\r\n"+
		"Content-Disposition: attachment; filename=\"manifest.bin\"\r\n\r\n", i, i)
	for b.Len() < size {
		b.WriteString(strings.Repeat("m", 70) + "\r\n")
	}
	b.WriteString("--x--\r\n")
	return b.Bytes()
}

func deliver(t *testing.T, addr string, letter []byte) {
	t.Helper()
	c, err := smtp.Dial(addr)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	w, err := io.Writer(nil), errors.Join(c.Mail("crew@ternisle.example"), c.Rcpt("mara@ternisle.example"))
	if err == nil {
		w, err = c.Data()
	}
	if err == nil {
		_, err = w.Write(letter)
	}
	if err == nil {
		err = w.(io.Closer).Close()
	}
	if err != nil {
		t.Fatal(err)
	}
}

// What letters take is bounded in memory and on the disk: the oldest go, with their files. A large letter is whole, and
// in no memory.
func TestInboxIsBounded(t *testing.T) {
	dir := t.TempDir()
	in, addr := running(t, Config{Dir: dir, Memory: 1 << 20, Disk: 10 << 20})
	const letters, size = 5, 9 << 19
	for i := range letters {
		deliver(t, addr, heavy(i, size))
	}
	left := in.Letters("")
	if len(left) != 2 || left[1].Subject != "Manifest 4" {
		t.Fatalf("%d letters are left, want the last two", len(left))
	}
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil || len(files) != 2 {
		t.Errorf("files %v, %v", files, err)
	}
	for _, l := range left {
		from, err := l.Open()
		if err != nil {
			t.Fatal(err)
		}
		n, err := io.Copy(io.Discard, from)
		from.Close()
		if l.Raw != nil || err != nil || n != l.Size || n < size ||
			strings.TrimSpace(l.Text) != fmt.Sprintf("Letter %d", l.ID-1) {
			t.Errorf("letter %d: %d of %d bytes, %d in memory, text %q, %v", l.ID, n, l.Size, len(l.Raw), l.Text, err)
		}
		if len(l.Attachments) != 1 || l.Attachments[0].Name != "manifest.bin" || l.Attachments[0].Size < size-1000 {
			t.Errorf("attachments %+v", l.Attachments)
		}
	}
	again, err := New(Config{Dir: dir, Disk: 5 << 20})
	if err != nil || len(again.Letters("")) != 1 {
		t.Errorf("%d letters after a restart with less room, %v", len(again.Letters("")), err)
	}
	small, addr := running(t, Config{Memory: 100 << 10})
	for i := range 10 {
		deliver(t, addr, heavy(i, 30<<10))
	}
	if n := len(small.Letters("")); n != 3 {
		t.Errorf("%d letters of 30 KB in 100 KB", n)
	}
	deliver(t, addr, heavy(10, size)) // in a file of its own
	if l := small.Letters(""); l[len(l)-1].Raw != nil || l[len(l)-1].Size < size {
		t.Errorf("the large one: %d bytes in memory of %d", len(l[len(l)-1].Raw), l[len(l)-1].Size)
	}
	small.Close()
	if _, err := os.Stat(small.dir); !os.IsNotExist(err) {
		t.Errorf("its folder stays: %v", err)
	}
}

// The pages are shown under no name of a stranger's; letters.json is whole, with attachments; charsets are read; dates
// are shown.
func TestInboxPages(t *testing.T) {
	in, addr := running(t, Config{Hosts: []string{"inbox.ferry.example"}})
	deliver(t, addr, []byte("From: crew@ternisle.example\r\nTo: mara@ternisle.example\r\n"+
		"Subject: =?iso-8859-1?Q?F=E4hre?= =?windows-1252?Q?_=80_8?=\r\n"+
		"Content-Type: text/plain; charset=iso-8859-15\r\n"+
		"Content-Transfer-Encoding: 8bit\r\n\r\nDie F\xe4hre kostet 8 \xa4\r\n"))
	deliver(t, addr, heavy(1, 1000))
	ask := func(host, path string) (int, string) {
		r := httptest.NewRequest("GET", path, nil)
		r.Host = host
		w := httptest.NewRecorder()
		in.Handler().ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	for host, want := range map[string]int{"stranger.example:8441": 421, "stranger.example": 421, "": 421,
		"127.0.0.1:8441": 200, "[::1]:8441": 200, "localhost:8441": 200, "LOCALHOST": 200, "inbox.ferry.example": 200} {
		if code, _ := ask(host, "/letters.json"); code != want {
			t.Errorf("under %q: %d, want %d", host, code, want)
		}
	}
	_, body := ask("localhost", "/letters.json")
	if strings.Count(body, "\n") != 1 {
		t.Errorf("letters.json has more than a line, which simple readers take for another letter:\n%s", body)
	}
	var all []jsonLetter
	if err := json.Unmarshal([]byte(body), &all); err != nil || len(all) != 2 {
		t.Fatalf("%v in\n%s", err, body)
	}
	if all[0].Subject != "Fähre € 8" || all[0].Text != "Die Fähre kostet 8 €\n" {
		t.Errorf("read as %q and %q", all[0].Subject, all[0].Text)
	}
	if a := all[1].Attachments; len(a) != 1 || a[0].Name != "manifest.bin" || a[0].Type != "application/octet-stream" {
		t.Errorf("attachments %+v", a)
	}
	if _, body := ask("localhost", "/letter/2"); !strings.Contains(body, "manifest.bin, application/octet-stream, ") {
		t.Errorf("the page:\n%s", body)
	}
	if _, body := ask("localhost", "/"); !strings.Contains(body, in.Letters("")[0].Received.Format("2006-01-02")) {
		t.Errorf("no date in\n%s", body)
	}
}
