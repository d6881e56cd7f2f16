// Package standin simulates providers, for development, tests and benchmarks: a mail interface and
// an SMS gateway over HTTP, and an SMTP relay, with a temper that can be set. [Standin] is the type
// to read first.
//
// What it does is decided by a seeded generator in the order in which letters arrive, so that a
// run can be repeated. Nothing that it is sent leaves the process.
//
//	POST /mail    JSON: from, to, subject, text, html   -> 202 {"letter":{"id":"…"}}
//	POST /sms     a form: to, text                      -> 201 {"sms":[{"id":"…"}]}
//	GET  /letters what was accepted
//	PUT  /temper  JSON: a [Temper]
//
// What became of a letter it POSTs as {"id":…,"event":"delivered"}, where the event may also be
// "returned", with "status" and "text", or "complaint". X-Standin-Signature is sha256= and the HMAC-SHA256,
// in hexadecimal, of the time in X-Standin-Time, a dot and the body.
package standin

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// A Temper is how a stand-in behaves. The zero Temper accepts everything at once. Shares lie
// between 0 and 1; of one letter, at most one of them comes true.
type Temper struct {
	LatencyMS   int      `json:"latency_ms"`    // before each answer
	Fail        float64  `json:"fail"`          // share that fails for now: 503, or 451
	Hang        float64  `json:"hang"`          // share that gets no answer at all
	Cut         float64  `json:"cut"`           // share whose connection is cut, after the letter was taken
	Lie         float64  `json:"lie"`           // share that gets a 200 with an error inside
	DripMS      int      `json:"drip_ms"`       // pause between the bytes of an answer
	Quota       int      `json:"quota"`         // letters in all; further ones get 429 or 452; 0 means no end
	RetryAfterS int      `json:"retry_after_s"` // what a 429 asks to wait
	Senders     []string `json:"senders"`       // domains it takes letters from; empty means any
	Key         string   `json:"key"`           // the bearer token it wants; empty means none
	Webhook     string   `json:"webhook"`       // where it POSTs what became of each letter; empty means nowhere
	WebhookKey  string   `json:"webhook_key"`   // signs these POSTs; empty means unsigned
	Return      float64  `json:"return"`        // share of the letters taken that come back, says the webhook
	Complain    float64  `json:"complain"`      // share of them about which the reader complains
}

// ReadTemper reads a temper in JSON. A field that there is not is an error: a temper with a typing
// mistake in it would be the zero one.
func ReadTemper(r io.Reader) (t Temper, err error) {
	dec := json.NewDecoder(io.LimitReader(r, 64<<10))
	dec.DisallowUnknownFields()
	err = dec.Decode(&t)
	return t, err
}

// A Letter is what a stand-in has accepted.
type Letter struct {
	ID          string `json:"id"`
	Idempotency string `json:"idempotency,omitempty"`
	From        string `json:"from,omitempty"`
	To          string `json:"to"`
	Subject     string `json:"subject,omitempty"`
	Text        string `json:"text"`
	HTML        string `json:"html,omitempty"`

	event string // what the webhook will say
}

// A Standin is a simulated provider. It is safe for concurrent use. Use [New].
type Standin struct {
	mu      sync.Mutex // guards the following
	temper  Temper
	dice    *rand.Rand
	letters []Letter
	once    map[string]string // idempotency keys seen, and the ids they got
	tries   int
	taken   int
}

// keep bounds how many letters are kept to be looked at; the older half goes first.
const keep = 10_000

// New returns a stand-in with a temper. The same seed and the same letters give the same answers.
func New(seed uint64, t Temper) *Standin {
	return &Standin{temper: t, dice: rand.New(rand.NewPCG(seed, seed)), once: make(map[string]string)}
}

// SetTemper changes the temper from the next letter on.
func (s *Standin) SetTemper(t Temper) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.temper = t
}

// Letters returns what was accepted, in order; of very many, the last.
func (s *Standin) Letters() []Letter {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.letters)
}

// Tries returns how many letters were offered.
func (s *Standin) Tries() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.tries
}

// Taken returns how many letters were accepted; one that was repeated under its idempotency key is
// one.
func (s *Standin) Taken() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.taken
}

// A mood is what happens to one letter.
type mood string

