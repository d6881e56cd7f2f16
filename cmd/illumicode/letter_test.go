package main

import (
	"bytes"
	"image"
	"image/png"
	"net/mail"
	"os"
	"strings"
	"testing"
)

func TestLetterVerbs(t *testing.T) {
	p := newPlace(t)
	if out := p.must("letter", "list"); !strings.Contains(out, "confirm") || !strings.Contains(out, "security") {
		t.Errorf("letter list:\n%s", out)
	}
	if out := p.must("letter", "lint"); !strings.Contains(out, "12 letters in 11 locales: 0 faults") {
		t.Errorf("letter lint:\n%s", out)
	}
	if out := p.must("letter", "show", "confirm", "--locale", "de-AT"); !strings.Contains(out,
		"Subject: Bestätigen Sie") || !strings.Contains(out, "482 913") {
		t.Errorf("letter show:\n%s", out)
	}
	if out := p.must("letter", "show", "confirm", "--as", "sms"); !strings.Contains(out, "(1 segment, GSM 7-bit)") {
		t.Errorf("letter show --as sms:\n%s", out)
	}
	p.must("letter", "show", "trial", "--as", "eml", "--out", p.file("trial.eml"))
	f, err := os.Open(p.file("trial.eml"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if m, err := mail.ReadMessage(f); err != nil || m.Header.Get("Subject") == "" {
		t.Errorf("the file is no message: %v", err)
	}
	p.must("letter", "show", "--gallery", p.file("gallery.html"))
	for _, tt := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"letter", "show", "gone"}, exitFailed, `no letter is named "gone"; there are "account-closed"`},
		{[]string{"letter", "show", "confirm", "--as", "pdf"}, exitMisused, "say text, html, eml or sms"},
		{[]string{"letter", "show"}, exitMisused, "one argument"},
	} {
		if _, errOut, code := p.do(tt.args...); code != tt.code || !strings.Contains(errOut, tt.want) {
			t.Errorf("%v: exit %d, %q", tt.args, code, errOut)
		}
	}
	// The mark that travels with letters is shown with them.
	mark := new(bytes.Buffer)
	if err := png.Encode(mark, image.NewGray(image.Rect(0, 0, 8, 8))); err != nil {
		t.Fatal(err)
	}
	p.write("mark.png", mark.String())
	p.change("[site]", "[site]\nmark_file = \"mark.png\"")
	if out := p.must("letter", "show", "confirm", "--as", "html"); strings.Contains(out, "cid:") ||
		!strings.Contains(out, `<img src="data:image/png;base64,`) {
		t.Errorf("the mark in HTML:\n%s", out)
	}
	if out := p.must("letter", "show", "confirm", "--as", "eml"); !strings.Contains(out, "Content-ID: <mark") ||
		!strings.Contains(out, "Content-Type: image/png") {
		t.Errorf("the mark in a message:\n%s", out)
	}
	p.write("mark.png", "no picture")
	if _, errOut, code := p.do("letter", "lint"); code != exitFailed ||
		!strings.Contains(errOut, "no PNG, JPEG or GIF") {
		t.Errorf("a mark that is none: exit %d, %s", code, errOut)
	}
	p.change("mark_file = \"mark.png\"\n", "")
	// A letter that would hurt readers: the exit code tells.
	if err := os.Mkdir(p.file("mine"), 0o700); err != nil {
		t.Fatal(err)
	}
	p.write("mine/en.toml", "[letter.hurt]\nsubject = \"s\"\n")
	p.write("mine/hurt.html", `<p><a href="/pier">the pier</a></p>`)
	p.change("[keys]", "[letters]\ndir = \"mine\"\n[keys]")
	if out, _, code := p.do("letter", "lint"); code != exitFailed ||
		!strings.Contains(out, "the link /pier is relative") {
		t.Errorf("lint of a bad letter: exit %d\n%s", code, out)
	}
}

// What would fail with every letter is found before the first: by `letter lint`, by `check`, and at start.
func TestHopelessLetters(t *testing.T) {
	const proof = "button = \"Confirm\"\ncode_label = \"Code\"\n"
	for want, letters := range map[string][2]string{
		`"nmae"`: {"[letter.confirm]\nsubject = \"Confirm\"\nmain = \"Hello {{.nmae}}\"\n" + proof, ""},
		"U+0007": {"[letter.confirm]\nsubject = \"Confirm\\u0007 it\"\n" + proof, ""},
		`"berth"`: {"[letter.berth]\nsubject = \"Berth\"\nmain = \"{{.pier.berth}}\"\n",
			"[berth]\nsample = { pier = \"Skerry\" }\n"},
	} {
		p := newPlace(t)
		if err := os.Mkdir(p.file("mine"), 0o700); err != nil {
			t.Fatal(err)
		}
		p.write("mine/en.toml", letters[0])
		p.write("mine/letters.toml", letters[1])
		p.change("[keys]", "[letters]\ndir = \"mine\"\n[keys]")
		for _, args := range [][]string{{"letter", "lint"}, {"check"}, {"deliver", "--until-empty"}} {
			if out, errOut, code := p.do(args...); code != exitFailed || !strings.Contains(out+errOut, want) {
				t.Errorf("%v: exit %d, want %s in\n%s%s", args, code, want, out, errOut)
			}
		}
	}
}
