package web

import (
	"errors"
	"io"
	"mime"
	"net/http"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/events"
	"github.com/illumicode/illumicode/internal/store"
)

// maxEvents bounds a batch of events, in bytes. A list that follows its event in lines is bounded by the line.
const maxEvents = 4 << 20

// stillFor is how long a list that arrives may pause. A server's own bound is for the whole of a request.
const stillFor = time.Minute

func (a *API) events(w http.ResponseWriter, r *http.Request) {
	contentType := r.Header.Get("Content-Type")
	if kind, _, _ := mime.ParseMediaType(contentType); kind == events.JSONLines {
		n, err := a.svc.ReceiveList(r.Context(), patient{r.Body, http.NewResponseController(w)})
		a.taken(w, r, takenOut{Taken: 1, Recipients: n}, err)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxEvents))
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, "body",
			"the body cannot be read, or has more than 4 MiB; send smaller batches, or the recipients in lines ("+
				events.JSONLines+")", nil)
		return
	}
	if contentType == "" {
		contentType = "none"
	}
	all, err := events.Parse(contentType, body)
	if err == nil {
		err = a.svc.Receive(r.Context(), all...)
	}
	a.taken(w, r, takenOut{Taken: len(all)}, err)
}

// taken answers what became of events.
func (a *API) taken(w http.ResponseWriter, r *http.Request, out takenOut, err error) {
	switch {
	case err == nil:
		write(w, http.StatusAccepted, out)
	case errors.Is(err, illumicode.ErrDifferent):
		problem(w, http.StatusConflict, "different", err.Error(), nil)
	case errors.Is(err, store.ErrDatabase) && !errors.Is(err, store.ErrData):
		a.fail(w, r, err)
	default: // the event's own fault, in words for who sent it
		problem(w, http.StatusUnprocessableEntity, "event", err.Error(), nil)
	}
}

// patient is a body that may take as long as it likes while something comes.
type patient struct {
	body io.Reader
	conn *http.ResponseController
}

func (p patient) Read(b []byte) (int, error) {
	if err := p.conn.SetReadDeadline(time.Now().Add(stillFor)); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return 0, err
	}
	return p.body.Read(b)
}
