package dkim

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

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

// covered lists the fields that a signature covers, each once more than a message of package message
// has it, so that nobody on the way can add one without breaking the signature (RFC 6376 §5.4.2, §8.15).
// The two of RFC 8058 §4 are among them.
var covered = twice("From", "To", "Cc", "Reply-To", "Subject", "Date", "Message-ID", "In-Reply-To", "References",
	"MIME-Version", "Content-Type", "Auto-Submitted", "List-Unsubscribe", "List-Unsubscribe-Post")

func twice(names ...string) (all []string) {
	for _, name := range names {
		all = append(all, name, name)
	}
	return all
}

// writers gather what is signed: each write crosses a pipe to another goroutine.
var writers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, 32<<10) }}

// Sign returns the DKIM-Signature fields of a message, to be put in front of it. It reads the message
// once for each key. A signature holds the second in which it was made, so two of one message differ:
// keep the first. Header fields are made relaxed, the body simple (RFC 6376 §3.4).
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

func (k Key) sign(message io.WriterTo) (field string, err error) {
	signer, err := msgdkim.NewSigner(&msgdkim.SignOptions{
		Domain: k.Domain, Selector: k.Selector, Signer: k.private, HeaderKeys: covered,
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
