package main

import (
	"bytes"
	"context"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/store/sqlite"
)

func TestMain(m *testing.M) {
	if os.Getenv("RUN_EXAMPLE") == "1" {
		main()
		return
	}
	os.Exit(m.Run())
}

// The example is started as a process, used as a person would, and stopped.
func TestRun(t *testing.T) {
	dir := t.TempDir()
	in, err := inbox.New(inbox.Config{})
	if err != nil {
		t.Fatal(err)
	}
	var l [3]net.Listener // SMTP, pages, and a port for the example
	for i := range l {
		if l[i], err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			t.Fatal(err)
		}
	}
	go in.Serve(t.Context(), l[0], l[1])
	ca := filepath.Join(dir, "inbox.pem")
	if err := os.WriteFile(ca, in.CertificatePEM(), 0o600); err != nil {
		t.Fatal(err)
	}
	_, smtpPort, _ := net.SplitHostPort(l[0].Addr().String())
	listen := l[2].Addr().String()
	l[2].Close()

	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var log bytes.Buffer
	cmd := exec.CommandContext(ctx, os.Args[0])
	cmd.Env = append(os.Environ(), "RUN_EXAMPLE=1", "LISTEN="+listen, "DATABASE="+filepath.Join(dir, "x.db"),
		"SMTP_PORT="+smtpPort, "SMTP_CA="+ca)
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar}
	var page *http.Response
	for page == nil { // until it listens
		if page, err = browser.Get("http://" + listen + "/"); err != nil && ctx.Err() != nil {
			t.Fatal(err)
		}
	}
	post := func(path string, form url.Values) string {
		t.Helper()
		resp, err := browser.PostForm("http://"+listen+path, form)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var body bytes.Buffer
		if _, err := body.ReadFrom(resp.Body); err != nil {
			t.Fatal(err)
		}
		return body.String()
	}
	const mara = "mara@ternisle.example"
	for range 2 { // the second time it goes on with the same challenge
		if got := post("/register", url.Values{"email": {mara}, "password": {"longenough1"}}); !strings.Contains(got,
			"Check your email") {
			t.Fatalf("after registering: %s", got)
		}
	}
	letters, err := in.Wait(ctx, mara, 1)
	if err != nil {
		t.Fatalf("%v\n%s", err, log.String())
	}
	asks, err := browser.Get(letters[0].Link())
	if err != nil {
		t.Fatal(err)
	}
	asks.Body.Close()
	if got := post(asks.Request.URL.Path, nil); !strings.Contains(got, "Your email address is confirmed") {
		t.Errorf("after confirming: %s", got)
	}
	if err := cmd.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("at its end: %v\n%s", err, log.String())
	}
	st, err := sqlite.Open(t.Context(), filepath.Join(dir, "x.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	var kept []byte
	if err := st.DB().QueryRow("SELECT password FROM users WHERE email = ?", mara).Scan(&kept); err != nil ||
		len(kept) != 48 {
		t.Errorf("the account has %d bytes of a hash, %v", len(kept), err)
	}
}
