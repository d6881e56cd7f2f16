package web

import (
	"fmt"
	"io"
	"net/http"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/internal/flow"
)

// A Webhook is how a provider tells what became of letters.
type Webhook struct {
	Signature feedback.Signature
	Mapping   feedback.Mapping
}

// Webhooks takes what providers POST below Path. It is safe for concurrent use.
type Webhooks struct {
	http.Handler
	Path string
}

// maxHook bounds what a provider POSTs at once, in bytes.
const maxHook = 4 << 20

// NewWebhooks takes what providers POST to /feedback/NAME below the path of the site's base URL, NAME
// being the provider's in Config.Providers. It answers 202 when everything is on record, 401 to a wrong
// signature, 422 to what cannot be read, and 503 while the database is away, so that a provider which
// repeats loses nothing. Repeats and wrong orders do no harm.
func NewWebhooks(svc *illumicode.Service, hooks map[string]Webhook) (*Webhooks, error) {
	mux := http.NewServeMux()
	path := basePath(flow.Of(svc).Site.BaseURL) + "/feedback/"
	for name, hook := range hooks {
		err := report.Signature(hook.Signature).Check()
		if err == nil {
			err = report.Mapping(hook.Mapping).Check()
		}
		if err != nil {
			return nil, fmt.Errorf("web: the webhook of provider %q: %w", name, err)
		}
		mux.HandleFunc("POST "+path+name, func(w http.ResponseWriter, r *http.Request) {
			takeHook(svc, name, hook, w, r)
		})
	}
	return &Webhooks{Handler: mux, Path: path}, nil
}

func takeHook(svc *illumicode.Service, provider string, hook Webhook, w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxHook))
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, "body", "the body cannot be read, or has more than 4 MiB", nil)
		return
	}
	if err := report.Signature(hook.Signature).Verify(body, r.Header.Get, svc.Now()); err != nil {
		problem(w, http.StatusUnauthorized, "signature", err.Error(), nil)
		return
	}
	events, err := report.Mapping(hook.Mapping).Read(body)
	if err != nil {
		problem(w, http.StatusUnprocessableEntity, "body", err.Error(), nil)
		return
	}
	all := make([]feedback.Feedback, len(events))
	for i, e := range events {
		all[i] = feedback.Feedback{
			Kind: e.Kind, Status: e.Status, Text: e.Text, ID: e.ID, At: e.At, Source: provider, Delivery: e.Delivery,
			Letter: e.Letter,
		}
	}
	added, err := feedback.Take(r.Context(), svc, all...)
	if err != nil {
		w.Header().Set("Retry-After", "30")
		problem(w, http.StatusServiceUnavailable, "internal", "it is not on record; send it again", nil)
		return
	}
	write(w, http.StatusAccepted, map[string]int{"events": len(events), "new": added})
}
