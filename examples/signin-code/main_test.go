package main

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/illumicodetest"
)

// A code signs in the browser that asked for it; an unknown address is answered alike.
func TestSignInByCode(t *testing.T) {
	server := httptest.NewUnstartedServer(nil)
	server.Start()
	defer server.Close()
	k := illumicodetest.New(t, func(c *illumicode.Config) { c.Site.BaseURL = server.URL })
	db := k.Service.Store().DB()
	if _, err := db.Exec("CREATE TABLE session (token TEXT PRIMARY KEY, subject TEXT, ends INTEGER)"); err != nil {
		t.Fatal(err)
	}
	const mara = "mara@gullquay.example"
	if err := desk.New(k.Service).Confirm(t.Context(), illumicode.Holding{Subject: "7", Address: mara},
		"made for this test"); err != nil {
		t.Fatal(err)
	}
	server.Config.Handler = site(k.Service, db)
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar}
	at := "" // the path of the page that is shown
	post := func(path string, form url.Values) string {
		t.Helper()
		resp, err := browser.PostForm(server.URL+path, form)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		at = resp.Request.URL.Path
		return string(body)
	}
	nobody := post("/code", url.Values{"address": {"nobody@gullquay.example"}})
	nobody = strings.NewReplacer("nobody@gullquay.example", "", at, "").Replace(nobody)
	known := post("/code", url.Values{"address": {mara}})
	known = strings.NewReplacer(mara, "", at, "").Replace(known)
	if known != nobody {
		t.Errorf("the answers differ:\n%s\n%s", known, nobody)
	}
	l := k.Letter(mara, 1)
	if body := post(at+"/code", url.Values{"code": {l.Code()}}); body != "You are signed in as subject 7." {
		t.Errorf("%s", body)
	}
	var sessions int
	if err := db.QueryRow("SELECT COUNT(*) FROM session").Scan(&sessions); err != nil || sessions != 1 {
		t.Errorf("%d sessions, %v", sessions, err)
	}
}
