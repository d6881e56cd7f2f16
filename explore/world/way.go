package world

import (
	"context"
	"io"
	"net/url"
	"regexp"
	"strings"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/explore/model"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A way is a provider that does as it is told.
type way struct {
	fate    model.Fate
	letters map[string]letter // what left, by the delivery
	soured  bool              // it did not take the last one, which decoys follow
}

// A letter is what its reader can use of it.
type letter struct {
	to       string
	code     string
	link     illumicode.Link // that proves
	takeBack illumicode.Link // that takes something back
}

func (w *way) Name() string { return "way" }

func (w *way) Can() provider.Ability { return provider.Ability{Mail: true} }

// Send implements [provider.Provider].
func (w *way) Send(ctx context.Context, h provider.Handover) provider.Result {
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	if _, err := h.Message.WriteTo(io.Discard); err != nil {
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	w.soured = w.fate == model.Later
	switch w.fate {
	case model.Later:
		return provider.Result{Class: retry.Transient, Code: 451, Reply: "451 not now"}
	case model.Rejects:
		return provider.Result{Class: retry.MessageRefused, Code: 554, Reply: "554 not this one"}
	}
	if err := h.Final(ctx); err != nil {
		return provider.NotSent(err)
	}
	w.letters[h.ID] = read(h.Letter)
	if w.fate == model.Loses {
		return provider.Result{Class: retry.Ambiguous, Reply: "the connection was lost after the final dot"}
	}
	return provider.Result{Class: retry.Accepted, Code: 250, Reply: "250 taken"}
}

var (
	codes = regexp.MustCompile(`\b\d{3} \d{3} \d{3}\b`)
	links = regexp.MustCompile(`http://127\.0\.0\.1:1/\S+`)
)

// read finds what the reader of a letter can use.
func read(l provider.Letter) letter {
	out := letter{to: l.To, code: strings.ReplaceAll(codes.FindString(l.Text), " ", "")}
	for _, found := range links.FindAllString(l.Text, -1) {
		u, err := url.Parse(found)
		if err != nil {
			continue
		}
		token := illumicode.Link(u.Query().Get("t"))
		switch u.Path {
		case "/confirm":
			out.link = token
		case "/not-me":
			out.takeBack = token
		}
	}
	return out
}

// never is when a letter is due that is not tried again.
const never = time.Duration(-1)

// lease is longer than that of a worker that tries one letter.
const lease = 12 * time.Minute
