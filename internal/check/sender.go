// Package check looks from outside at whether letters of a sender will be trusted: the records that
// receivers look up. Providers check themselves; see [provider.Checker].
package check

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"golang.org/x/net/publicsuffix"

	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/provider"
)

// A Resolver looks up what [Sender] needs; *net.Resolver is one.
type Resolver interface {
	LookupTXT(ctx context.Context, name string) ([]string, error)
	LookupMX(ctx context.Context, name string) ([]*net.MX, error)
}

// ResolverAt returns a resolver that asks the DNS server at address, such as 127.0.0.1:53, or the
// system's if address is empty.
func ResolverAt(address string) *net.Resolver {
	if address == "" {
		return net.DefaultResolver
	}
	return &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, address)
	}}
}

// A sender is what is being looked at.
type sender struct {
	ctx    context.Context // of the one check
	r      Resolver
	domain string
	steps  []provider.Step
}

// Sender checks the records of a sender's domain: MX, SPF (RFC 7208), the keys that letters are
// signed with (RFC 6376), and DMARC (RFC 7489) with what would align.
func Sender(ctx context.Context, r Resolver, domain string, keys []dkim.Key) []provider.Step {
	s := &sender{ctx: ctx, r: r, domain: domain}
	s.mx()
	spf := s.spf()
	aligned := false
	for _, k := range keys {
		aligned = s.key(k) && organisation(k.Domain) == organisation(domain) || aligned
	}
	if len(keys) == 0 {
		s.note("DKIM", provider.Warning, "no key is configured: letters are unsigned unless the provider signs them",
			"configure [[dkim]], or have the provider sign for this domain", 0)
	}
	s.dmarc(spf, aligned, len(keys) > 0)
	return s.steps
}

// ReturnPath checks the records of the domain that envelopes are from: MX, without which nothing comes
// back, and SPF, which receivers look up for this domain (RFC 7208 §2.4).
func ReturnPath(ctx context.Context, r Resolver, domain string) []provider.Step {
	s := &sender{ctx: ctx, r: r, domain: domain}
	s.mx()
	s.spf()
	return s.steps
}

func (s *sender) note(what string, v provider.Verdict, saw, next string, took time.Duration) {
	s.steps = append(s.steps, provider.Step{What: what, Verdict: v, Saw: saw, Next: next, Took: took})
}

// noResolver is what to do about a lookup that failed.
const noResolver = "see whether this machine can resolve names, or name another DNS server with --resolver"

// txt returns the TXT records at name that begin with a prefix. That there is none is no error.
func (s *sender) txt(name, prefix string) (found []string, took time.Duration, err error) {
	start := time.Now()
	all, err := s.r.LookupTXT(s.ctx, name)
	took = time.Since(start)
	if dns, ok := errors.AsType[*net.DNSError](err); ok {
		err = fmt.Errorf("the lookup of %s failed: %s", name, dns.Err)
		if dns.IsNotFound {
			err = nil
		}
	}
	for _, t := range all {
		if strings.HasPrefix(strings.ToLower(strings.TrimSpace(t)), prefix) {
			found = append(found, t)
		}
	}
	return found, took, err
}

func (s *sender) mx() {
	start := time.Now()
	all, err := s.r.LookupMX(s.ctx, s.domain)
	took := time.Since(start)
	switch {
	case err != nil || len(all) == 0:
		s.note("MX", provider.Warning, "no mail server takes mail for "+s.domain,
			"answers and bounces to the sender are lost; publish an MX record", took)
	case len(all) == 1 && all[0].Host == ".":
		s.note("MX", provider.Failed, s.domain+" says that it takes no mail (RFC 7505)",
			"many receivers refuse letters from such a domain; publish an MX record", took)
	default:
		var hosts []string
		for _, m := range all {
			hosts = append(hosts, strings.TrimSuffix(m.Host, "."))
		}
		s.note("MX", provider.OK, strings.Join(hosts, ", "), "", took)
	}
}

