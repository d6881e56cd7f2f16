package dkim

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"io"
	"strconv"
	"strings"
	"time"
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

// covered lists the fields that a signature covers. Each is listed once more than the message has it,
// so that nobody on the way can add one without breaking the signature (RFC 6376 §5.4.2, §8.15). The two
// of RFC 8058 §4 are among them.
var covered = []string{"From", "To", "Cc", "Reply-To", "Subject", "Date", "Message-ID", "In-Reply-To", "References",
	"MIME-Version", "Content-Type", "Auto-Submitted", "List-Unsubscribe", "List-Unsubscribe-Post"}

// Sign returns the DKIM-Signature fields of a message, to be put in front of it, which say that it was
// signed at now. The message has CRLF line ends, as package message writes them, and is read once.
// Header fields are made relaxed, the body simple (RFC 6376 §3.4).
func (s *Signer) Sign(message io.WriterTo, now time.Time) (fields string, err error) {
	body := bodyHash{sum: sha256.New()}
	if _, err := message.WriteTo(&body); err != nil {
		return "", fmt.Errorf("dkim: %w", err)
	}
	if !body.begun {
		return "", errors.New("dkim: the message has no empty line that ends its header")
	}
	names, headers := pick(body.header)
	common := make([]byte, 0, 512)
	common = append(common, "\r\n t="+strconv.FormatInt(now.Unix(), 10)+"; h="...)
	common = append(common, names...)
	common = append(common, ";\r\n bh="+base64.StdEncoding.EncodeToString(body.end())+";\r\n b="...)
	var all []byte
	for _, k := range s.keys {
		start := len(all)
		all = append(all, k.opening()...)
		all = append(all, common...)
		body.sum.Reset()
		body.sum.Write(headers)
		body.sum.Write(relaxed(nil, all[start:])) // it signs itself, without what is to come, nor a line end
		signature, err := k.sign(body.sum.Sum(nil))
		if err != nil {
			return "", fmt.Errorf("dkim: key %v: %w", k, err)
		}
		all = appendFolded(all, signature)
	}
	return string(all), nil
}

// opening returns what a signature field begins with.
func (k Key) opening() string {
	algorithm := "rsa-sha256"
	if _, ok := k.private.(ed25519.PrivateKey); ok {
		algorithm = "ed25519-sha256"
	}
	return "DKIM-Signature: v=1; a=" + algorithm + "; c=relaxed/simple;\r\n d=" + k.Domain + "; s=" + k.Selector + ";"
}

// sign signs a SHA-256 digest: Ed25519 signs it like any message (RFC 8463 §3).
func (k Key) sign(digest []byte) ([]byte, error) {
	if _, ok := k.private.(ed25519.PrivateKey); ok {
		return k.private.Sign(nil, digest, crypto.Hash(0))
	}
	return k.private.Sign(nil, digest, crypto.SHA256)
}

// appendFolded appends a signature in base64, in lines that a header can hold, and ends the field.
func appendFolded(b, signature []byte) []byte {
	const line = 72
	for text := base64.StdEncoding.EncodeToString(signature); ; text = text[line:] {
		if len(text) <= line {
			return append(append(b, text...), "\r\n"...)
		}
		b = append(append(b, text[:line]...), "\r\n "...)
	}
}

// pick returns the names for h=, folded, and the fields that they name, relaxed. Of several fields of a
// name the last counts first (RFC 6376 §5.4.2).
func pick(header []byte) (names string, fields []byte) {
	var list strings.Builder
	fields = make([]byte, 0, len(header))
	column := len(" t=1795845347; h=")
	all := split(header)
	for _, name := range covered {
		times := 1
		for i := len(all) - 1; i >= 0; i-- {
			if colon := bytes.IndexByte(all[i], ':'); colon == len(name) && bytes.EqualFold(all[i][:colon], []byte(name)) {
				fields = append(relaxed(fields, all[i]), "\r\n"...)
				times++
			}
		}
		for range times {
			if list.Len() > 0 {
				list.WriteByte(':')
			}
			if column += len(name) + 1; column > 76 {
				list.WriteString("\r\n ")
				column = len(" :") + len(name)
			}
			list.WriteString(name)
		}
	}
	return list.String(), fields
}

// split cuts a header into its fields, each with the lines that continue it.
func split(header []byte) [][]byte {
	all := make([][]byte, 0, 16)
	for start, at := 0, 0; at < len(header); {
		end := bytes.Index(header[at:], []byte("\r\n"))
		if end < 0 {
			end = len(header) - at - 2
		}
		at += end + 2
		if at >= len(header) || header[at] != ' ' && header[at] != '\t' {
			all = append(all, header[start:min(at, len(header))])
			start = at
		}
	}
	return all
}

// relaxed appends a field as RFC 6376 §3.4.2 wants it signed, without its line end: the name in lower
// case, lines joined, white space made single spaces, none around the colon nor at the end.
func relaxed(b, field []byte) []byte {
	colon := bytes.IndexByte(field, ':')
	b = append(b, bytes.ToLower(bytes.TrimRight(field[:colon], " \t"))...)
	b = append(b, ':')
	space := false
	value := len(b)
	for _, c := range field[colon+1:] {
		switch c {
		case ' ', '\t', '\r', '\n':
			space = true
		default:
			if space && len(b) > value {
				b = append(b, ' ')
			}
			space = false
			b = append(b, c)
		}
	}
	return b
}

// A bodyHash is written a message, keeps its header, and hashes its body made simple (RFC 6376
// §3.4.3): the empty lines at its end do not count, and it ends with a line end.
type bodyHash struct {
	header []byte // up to the empty line, then without it
	begun  bool   // the body has
	sum    hash.Hash
	tail   []byte // line ends that were written last, not yet hashed
}

func (h *bodyHash) Write(p []byte) (int, error) {
	n := len(p)
	if !h.begun {
		from := max(0, len(h.header)-3) // the empty line may come in pieces
		h.header = append(h.header, p...)
		end := bytes.Index(h.header[from:], []byte("\r\n\r\n"))
		if end < 0 {
			return n, nil
		}
		end += from + 2
		p = p[len(p)-(len(h.header)-end-2):]
		h.header, h.begun = h.header[:end], true
	}
	if text := len(bytes.TrimRight(p, "\r\n")); text > 0 {
		h.sum.Write(h.tail)
		h.sum.Write(p[:text])
		h.tail, p = h.tail[:0], p[text:]
	}
	h.tail = append(h.tail, p...)
	return n, nil
}

// end returns the hash of what was written.
func (h *bodyHash) end() []byte {
	if !bytes.HasPrefix(h.tail, []byte("\r\n")) {
		h.sum.Write(h.tail)
	}
	h.sum.Write([]byte("\r\n"))
	return h.sum.Sum(nil)
}
