package illumicode_test

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/trace"
	"go.opentelemetry.io/otel/trace/embedded"
	"go.opentelemetry.io/otel/trace/noop"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/provider"
)

// A recorder keeps the spans that have ended.
type recorder struct {
	embedded.TracerProvider

	mu    sync.Mutex // guards ended
	ended []*span
}

type span struct {
	noop.Span
	by           *recorder
	name         string
	self, parent trace.SpanContext
	status       codes.Code
	attributes   map[attribute.Key]attribute.Value
}

type tracer struct {
	embedded.Tracer
	by *recorder
}

func (r *recorder) Tracer(string, ...trace.TracerOption) trace.Tracer { return tracer{by: r} }

func (t tracer) Start(ctx context.Context, name string, options ...trace.SpanStartOption) (context.Context,
	trace.Span) {
	s := &span{by: t.by, name: name, parent: trace.SpanContextFromContext(ctx),
		attributes: make(map[attribute.Key]attribute.Value)}
	c := trace.SpanContextConfig{TraceID: s.parent.TraceID(), TraceFlags: trace.FlagsSampled}
	rand.Read(c.SpanID[:])
	if !s.parent.IsValid() {
		rand.Read(c.TraceID[:])
	}
	s.self = trace.NewSpanContext(c)
	config := trace.NewSpanStartConfig(options...)
	s.SetAttributes(config.Attributes()...)
	return trace.ContextWithSpan(ctx, s), s
}

func (s *span) SpanContext() trace.SpanContext      { return s.self }
func (s *span) IsRecording() bool                   { return true }
func (s *span) SetStatus(code codes.Code, _ string) { s.status = code }

func (s *span) SetAttributes(all ...attribute.KeyValue) {
	for _, a := range all {
		s.attributes[a.Key] = a.Value
	}
}

func (s *span) End(...trace.SpanEndOption) {
	s.by.mu.Lock()
	defer s.by.mu.Unlock()
	s.by.ended = append(s.by.ended, s)
}

// The request and the attempts of its letter are one trace, though a worker makes them, later and perhaps
// elsewhere: each attempt is a span below the request's, and says how it ended.
func TestRequestAndDeliveryAreOneTrace(t *testing.T) {
	r := new(recorder)
	before := otel.GetTracerProvider()
	otel.SetTracerProvider(r)
	defer otel.SetTracerProvider(before)
	way := new(fickle) // it takes the third attempt
	k := illumicodetest.New(t, func(c *illumicode.Config) {
		c.Providers, c.Outbox.Retry.Base = []provider.Provider{way}, time.Millisecond
	})
	way.clock = k.Clock
	ctx, request := otel.Tracer("application").Start(t.Context(), "POST /signup")
	if _, err := k.Service.Signup(ctx, illumicode.Request{Address: "mara@ternisle.example"},
		illumicode.Subject("7")); err != nil {
		t.Fatal(err)
	}
	request.End()
	waitSent(t, k, 1)
	var got []string
	for range 500 { // the last span ends right after its result is on record
		r.mu.Lock()
		got = nil
		for _, s := range r.ended {
			if s.parent.SpanID() == request.SpanContext().SpanID() &&
				s.self.TraceID() == request.SpanContext().TraceID() {
				got = append(got, fmt.Sprintf("%s by %s: %s, attempt %d, %s, %v", s.name,
					s.attributes["illumicode.provider"].AsString(),
					s.attributes["illumicode.class"].AsString(), s.attributes["illumicode.attempt"].AsInt64(),
					s.attributes["illumicode.state"].AsString(), s.status))
			}
		}
		r.mu.Unlock()
		if len(got) == 3 {
			break
		}
		time.Sleep(time.Millisecond)
	}
	slices.Sort(got) // one may end after the next has begun
	want := []string{
		"deliver confirm by fickle: accepted, attempt 3, sent, Unset",
		"deliver confirm by fickle: ambiguous, attempt 1, waiting, Error",
		"deliver confirm by fickle: ambiguous, attempt 2, waiting, Error",
	}
	if !slices.Equal(got, want) {
		t.Errorf("spans below the request's:\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
