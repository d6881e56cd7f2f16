package provider_test

import (
	"context"
	"fmt"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/capture"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/provider/file"
	"github.com/illumicode/illumicode/provider/providertest"
	"github.com/illumicode/illumicode/provider/sendmail"
	"github.com/illumicode/illumicode/retry"
)

// The providers that need no server keep the contract.
func TestLocalProviders(t *testing.T) {
	t.Run("capture", func(t *testing.T) {
		providertest.Run(t, func(t *testing.T) providertest.Subject {
			p := new(capture.Provider)
			return providertest.Subject{Provider: p, Received: func() int { return len(p.Letters()) }}
		})
	})
	t.Run("file", func(t *testing.T) {
		providertest.Run(t, func(t *testing.T) providertest.Subject {
			dir := t.TempDir()
			p, err := file.New("files", dir)
			if err != nil {
				t.Fatal(err)
			}
			return providertest.Subject{Provider: p, Received: func() int { return len(letters(t, dir)) }}
		})
	})
	t.Run("sendmail", func(t *testing.T) {
		providertest.Run(t, func(t *testing.T) providertest.Subject {
			dir := t.TempDir()
			p := program(t, dir, `cat > "$DIR/part.$$" && mv "$DIR/part.$$" "$DIR/$5.eml"`)
			return providertest.Subject{Provider: p, Received: func() int {
				got, _ := filepath.Glob(filepath.Join(dir, "*.eml"))
				return len(got)
			}}
		})
	})
	t.Run("discard", func(t *testing.T) {
		providertest.Run(t, func(t *testing.T) providertest.Subject {
			p := new(counted)
			return providertest.Subject{Provider: p, Received: func() int { return int(p.n.Load()) }}
		})
	})
}

// counted counts what the discarding provider accepts.
type counted struct {
	discard.Provider
	n atomic.Int64
}

func (c *counted) Send(ctx context.Context, h provider.Handover) provider.Result {
	r := c.Provider.Send(ctx, h)
	if r.Class == retry.Accepted {
		c.n.Add(1)
	}
	return r
}

func letters(t *testing.T, dir string) []string {
	t.Helper()
	got, err := filepath.Glob(filepath.Join(dir, "new", "*.eml"))
	if err != nil {
		t.Fatal(err)
	}
	return got
}

// program returns a provider that runs a shell script, with $DIR as its folder.
func program(t *testing.T, dir, script string) *sendmail.Provider {
	t.Helper()
	path := filepath.Join(dir, "program")
	if err := os.WriteFile(path, []byte("#!/bin/sh\nDIR="+dir+"\n"+script+"\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	p, err := sendmail.New("local", path)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func letter(to string) provider.Handover {
	return provider.Handover{ID: "d-1", Envelope: provider.Envelope{From: "crew@ternisle.example", To: to},
		Message: compose.Bytes("Subject: x\r\n\r\nhello\r\n"), Begin: func(context.Context) error { return nil },
		Final: func(context.Context) error { return nil }}
}

// What the exit codes of sysexits.h mean.
func TestSendmailExits(t *testing.T) {
	for _, tt := range []struct {
		script string
		class  retry.Class
		reply  string
	}{
		{"cat >/dev/null; echo queued", retry.Accepted, "queued"},
		{"cat >/dev/null; echo nobody here >&2; exit 67", retry.RecipientRefused, "exit 67 nobody here"},
		{"cat >/dev/null; exit 75", retry.Transient, "exit 75"},
		{"cat >/dev/null; exit 65", retry.MessageRefused, "exit 65"},
		{"exit 78", retry.Misconfigured, "exit 78"},
		{"cat >/dev/null; exit 1", retry.Transient, "exit 1"},
		{"cat >/dev/null; kill -9 $$", retry.Ambiguous, "killed"},
	} {
		p := program(t, t.TempDir(), tt.script)
		if r := p.Send(t.Context(), letter("mara@ternisle.example")); r.Class != tt.class ||
			!strings.Contains(r.Reply, tt.reply) {
			t.Errorf("%q: %+v, want %s with %q", tt.script, r, tt.class, tt.reply)
		}
	}
	p := program(t, t.TempDir(), "exec sleep 60")
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if r := p.Send(ctx, letter("mara@ternisle.example")); r.Class != retry.Ambiguous {
		t.Errorf("a program that hangs: %+v, want ambiguous", r)
	}
	if r := p.Send(t.Context(), letter("-oQ/tmp@ternisle.example")); r.Class != retry.MessageRefused {
		t.Errorf("an address like an option: %+v", r)
	}
	if _, err := sendmail.New("local", "/nowhere/sendmail"); err == nil ||
		!strings.Contains(err.Error(), "give the path") {
		t.Errorf("no program: %v", err)
	}
}

// A letter in the Maildir is a message; sent again, it takes the place of the first.
func TestFile(t *testing.T) {
	dir := t.TempDir()
	p, err := file.New("files", dir)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if r := p.Send(t.Context(), letter("mara@ternisle.example")); r.Class != retry.Accepted {
			t.Fatalf("%+v", r)
		}
	}
	got := letters(t, dir)
	if len(got) != 1 {
		t.Fatalf("%d files, want 1", len(got))
	}
	f, err := os.Open(got[0])
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if m, err := mail.ReadMessage(f); err != nil || m.Header.Get("Subject") != "x" {
		t.Errorf("the file is no message: %v", err)
	}
	if _, err := file.New("files", got[0]); err == nil {
		t.Error("a file was taken for a folder")
	}
}

func TestMaySend(t *testing.T) {
	can := provider.Ability{Mail: true, Senders: []string{"ternisle.example", "desk@gullquay.example"}}
	for from, want := range map[string]bool{
		"crew@TernIsle.example": true, "desk@gullquay.example": true, "boss@gullquay.example": false,
		"crew@evil.ternisle.example": false, "": false,
	} {
		if got := can.MaySend(from); got != want {
			t.Errorf("MaySend(%q) = %v", from, got)
		}
	}
}

func TestSecret(t *testing.T) {
	s := struct{ Key provider.Secret }{"sea gull"}
	for _, shown := range []string{fmt.Sprint(s), fmt.Sprintf("%+v", s), fmt.Sprintf("%#v", s),
		fmt.Sprintf("%q", s.Key), fmt.Sprintf("%x", s.Key)} {
		if strings.Contains(shown, "gull") || strings.Contains(shown, "7365612067") {
			t.Errorf("a secret shows: %s", shown)
		}
	}
}
