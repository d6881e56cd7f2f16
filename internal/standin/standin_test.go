package standin_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode/internal/core/compose"
	"github.com/illumicode/illumicode/internal/standin"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/retry"
)

// relay serves a stand-in over SMTP and returns a provider that sends to it.
func relay(t *testing.T, s *standin.Standin) *smtp.Provider {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.ServeSMTP(ctx, l) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	p, err := smtp.New("relay", smtp.Config{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, TLS: smtp.NoTLS,
		Final: 500 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

func send(t *testing.T, p provider.Provider, i int) provider.Result {
	t.Helper()
	return p.Send(t.Context(),
		provider.Handover{
			ID: fmt.Sprint(i), Envelope: provider.Envelope{From: "crew@ternisle.example", To: "mara@ternisle.example"},
			Message: compose.Bytes("Subject: x\r\n\r\nhello\r\n"), Begin: func(context.Context) error { return nil },
			Final: func(context.Context) error { return nil }})
}

// Each temper shows over SMTP as what a real relay does.
func TestSMTPTempers(t *testing.T) {
	for _, tt := range []struct {
		temper standin.Temper
		class  retry.Class
		code   int
		taken  int
	}{
		{standin.Temper{}, retry.Accepted, 250, 1},
		{standin.Temper{Fail: 1}, retry.Transient, 451, 0},
		{standin.Temper{Hang: 1}, retry.Ambiguous, 0, 0},
		{standin.Temper{Cut: 1}, retry.Ambiguous, 0, 1},
		{standin.Temper{Lie: 1}, retry.MessageRefused, 554, 0},
		{standin.Temper{Senders: []string{"gullquay.example"}}, retry.MessageRefused, 550, 0},
	} {
		s := standin.New(1, tt.temper)
		if r := send(t, relay(t, s), 1); r.Class != tt.class || r.Code != tt.code || len(s.Letters()) != tt.taken {
			t.Errorf("%+v: %+v, %d taken; want %s, %d, %d taken", tt.temper, r, len(s.Letters()), tt.class, tt.code,
				tt.taken)
		}
	}
	s := standin.New(1, standin.Temper{Quota: 2})
	p := relay(t, s)
	var codes []int
	for i := range 3 {
		codes = append(codes, send(t, p, i).Code)
	}
	if !slices.Equal(codes, []int{250, 250, 452}) {
		t.Errorf("with a quota of 2: %v", codes)
	}
}

// The same seed and letters give the same answers; another seed gives others, in the same shares.
func TestSeeds(t *testing.T) {
	run := func(seed uint64) (answers string) {
		s := standin.New(seed, standin.Temper{Fail: 0.3})
		server := httptest.NewServer(s.Handler())
		defer server.Close()
		for range 200 {
			resp, err := http.Post(server.URL+"/mail", "application/json",
				strings.NewReader(`{"to":"a@x.example","subject":"s","text":"t"}`))
			if err != nil {
				t.Fatal(err)
			}
			resp.Body.Close()
			answers += fmt.Sprint(resp.StatusCode/100, " ")
		}
		return answers
	}
	a, again, b := run(7), run(7), run(8)
	if a != again || a == b {
		t.Errorf("the same seed agrees: %v; another differs: %v", a == again, a != b)
	}
	for _, one := range []string{a, b} {
		if n := strings.Count(one, "5"); n < 35 || n > 85 { // 60 expected, four standard deviations
			t.Errorf("%d of 200 failed, want about 60", n)
		}
	}
}

// A webhook is told of each letter, under the id that the sender was given.
func TestWebhook(t *testing.T) {
	told := make(chan map[string]string, 1)
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var event map[string]string
		if err := json.NewDecoder(r.Body).Decode(&event); err != nil {
			t.Error(err)
		}
		told <- event
	}))
	defer hook.Close()
	server := httptest.NewServer(standin.New(1, standin.Temper{Webhook: hook.URL}).Handler())
	defer server.Close()
	resp, err := http.Post(server.URL+"/mail", "application/json",
		strings.NewReader(`{"to":"a@x.example","subject":"s","text":"t"}`))
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	select {
	case event := <-told:
		if event["id"] != "stand-in-000001" || event["event"] != "delivered" {
			t.Errorf("the webhook was told %v", event)
		}
	case <-time.After(10 * time.Second):
		t.Error("the webhook was not told")
	}
}
