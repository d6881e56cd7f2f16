package web_test

import (
	"net/http"
	"net/netip"
	"testing"

	"github.com/illumicode/illumicode/web"
)

func TestBehind(t *testing.T) {
	proxies := []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("2001:db8:ffff::/48")}
	for _, tt := range []struct {
		name, header, remote string
		fields               []string
		want                 string
	}{
		{"no proxy", "X-Forwarded-For", "203.0.113.7:99", []string{"198.51.100.1"}, "203.0.113.7"},
		{"one", "X-Forwarded-For", "10.0.0.1:99", []string{"198.51.100.1"}, "198.51.100.1"},
		{"a stranger's own words first", "X-Forwarded-For", "10.0.0.1:99", []string{"192.0.2.9, 198.51.100.1"},
			"198.51.100.1"},
		{"two proxies, two fields", "X-Forwarded-For", "10.0.0.1:99", []string{"192.0.2.9, 198.51.100.1", "10.9.9.9"},
			"198.51.100.1"},
		{"nothing said", "X-Forwarded-For", "10.0.0.1:99", nil, "10.0.0.1"},
		{"nonsense at the end", "X-Forwarded-For", "10.0.0.1:99", []string{"198.51.100.1, unknown"}, "10.0.0.1"},
		{"only proxies", "X-Forwarded-For", "10.0.0.1:99", []string{"10.0.0.3, 10.0.0.2"}, "10.0.0.3"},
		{"RFC 7239 §4", "forwarded", "10.0.0.1:99",
			[]string{`for=192.0.2.43, FOR="[2001:db8:cafe::17]:8215";proto=https`}, "2001:db8:cafe::17"},
		{"through IPv6", "Forwarded", "[2001:db8:ffff::1]:99", []string{"for=192.0.2.60;proto=http;by=203.0.113.43"},
			"192.0.2.60"},
		{"obfuscated", "Forwarded", "10.0.0.1:99", []string{"for=_hidden"}, "10.0.0.1"},
	} {
		client, err := web.Behind(tt.header, proxies...)
		if err != nil {
			t.Fatal(err)
		}
		r := &http.Request{RemoteAddr: tt.remote, Header: http.Header{}}
		for _, f := range tt.fields {
			r.Header.Add(tt.header, f)
		}
		other := map[bool]string{true: "Forwarded", false: "X-Forwarded-For"}[tt.header == "X-Forwarded-For"]
		r.Header.Set(other, "for=192.0.2.200") // anybody can write the one that the proxies do not set
		if got := client(r); got != netip.MustParseAddr(tt.want) {
			t.Errorf("%s: %v, want %s", tt.name, got, tt.want)
		}
	}
	if _, err := web.Behind("X-Real-IP"); err == nil {
		t.Error("a field of another kind is taken")
	}
}