// spf reports whether there is one usable SPF record.
func (s *sender) spf() bool {
	found, took, err := s.txt(s.domain, "v=spf1")
	switch {
	case err != nil:
		s.note("SPF", provider.Failed, err.Error(), noResolver, took)
	case len(found) == 0:
		s.note("SPF", provider.Warning, "no record", "publish a TXT record at "+s.domain+
			" that lists what the provider tells you, such as v=spf1 include:… -all", took)
	case len(found) > 1:
		s.note("SPF", provider.Failed, fmt.Sprintf("%d records: receivers then take none of them (RFC 7208 §4.5)",
			len(found)), "merge them into one", took)
	default:
		fields := strings.Fields(strings.ToLower(found[0]))
		last := fields[len(fields)-1]
		switch {
		case last == "+all" || last == "all":
			s.note("SPF", provider.Failed, found[0], "it lets everybody send in your name; end it with -all", took)
		case last == "?all" || !strings.HasSuffix(last, "all") && !strings.HasPrefix(last, "redirect="):
			s.note("SPF", provider.Warning, found[0], "it says nothing about everybody else; end it with -all", took)
			return true
		default:
			s.note("SPF", provider.OK, found[0], "", took)
			return true
		}
	}
	return false
}

// key compares a published key with the one that signs, and reports whether they are the same.
func (s *sender) key(k dkim.Key) bool {
	what := "DKIM " + k.Selector
	found, took, err := s.txt(k.String(), "")
	want := tagsOf(k.Record())
	switch {
	case err != nil:
		s.note(what, provider.Failed, err.Error(), noResolver, took)
	case len(found) == 0:
		s.note(what, provider.Failed, "nothing is published at "+k.String(), "publish there: "+k.Record(), took)
	default:
		tags := tagsOf(found[0])
		switch p := strings.Join(strings.Fields(tags["p"]), ""); {
		case p == "":
			s.note(what, provider.Failed, "the key at "+k.String()+" is revoked: p is empty",
				"publish the key again, or sign with another selector", took)
		case p != want["p"]:
			s.note(what, provider.Failed, "the key published at "+k.String()+" is not the one that signs",
				"publish there: "+k.Record(), took)
		default:
			s.note(what, provider.OK, "the published key is the one that signs, "+want["k"], "", took)
			return true
		}
	}
	return false
}

// dmarc reads the policy of the domain, or of the organisation it belongs to (RFC 7489 §6.6.3).
func (s *sender) dmarc(spf, aligned, signs bool) {
	at := s.domain
	found, took, err := s.txt("_dmarc."+at, "v=dmarc1")
	if err == nil && len(found) == 0 && organisation(at) != at {
		at = organisation(at)
		found, took, err = s.txt("_dmarc."+at, "v=dmarc1")
	}
	switch {
	case err != nil:
		s.note("DMARC", provider.Failed, err.Error(), noResolver, took)
		return
	case len(found) == 0:
		s.note("DMARC", provider.Warning, "no policy", "publish a TXT record at _dmarc."+organisation(s.domain)+
			", to begin with v=DMARC1; p=none; rua=mailto:…", took)
		return
	case len(found) > 1:
		s.note("DMARC", provider.Failed, fmt.Sprintf("%d records at _dmarc.%s: receivers then take none of them",
			len(found), at), "leave one", took)
		return
	}
	policy := strings.ToLower(tagsOf(found[0])["p"])
	switch {
	case policy != "none" && policy != "quarantine" && policy != "reject":
		s.note("DMARC", provider.Failed, found[0], "p must be none, quarantine or reject", took)
	case aligned:
		s.note("DMARC", provider.OK, "p="+policy+"; the signature aligns with "+s.domain, "", took)
	case signs && policy != "none":
		s.note("DMARC", provider.Failed, "p="+policy+", and no good signature is of "+s.domain,
			"sign with a key of this domain that is published: receivers are asked to "+policy+" the rest", took)
	case spf:
		s.note("DMARC", provider.Warning,
			"p="+policy+"; without a signature of our own it depends on the provider: on its return path and SPF, "+
				"or its signature", "sign with a key of this domain", took)
	default:
		s.note("DMARC", provider.Warning, "p="+policy+"; nothing that we do aligns with "+s.domain,
			"configure [[dkim]] for this domain", took)
	}
}

// organisation returns the domain that was registered: one label under the public suffix.
func organisation(domain string) string {
	org, err := publicsuffix.EffectiveTLDPlusOne(domain)
	if err != nil {
		return domain
	}
	return org
}

// tagsOf reads a tag list (RFC 6376 §3.2).
func tagsOf(record string) map[string]string {
	tags := make(map[string]string)
	for part := range strings.SplitSeq(record, ";") {
		name, value, _ := strings.Cut(part, "=")
		tags[strings.ToLower(strings.TrimSpace(name))] = strings.TrimSpace(value)
	}
	return tags
}
