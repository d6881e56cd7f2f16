package dkim

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	msgdkim "github.com/emersion/go-msgauth/dkim"
)

// A Signer signs with one key or several: one signature each, so that a receiver that knows no
// Ed25519 still finds an RSA one. It is immutable and safe for concurrent use.
type Signer struct{ keys []Key }

// New returns a signer with these keys, of which there is at least one.
func New(keys ...Key) (*Signer, error) {
	if len(keys) == 0 {
		return nil, errors.New("dkim: no key to sign with")
	}
	return &Signer{keys: keys}, nil
}

// Keys returns the keys.
func (s *Signer) Keys() []Key { return append([]Key(nil), s.keys...) }

// covered are the fields that a signature covers. The two of RFC 8058 §4 are among them.
var covered = []string{"From", "To", "Cc", "Reply-To", "Subject", "Date", "Message-ID", "In-Reply-To", "References",
	"MIME-Version", "Content-Type", "Auto-Submitted", "List-Unsubscribe", "List-Unsubscribe-Post"}

// cover lists covered fields, each once more than a message has it, so that nobody on the way can add one without
// breaking the signature (RFC 6376 §5.4.2, §8.15).
func cover(message io.WriterTo) ([]string, error) {
	var h header
	if _, err := message.WriteTo(&h); err != nil && !errors.Is(err, errHeader) {
		return nil, err
	}
	names := make([]string, 0, 2*len(covered))
	names = append(names, covered...)
	for line := range bytes.Lines(h.bytes) {
		name, _, field := bytes.Cut(line, []byte(":"))
		if !field { // the empty line, or one that goes on
			continue
		}
		for _, one := range covered {
			if len(name) == len(one) && strings.EqualFold(string(name), one) {
				names = append(names, one)
			}
		}
	}
	return names, nil
}

// A header is what a message begins with, up to the empty line.
type header struct{ bytes []byte }

// errHeader ends the writing of a message whose header was read.
var errHeader = errors.New("dkim: this was the header")

func (h *header) Write(b []byte) (int, error) {
	h.bytes = append(h.bytes, b...)
	if end := bytes.Index(h.bytes, []byte("\r\n\r\n")); end >= 0 {
		h.bytes = h.bytes[:end]
		return len(b), errHeader
	}
	return len(b), nil
}

// writers gather what is signed: each write crosses a pipe to another goroutine.
var writers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 32<<10) }}

// Sign returns the DKIM-Signature fields of a message, to be put in front of it. It reads the message
// once for each key, and its header once more. A signature holds the second in which it was made, so two of one
// message differ: keep the first. It expires after 14 days (RFC 6376 §3.5, x=). Header fields are made relaxed, the
// body simple (RFC 6376 §3.4).
func (s *Signer) Sign(message io.WriterTo) (fields string, err error) {
	var all strings.Builder
	for _, k := range s.keys {
		field, err := k.sign(message)
		if err != nil {
			return "", fmt.Errorf("dkim: key %v: %w", k, err)
		}
		all.WriteString(field)
	}
	return all.String(), nil
}

// expires is how long a signature is good: longer than retries and relays take together, and not so long that a letter
// can be sent again for ever.
const expires = 14 * 24 * time.Hour

func (k Key) sign(message io.WriterTo) (field string, err error) {
	names, err := cover(message)
	if err != nil {
		return "", err
	}
	signer, err := msgdkim.NewSigner(&msgdkim.SignOptions{
		Domain: k.Domain, Selector: k.Selector, Signer: k.private, HeaderKeys: names,
		Expiration:             time.Now().Add(expires),
		HeaderCanonicalization: msgdkim.CanonicalizationRelaxed, BodyCanonicalization: msgdkim.CanonicalizationSimple,
	})
	if err != nil {
		return "", err
	}
	w := writers.Get().(*bufio.Writer)
	defer writers.Put(w)
	w.Reset(signer)
	_, err = message.WriteTo(w)
	if err == nil {
		err = w.Flush()
	}
	if closed := signer.Close(); err == nil { // it ends its goroutine, whatever went wrong before
		err = closed
	}
	if err != nil {
		return "", err
	}
	return signer.Signature(), nil
}
