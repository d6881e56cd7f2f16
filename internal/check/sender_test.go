package check

import (
	"net"
	"strings"
	"testing"

	"golang.org/x/net/dns/dnsmessage"

	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/provider"
)

// A zone is a DNS server on loopback: TXT records by name, and MX hosts.
type zone struct {
	txt map[string][]string
	mx  map[string][]string
}

// serve answers over UDP until the test ends, and returns its address.
func (z zone) serve(t *testing.T) string {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			if answer, err := z.answer(buf[:n]); err == nil {
				conn.WriteTo(answer, from)
			}
		}
	}()
	t.Cleanup(func() { conn.Close(); <-done })
	return conn.LocalAddr().String()
}

func (z zone) answer(query []byte) ([]byte, error) {
	var m dnsmessage.Message
	if err := m.Unpack(query); err != nil || len(m.Questions) != 1 {
		return nil, err
	}
	q := m.Questions[0]
	m.Response, m.Authoritative, m.Additionals = true, true, nil
	name := strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))
	head := dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}
	switch q.Type {
	case dnsmessage.TypeTXT:
		for _, t := range z.txt[name] {
			var parts []string
			for len(t) > 200 { // as long keys are published
				parts, t = append(parts, t[:200]), t[200:]
			}
			m.Answers = append(m.Answers,
				dnsmessage.Resource{Header: head, Body: &dnsmessage.TXTResource{TXT: append(parts, t)}})
		}
	case dnsmessage.TypeMX:
		for _, host := range z.mx[name] {
			to, err := dnsmessage.NewName(host)
			if err != nil {
				return nil, err
			}
			m.Answers = append(m.Answers,
				dnsmessage.Resource{Header: head, Body: &dnsmessage.MXResource{Pref: 10, MX: to}})
		}
	}
	if len(m.Answers) == 0 {
		m.RCode = dnsmessage.RCodeNameError
	}
	return m.Pack()
}

func TestSender(t *testing.T) {
	key, _, err := dkim.GenerateKey("ternisle.example", "pier")
	if err != nil {
		t.Fatal(err)
	}
	record := key.Record()
	const at, keyAt, policyAt = "ternisle.example", "pier._domainkey.ternisle.example", "_dmarc.ternisle.example"
	good := func() zone {
		return zone{txt: map[string][]string{at: {"other=1", "v=spf1 include:relay.example -all"}, keyAt: {record},
			policyAt: {"v=DMARC1; p=reject"}},
			mx: map[string][]string{at: {"mx.ternisle.example."}}}
	}
	for _, tt := range []struct {
		name   string
		spoil  func(zone)
		keys   []dkim.Key
		domain string
		what   string // the step that is looked at; empty means that all are ok
		want   provider.Verdict
		saw    string
	}{
		{"all is well", nil, []dkim.Key{key}, at, "", provider.OK, ""},
		{"a subdomain inherits the policy and aligns", func(z zone) {
			z.txt["mail."+at], z.mx["mail."+at] = z.txt[at], z.mx[at]
		}, []dkim.Key{key}, "mail." + at, "", provider.OK, ""},
		{"no MX", func(z zone) { clear(z.mx) }, []dkim.Key{key}, at, "MX", provider.Warning, "no mail server"},
		{"an MX that takes nothing", func(z zone) { z.mx[at] = []string{"."} }, []dkim.Key{key}, at, "MX",
			provider.Failed, "RFC 7505"},
		{"no SPF", func(z zone) { z.txt[at] = nil }, []dkim.Key{key}, at, "SPF", provider.Warning, "no record"},
		{"two SPF records", func(z zone) { z.txt[at] = []string{"v=spf1 -all", "v=spf1 mx -all"} }, []dkim.Key{key},
			at, "SPF", provider.Failed, "2 records"},
		{"SPF for everybody", func(z zone) { z.txt[at] = []string{"v=spf1 +all"} }, []dkim.Key{key}, at, "SPF",
			provider.Failed, "+all"},
		{"SPF that says nothing", func(z zone) { z.txt[at] = []string{"v=spf1 mx ?all"} }, []dkim.Key{key}, at, "SPF",
			provider.Warning, "?all"},
		{"no key published", func(z zone) { delete(z.txt, keyAt) }, []dkim.Key{key}, at, "DKIM pier", provider.Failed,
			"nothing is published"},
		{"another key published", func(z zone) { z.txt[keyAt] = []string{"v=DKIM1; k=ed25519; p=AAAA"} },
			[]dkim.Key{key}, at, "DKIM pier", provider.Failed, "is not the one that signs"},
		{"a revoked key", func(z zone) { z.txt[keyAt] = []string{"v=DKIM1; p="} }, []dkim.Key{key}, at, "DKIM pier",
			provider.Failed, "revoked"},
		{"a policy that nothing meets", func(z zone) { delete(z.txt, keyAt) }, []dkim.Key{key}, at, "DMARC",
			provider.Failed, "no good signature"},
		{"unsigned under a policy", nil, nil, at, "DMARC", provider.Warning, "depends on the provider"},
		{"unsigned", nil, nil, at, "DKIM", provider.Warning, "no key is configured"},
		{"no policy", func(z zone) { delete(z.txt, policyAt) }, []dkim.Key{key}, at, "DMARC", provider.Warning,
			"no policy"},
		{"a policy that is none", func(z zone) { z.txt[policyAt] = []string{"v=DMARC1; p=maybe"} }, []dkim.Key{key},
			at, "DMARC", provider.Failed, "maybe"},
	} {
		z := good()
		if tt.spoil != nil {
			tt.spoil(z)
		}
		steps := Sender(t.Context(), ResolverAt(z.serve(t)), tt.domain, tt.keys)
		found := tt.what == ""
		for _, s := range steps {
			if tt.what == "" && s.Verdict != provider.OK {
				t.Errorf("%s: %+v", tt.name, s)
			}
			if s.What == tt.what {
				found = true
				if s.Verdict != tt.want || !strings.Contains(s.Saw, tt.saw) || s.Next == "" {
					t.Errorf("%s: %+v, want %s with %q and what to do next", tt.name, s, tt.want, tt.saw)
				}
			}
		}
		if !found || len(steps) < 4 {
			t.Errorf("%s: no step %q in %+v", tt.name, tt.what, steps)
		}
	}
	var _ Resolver = ResolverAt("")
}
