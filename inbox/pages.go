package inbox

import (
	"embed"
	"encoding/json"
	"html/template"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
)

//go:embed pages/*.html
var pageFiles embed.FS

var pages = template.Must(template.New("").Funcs(template.FuncMap{
	"clock": func(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") },
}).ParseFS(pageFiles, "pages/*.html"))

// Handler returns the pages: the list, each letter, its HTML part in a frame that can do nothing
// but follow links, its source, and letters.json for programs.
func (in *Inbox) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", in.listPage)
	mux.HandleFunc("GET /letters.json", in.listJSON)
	mux.HandleFunc("GET /letter/{id}", in.withLetter(in.letterPage))
	mux.HandleFunc("GET /letter/{id}/html", in.withLetter(htmlPart))
	mux.HandleFunc("GET /letter/{id}/source", in.withLetter(source))
	return in.homeOnly(mux)
}

// homeOnly refuses to show letters under a foreign name: by DNS, a stranger's page can have its own name lead here.
func (in *Inbox) homeOnly(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if name, _, err := net.SplitHostPort(host); err == nil {
			host = name
		}
		host = strings.ToLower(strings.Trim(host, "[]"))
		if net.ParseIP(host) == nil && host != "localhost" && !strings.HasSuffix(host, ".localhost") &&
			!slices.Contains(in.cfg.Hosts, host) {
			http.Error(w, "The inbox is not shown under this name. Ask for it by its address, or add the name to its "+
				"hosts.", http.StatusMisdirectedRequest)
			return
		}
		h.ServeHTTP(w, r)
	})
}

func (in *Inbox) listPage(w http.ResponseWriter, r *http.Request) {
	to := r.URL.Query().Get("to")
	letters := in.Letters(to)
	slices.Reverse(letters)
	render(w, "list.html", map[string]any{"To": to, "Letters": letters})
}

// A jsonLetter is a letter for programs.
type jsonLetter struct {
	ID       int       `json:"id"`
	Received time.Time `json:"received"`
	To       string    `json:"to"`
	From     string    `json:"from"`
	Subject  string    `json:"subject"`
	Text     string    `json:"text"`
	HTML     string    `json:"html"`
	Link     string    `json:"link"`
	Code     string    `json:"code"`
	Return   string    `json:"return_path"` // where its bounces go
	Size     int64     `json:"size"`        // of the source, in bytes

	Attachments []jsonAttachment `json:"attachments,omitempty"`
}

type jsonAttachment struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Size int64  `json:"size"`
}

func (in *Inbox) listJSON(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	io.WriteString(w, "[") // letter by letter: together they would take as much memory again
	for i, l := range in.Letters(r.URL.Query().Get("to")) {
		one := jsonLetter{l.ID, l.Received, l.EnvelopeTo, l.From, l.Subject, l.Text, l.HTML, l.Link(), l.Code(),
			l.EnvelopeFrom, l.Size, nil}
		for _, a := range l.Attachments {
			one.Attachments = append(one.Attachments, jsonAttachment(a))
		}
		if i > 0 {
			io.WriteString(w, ",")
		}
		raw, err := json.Marshal(one)
		if err == nil {
			_, err = w.Write(raw)
		}
		if err != nil {
			return // a client that has gone is nobody to tell
		}
	}
	io.WriteString(w, "]\n")
}

func (in *Inbox) withLetter(show func(http.ResponseWriter, *http.Request, *Letter)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		id, err := strconv.Atoi(r.PathValue("id"))
		l := in.letter(id)
		if err != nil || l == nil {
			http.Error(w, "There is no such letter.", http.StatusNotFound)
			return
		}
		show(w, r, l)
	}
}

func (in *Inbox) letterPage(w http.ResponseWriter, r *http.Request, l *Letter) {
	view := r.URL.Query().Get("as")
	if view != "text" && view != "source" {
		view = "html"
	}
	render(w, "letter.html", map[string]any{"L": l, "View": view, "Source": string(l.Raw)})
}

// htmlPart serves a letter's own markup. It is somebody else's: no script, no forms, no other
// origin's anything, and links leave the frame.
func htmlPart(w http.ResponseWriter, _ *http.Request, l *Letter) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy",
		"sandbox allow-popups allow-popups-to-escape-sandbox allow-top-navigation-by-user-activation; default-src "+
			"'none'; style-src 'unsafe-inline'; img-src data:")
	w.Write([]byte(strings.Replace(l.HTML, "<head>", `<head><base target="_top">`, 1)))
}

func source(w http.ResponseWriter, _ *http.Request, l *Letter) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	from, err := l.Open()
	if err != nil {
		http.Error(w, "The letter was removed to make room for later ones.", http.StatusGone)
		return
	}
	defer from.Close()
	io.Copy(w, from)
}

func render(w http.ResponseWriter, name string, data any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'")
	w.Header().Set("Cache-Control", "no-store")
	var b strings.Builder
	if err := pages.ExecuteTemplate(&b, name, data); err != nil {
		http.Error(w, "The page could not be made.", http.StatusInternalServerError)
		return
	}
	w.Write([]byte(b.String()))
}
