package config

import (
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"syscall"

	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/internal/core/report"
	"github.com/illumicode/illumicode/web"
)

// Feedback is how bounces and complaints come in, and what follows from them.
type Feedback struct {
	ReturnPath string    `toml:"return_path"`
	Listen     string    `toml:"listen"` // host:port, or unix:PATH
	LMTP       bool      `toml:"lmtp"`
	Complaints []string  `toml:"complaints"`
	Soft       int       `toml:"soft"`
	Within     Duration  `toml:"within"`
	Webhook    []Webhook `toml:"webhook"`
}

// Webhook is how a provider signs what it POSTs, and where in it what stands.
type Webhook struct {
	Provider  string `toml:"provider"`
	KeyEnv    string `toml:"key_env"`
	KeyFile   string `toml:"key_file"`
	Signature string `toml:"signature"`
	Prefix    string `toml:"prefix"`
	Base64    bool   `toml:"base64"`
	Timestamp string `toml:"timestamp"`

	Each     string            `toml:"each"`
	ID       string            `toml:"id"`
	Letter   string            `toml:"letter"`
	Delivery string            `toml:"delivery"`
	Kind     string            `toml:"kind"`
	Kinds    map[string]string `toml:"kinds"`
	Status   string            `toml:"status"`
	Code     string            `toml:"code"`
	Text     string            `toml:"text"`
	At       string            `toml:"at"`
}

// Webhooks returns the webhooks by their providers.
func (f *File) Webhooks() (map[string]web.Webhook, error) {
	all := make(map[string]web.Webhook)
	for i, h := range f.Feedback.Webhook {
		key := fmt.Sprintf("feedback.webhook[%d]", i)
		if !slices.ContainsFunc(f.Provider, func(p Provider) bool { return p.Name == h.Provider }) {
			return nil, f.wrong(key+".provider", "is %q, and no [[provider]] has this name", h.Provider)
		}
		if _, twice := all[h.Provider]; twice {
			return nil, f.wrong(key+".provider", "is %q, which has a webhook already", h.Provider)
		}
		secret, err := f.secret(key+".key", h.KeyEnv, h.KeyFile)
		if err != nil {
			return nil, err
		}
		hook := web.Webhook{
			Signature: feedback.Signature{Key: []byte(secret.Reveal()), Header: h.Signature, Prefix: h.Prefix,
				Base64: h.Base64, Timestamp: h.Timestamp},
			Mapping: feedback.Mapping{Each: h.Each, ID: h.ID, Letter: h.Letter, Delivery: h.Delivery, Kind: h.Kind,
				Kinds: h.Kinds, Status: h.Status, Code: h.Code, Text: h.Text, At: h.At},
		}
		if err := report.Signature(hook.Signature).Check(); err != nil {
			return nil, f.wrong(key, "cannot be: %w", err)
		}
		if err := report.Mapping(hook.Mapping).Check(); err != nil {
			return nil, f.wrong(key, "cannot be: %w", err)
		}
		all[h.Provider] = hook
	}
	return all, nil
}

// ListenFeedback opens the listener for bounces and complaints; nil if none is configured.
func (f *File) ListenFeedback() (net.Listener, error) {
	if f.Feedback.Listen == "" {
		return nil, nil
	}
	if f.Feedback.ReturnPath == "" {
		return nil, f.wrong("feedback.listen",
			"needs feedback.return_path: without it no letter can be told by what comes back")
	}
	network, address := "tcp", f.Feedback.Listen
	if path, ok := strings.CutPrefix(address, "unix:"); ok {
		network, address = "unix", path
		if conn, err := net.Dial(network, address); err == nil {
			conn.Close()
		} else if errors.Is(err, syscall.ECONNREFUSED) { // a process that was killed has left it
			os.Remove(address)
		}
	}
	l, err := net.Listen(network, address)
	if err != nil {
		return nil, f.wrong("feedback.listen", "%w; choose another address", err)
	}
	return l, nil
}
