package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/internal/core/near"
	"github.com/illumicode/illumicode/internal/flow"
)

// API serves the flows as JSON, for an application that runs elsewhere. Calls that name a subject or
// tell one carry the application's key as a bearer token (RFC 6750); calls that carry a ticket or a
// link prove themselves, and may come from a page in the browser, on an origin that APIOptions
// trusts. GET /v1/openapi.json describes every call (OpenAPI 3.1). Errors are problem details (RFC
// 9457). Paths are below the path of the site's base URL, as those of [Pages] are.
type API struct {
	Path string // below which it serves

	svc  *illumicode.Service
	key  [sha256.Size]byte
	opts APIOptions
	own  string // the site's origin
	mux  *http.ServeMux
}

// APIOptions are the optional settings of an [API].
type APIOptions struct {
	Origins []string // of pages that may make the calls that need no key, such as https://app.ferry.example

	// Client returns where a request came from, behind the proxies that the application trusts; see
	// [Behind]. Nil means the address of the connection. A call with the application's key is made on
	// behalf of somebody: of whom, its Forwarded field says (RFC 7239), as in "for=203.0.113.7".
	Client func(r *http.Request) netip.Addr
}

// minKey is the least length of the application's key in bytes.
const minKey = 24

// NewAPI returns the JSON interface of a service. key is the application's: random, and of 24 bytes or more. The
// error says what is wrong with it, or with Origins.
func NewAPI(svc *illumicode.Service, key string, o APIOptions) (*API, error) {
	if len(key) < minKey {
		return nil, fmt.Errorf(
			"web: the key of the JSON interface has %d bytes, and needs %d or more: with a short one anybody "+
				"calls in the application's name; `openssl rand -hex 32` makes one", len(key), minKey)
	}
	a := &API{svc: svc, key: sha256.Sum256([]byte(key)), opts: o, own: originOf(flow.Of(svc).Site.BaseURL),
		mux: http.NewServeMux()}
	flow.Of(svc).Here(context.Background())
	base := basePath(flow.Of(svc).Site.BaseURL)
	a.Path = base + "/v1/"
	calls := a.calls()
	for _, c := range calls {
		h := c.do
		if c.keyed {
			h = a.keyed(h)
		}
		a.mux.HandleFunc(c.method+" "+base+c.path, h)
	}
	description := describe(calls, base)
	a.mux.HandleFunc("GET "+base+"/v1/openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(description)
	})
	return a, nil
}

// ServeHTTP implements [http.Handler].
func (a *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Add("Vary", "Origin")
	if origin := r.Header.Get("Origin"); slices.Contains(a.opts.Origins, origin) {
		h.Set("Access-Control-Allow-Origin", origin)
		h.Set("Access-Control-Expose-Headers", "Retry-After, RateLimit, RateLimit-Policy")
		if r.Method == http.MethodOptions {
			h.Set("Access-Control-Allow-Methods", "POST")
			h.Set("Access-Control-Allow-Headers", "Content-Type")
			h.Set("Access-Control-Max-Age", "600")
			w.WriteHeader(http.StatusNoContent)
			return
		}
	} else if origin != "" && origin != a.own {
		problem(w, http.StatusForbidden, "foreign",
			"pages of this origin may not call; the application names those that may", nil)
		return
	}
	client := a.opts.Client
	if a.hasKey(r) {
		client = onBehalf
	}
	r = r.WithContext(from(r, client))
	if h, pattern := a.mux.Handler(r); pattern == "" {
		a.unknown(w, r, h)
		return
	}
	a.mux.ServeHTTP(w, r)
}

// A verdict takes what a handler says of a request, and writes nothing.
type verdict struct {
	header http.Header
	status int
}

func (v *verdict) Header() http.Header         { return v.header }
func (v *verdict) WriteHeader(status int)      { v.status = status }
func (v *verdict) Write(b []byte) (int, error) { return len(b), nil }

// unknown answers a request that is no call, with a problem; h is how the mux would answer it.
func (a *API) unknown(w http.ResponseWriter, r *http.Request, h http.Handler) {
	v := verdict{header: make(http.Header)}
	h.ServeHTTP(&v, r)
	if v.status == http.StatusMethodNotAllowed {
		w.Header().Set("Allow", v.header.Get("Allow"))
		problem(w, v.status, "method", "this call is made by "+v.header.Get("Allow"), nil)
		return
	}
	problem(w, http.StatusNotFound, "no-call",
		"there is no such call; GET /v1/openapi.json describes those that there are",
		nil)
}