const (
	takes     mood = "takes"
	fails     mood = "fails"
	hangs     mood = "hangs"
	cuts      mood = "cuts" // takes the letter, and says nothing
	lies      mood = "lies"
	full      mood = "full"
	foreigner mood = "foreigner"
)

// offer decides on a letter and keeps it if it is taken. A repeat of one with the same
// idempotency key is answered like the first.
func (s *Standin) offer(l Letter) (mood, Letter, Temper) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tries++
	if id, seen := s.once[l.Idempotency]; seen && l.Idempotency != "" {
		l.ID = id
		return takes, l, s.temper
	}
	_, domain, _ := strings.Cut(l.From, "@")
	if l.From != "" && len(s.temper.Senders) > 0 && !slices.Contains(s.temper.Senders, domain) {
		return foreigner, l, s.temper
	}
	if s.temper.Quota > 0 && s.taken >= s.temper.Quota {
		return full, l, s.temper
	}
	roll, m := s.dice.Float64(), takes
	for _, one := range []struct {
		share float64
		mood  mood
	}{{s.temper.Fail, fails}, {s.temper.Hang, hangs}, {s.temper.Cut, cuts}, {s.temper.Lie, lies}} {
		if roll < one.share {
			m = one.mood
			break
		}
		roll -= one.share
	}
	if m == takes || m == cuts {
		l.ID = fmt.Sprintf("stand-in-%06d", s.taken+1)
		s.taken++
		l.event = "delivered"
		if fate := s.temper.Return + s.temper.Complain; fate > 0 {
			switch roll := s.dice.Float64(); {
			case roll < s.temper.Return:
				l.event = "returned"
			case roll < fate:
				l.event = "complaint"
			}
		}
		s.letters = append(s.letters, l)
		if len(s.letters) > keep {
			s.letters = slices.Delete(s.letters, 0, keep/2)
		}
		if l.Idempotency != "" {
			s.once[l.Idempotency] = l.ID
		}
	}
	return m, l, s.temper
}

// Handler returns the interfaces over HTTP.
func (s *Standin) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /mail", func(w http.ResponseWriter, r *http.Request) {
		var l Letter
		if err := json.NewDecoder(io.LimitReader(r.Body, 32<<20)).Decode(&l); err != nil || l.To == "" ||
			l.Subject == "" || l.Text == "" && l.HTML == "" {
			refuse(w, http.StatusUnprocessableEntity, "incomplete", "from, to, subject and text are wanted")
			return
		}
		s.serve(w, r, l, http.StatusAccepted,
			func(id string) any { return map[string]any{"letter": map[string]string{"id": id}} })
	})
	mux.HandleFunc("POST /sms", func(w http.ResponseWriter, r *http.Request) {
		l := Letter{To: r.PostFormValue("to"), Text: r.PostFormValue("text")}
		if !strings.HasPrefix(l.To, "+") || l.Text == "" {
			refuse(w, http.StatusUnprocessableEntity, "incomplete",
				"to and text are wanted, the number with its country code")
			return
		}
		s.serve(w, r, l, http.StatusCreated,
			func(id string) any { return map[string]any{"sms": []any{map[string]string{"id": id}}} })
	})
	mux.HandleFunc("GET /letters", func(w http.ResponseWriter, r *http.Request) {
		answer(w, http.StatusOK, s.Letters())
	})
	mux.HandleFunc("PUT /temper", func(w http.ResponseWriter, r *http.Request) {
		t, err := ReadTemper(r.Body)
		if err != nil {
			refuse(w, http.StatusBadRequest, "temper", err.Error())
			return
		}
		s.SetTemper(t)
		answer(w, http.StatusOK, t)
	})
	return mux
}

