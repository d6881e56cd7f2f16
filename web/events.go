package web

import (
	"errors"
	"io"
	"net/http"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/events"
	"github.com/illumicode/illumicode/internal/store"
)

// maxEvents bounds a batch of events, in bytes.
const maxEvents = 4 << 20

func (a *API) events(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxEvents))
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, "body",
			"the body cannot be read, or has more than 4 MiB; send smaller batches", nil)
		return
	}
	contentType := r.Header.Get("Content-Type")
	if contentType == "" {
		contentType = "none"
	}
	all, err := events.Parse(contentType, body)
	if err == nil {
		err = a.svc.Receive(r.Context(), all...)
	}
	switch {
	case err == nil:
		write(w, http.StatusAccepted, takenOut{len(all)})
	case errors.Is(err, illumicode.ErrDifferent):
		problem(w, http.StatusConflict, "different", err.Error(), nil)
	case errors.Is(err, store.ErrDatabase) && !errors.Is(err, store.ErrData):
		a.fail(w, r, err)
	default: // the event's own fault, in words for who sent it
		problem(w, http.StatusUnprocessableEntity, "event", err.Error(), nil)
	}
}
