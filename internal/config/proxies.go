package config

import (
	"net/http"
	"net/netip"

	"github.com/illumicode/illumicode/web"
)

// Client returns what tells where a request came from, behind the proxies of serve.proxies; nil, for
// the address of the connection, without any.
func (f *File) Client() (func(r *http.Request) netip.Addr, error) {
	if len(f.Serve.Proxies) == 0 {
		if f.Serve.Forwarded != "" {
			return nil, f.wrong("serve.forwarded",
				"is given, and serve.proxies is not: anybody could write the field; list the networks of your proxies")
		}
		return nil, nil
	}
	var trusted []netip.Prefix
	for _, text := range f.Serve.Proxies {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			a, addrErr := netip.ParseAddr(text)
			if addrErr != nil {
				return nil, f.wrong("serve.proxies", "has %q, which is no network such as 10.0.0.0/8, and no address",
					text)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		trusted = append(trusted, p)
	}
	client, err := web.Behind(f.Serve.Forwarded, trusted...)
	if err != nil {
		return nil, f.wrong("serve.forwarded", "%w", err)
	}
	return client, nil
}