// isJSON reports whether a request says that its body is JSON; if not, it has answered.
func isJSON(w http.ResponseWriter, r *http.Request) bool {
	kind, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err == nil && kind == "application/json" {
		return true
	}
	problem(w, http.StatusUnsupportedMediaType, "content-type",
		"this call takes application/json; say so in Content-Type",
		nil)
	return false
}

// onBehalf returns whom the application calls for, as its Forwarded field says (RFC 7239): it has shown
// its key. Without the field nobody's network is counted, and not the application's own.
func onBehalf(r *http.Request) netip.Addr {
	hops := strings.Split(r.Header.Get("Forwarded"), ",")
	client, _ := node(forNode(hops[len(hops)-1]))
	return client
}

// originOf returns the origin of a base URL that New has checked (RFC 6454 §6.2).
func originOf(base string) string {
	scheme, rest, _ := strings.Cut(base, "://")
	host, _, _ := strings.Cut(rest, "/")
	return scheme + "://" + host
}

// from returns the context of a request, with where it came from.
func from(r *http.Request, client func(*http.Request) netip.Addr) context.Context {
	if at := clientOf(r, client); at.IsValid() {
		return illumicode.FromNetwork(r.Context(), at)
	}
	return r.Context()
}

// clientOf returns where a request came from, as client says; without it, from where it is connected.
func clientOf(r *http.Request, client func(*http.Request) netip.Addr) netip.Addr {
	if client != nil {
		return client(r)
	}
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr()
}

// hasKey compares digests, so that the time taken tells nothing, not even a length.
func (a *API) hasKey(r *http.Request) bool {
	given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	sum := sha256.Sum256([]byte(given))
	return subtle.ConstantTimeCompare(sum[:], a.key[:]) == 1 && ok
}

func (a *API) keyed(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !a.hasKey(r) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="illumicode"`)
			problem(w, http.StatusUnauthorized, "no-key", "this call needs the application's key as a bearer token",
				nil)
			return
		}
		h(w, r)
	}
}

// maxBody bounds a request in bytes: the longest, a signup, has a few hundred.
const maxBody = 16 << 10

// read decodes a JSON body into in and reports whether it could; if not, it has answered.
func read(w http.ResponseWriter, r *http.Request, in any) bool {
	var members map[string]json.RawMessage
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err == nil && (bytes.IndexByte(raw, 0) >= 0 || bytes.Contains(raw, []byte(`\u0000`))) {
		err = unknownError{"it holds a NUL, which is no character of any text"}
	}
	if err == nil {
		err = json.Unmarshal(raw, &members)
	}
	if err == nil {
		err = unknown(members, reflect.TypeOf(in).Elem())
	}
	if err == nil {
		err = json.Unmarshal(raw, in)
	}
	if err != nil {
		problem(w, http.StatusBadRequest, "body", "the body is not the JSON object this call takes: "+plain(err), nil)
	}
	return err == nil
}

// An unknownError is a member that a call does not have, in words.
type unknownError struct{ words string }

func (e unknownError) Error() string { return e.words }

// unknown refuses a member that a call does not take.
func unknown(members map[string]json.RawMessage, in reflect.Type) error {
	var names []string
	for _, f := range reflect.VisibleFields(in) {
		if name := f.Tag.Get("json"); name != "" {
			names = append(names, name)
		}
	}
	for member := range members {
		if !slices.ContainsFunc(names, func(name string) bool { return strings.EqualFold(name, member) }) {
			if len(member) > 40 {
				member = member[:40] + "…"
			}
			return unknownError{fmt.Sprintf("no member is named %q; %s", member, near.List(member, names))}
		}
	}
	return nil
}

// whole reports whether every member that a call requires is there; if not, it has answered.
func whole(w http.ResponseWriter, in any) bool {
	v := reflect.ValueOf(in)
	for _, f := range reflect.VisibleFields(v.Type()) {
		if f.Tag.Get("is") == "required" && v.FieldByIndex(f.Index).IsZero() {
			name := f.Tag.Get("json")
			problem(w, http.StatusUnprocessableEntity, "missing",
				fmt.Sprintf("%q is missing or empty: %s", name, f.Tag.Get("about")), map[string]any{"member": name})
			return false
		}
	}
	return true
}

// plain says what is wrong with a body without repeating what it holds.
func plain(err error) string {
	if wrong, ok := errors.AsType[unknownError](err); ok {
		return wrong.words
	}
	if wrong, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		return "field " + wrong.Field + " has the wrong type"
	}
	return "it cannot be read"
}
