package web

import (
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// Behind returns a Client for [Options] and [APIOptions] of an application behind proxies: where a
// request came from, as the outermost of the trusted proxies has seen it. header is the one field that
// these proxies set, Forwarded (RFC 7239) or X-Forwarded-For; what anybody else writes into it is not
// read, and the other field never is. Fields are read from their end: what stands before the first
// address that is no trusted proxy's was written by a stranger.
func Behind(header string, trusted ...netip.Prefix) (func(r *http.Request) netip.Addr, error) {
	header = http.CanonicalHeaderKey(header)
	if header != "Forwarded" && header != "X-Forwarded-For" {
		return nil, fmt.Errorf(
			"web: proxies tell where a request came from in Forwarded or X-Forwarded-For, not in %q; name the one "+
				"that yours set", header)
	}
	ours := func(a netip.Addr) bool {
		return slices.ContainsFunc(trusted, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	return func(r *http.Request) netip.Addr {
		at, err := netip.ParseAddrPort(r.RemoteAddr)
		if err != nil {
			return netip.Addr{}
		}
		client := at.Addr().Unmap()
		hops := strings.Split(strings.Join(r.Header.Values(header), ","), ",")
		for _, hop := range slices.Backward(hops) {
			if !ours(client) {
				break
			}
			if header == "Forwarded" {
				hop = forNode(hop)
			}
			next, ok := node(hop)
			if !ok {
				break // the nearest that is known
			}
			client = next
		}
		return client
	}, nil
}

// forNode returns the node of the for parameter in an element of Forwarded (RFC 7239 §4).
func forNode(element string) string {
	for pair := range strings.SplitSeq(element, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
		if strings.EqualFold(name, "for") {
			return strings.Trim(value, `"`)
		}
	}
	return ""
}

// node reads an address, with a port or without, IPv6 in brackets or without (RFC 7239 §6).
func node(s string) (netip.Addr, bool) {
	s = strings.TrimSpace(s)
	if a, err := netip.ParseAddrPort(s); err == nil {
		return a.Addr().Unmap().WithZone(""), true
	}
	a, err := netip.ParseAddr(strings.TrimSuffix(strings.TrimPrefix(s, "["), "]"))
	return a.Unmap().WithZone(""), err == nil
}