func (s *Standin) serve(w http.ResponseWriter, r *http.Request, l Letter, status int, ok func(id string) any) {
	s.mu.Lock()
	key := s.temper.Key
	s.mu.Unlock()
	if key != "" && r.Header.Get("Authorization") != "Bearer "+key {
		refuse(w, http.StatusUnauthorized, "key", "the key is missing or wrong")
		return
	}
	l.Idempotency = r.Header.Get("Idempotency-Key")
	m, l, t := s.offer(l)
	if !pause(r.Context(), time.Duration(t.LatencyMS)*time.Millisecond) {
		return
	}
	if t.DripMS > 0 {
		w = &dripper{w, time.Duration(t.DripMS) * time.Millisecond}
	}
	switch m {
	case hangs:
		<-r.Context().Done()
	case cuts:
		panic(http.ErrAbortHandler) // the server closes the connection without an answer
	case fails:
		refuse(w, http.StatusServiceUnavailable, "busy", "come again")
	case full:
		if t.RetryAfterS > 0 {
			w.Header().Set("Retry-After", strconv.Itoa(t.RetryAfterS))
		}
		refuse(w, http.StatusTooManyRequests, "quota", "the quota is used up")
	case foreigner:
		refuse(w, http.StatusForbidden, "sender", "this sender is not verified")
	case lies:
		answer(w, http.StatusOK, problem{Error: struct {
			Kind string `json:"kind"`
			Text string `json:"text"`
		}{"refused", "it looked like a success"}})
	default:
		answer(w, status, ok(l.ID))
		if t.Webhook != "" {
			go callBack(t, l)
		}
	}
}

// callBack tells a webhook what became of a letter. It tries once, and nobody minds if that fails.
func callBack(t Temper, l Letter) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	said := map[string]string{"id": l.ID, "event": l.event}
	if l.event == "returned" {
		said["status"], said["text"] = "5.1.1", "550 5.1.1 nobody of that name"
	}
	body, err := json.Marshal(said)
	if err != nil {
		return
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, t.Webhook, bytes.NewReader(body))
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/json")
	if t.WebhookKey != "" {
		stamp := strconv.FormatInt(time.Now().Unix(), 10)
		h := hmac.New(sha256.New, []byte(t.WebhookKey))
		fmt.Fprintf(h, "%s.%s", stamp, body)
		req.Header.Set("X-Standin-Time", stamp)
		req.Header.Set("X-Standin-Signature", "sha256="+hex.EncodeToString(h.Sum(nil)))
	}
	if resp, err := http.DefaultClient.Do(req); err == nil {
		resp.Body.Close()
	}
}

type problem struct {
	Error struct {
		Kind string `json:"kind"`
		Text string `json:"text"`
	} `json:"error"`
}

func refuse(w http.ResponseWriter, status int, kind, text string) {
	var p problem
	p.Error.Kind, p.Error.Text = kind, text
	answer(w, status, p)
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body) // a client that has gone is what some tests are about
}

// A dripper sends its answer byte by byte.
type dripper struct {
	http.ResponseWriter
	pause time.Duration
}

func (d *dripper) Write(p []byte) (int, error) {
	for i := range p {
		if _, err := d.ResponseWriter.Write(p[i : i+1]); err != nil {
			return i, err
		}
		http.NewResponseController(d.ResponseWriter).Flush()
		time.Sleep(d.pause)
	}
	return len(p), nil
}

func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// ServeSMTP is an SMTP relay on l with the same temper, until ctx ends. It closes l.
func (s *Standin) ServeSMTP(ctx context.Context, l net.Listener) error {
	server := smtp.NewServer(
		smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &session{s: s, conn: c, ctx: ctx}, nil }))
	server.Domain = "stand-in.localhost"
	server.ErrorLog = log.New(io.Discard, "", 0)
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if err := server.Serve(l); ctx.Err() == nil {
		return err
	}
	return nil
}

type session struct {
	s        *Standin
	conn     *smtp.Conn
	ctx      context.Context // of the server
	from, to string
}

func (x *session) Reset()        {}
func (x *session) Logout() error { return nil }

func (x *session) Mail(from string, _ *smtp.MailOptions) error {
	x.from = from
	return nil
}

func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	x.to = to
	return nil
}

func (x *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m, _, t := x.s.offer(Letter{From: x.from, To: x.to, Text: string(raw)})
	if !pause(x.ctx, time.Duration(t.LatencyMS)*time.Millisecond) {
		return io.EOF
	}
	switch m {
	case hangs:
		<-x.ctx.Done()
	case cuts:
		x.conn.Conn().Close()
	case fails:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "come again"}
	case full:
		return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 7, 28}, Message: "the quota is used up"}
	case foreigner:
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 7, 1},
			Message: "this sender is not verified"}
	case lies:
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "refused"}
	}
	return nil
}
