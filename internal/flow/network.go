package flow

import (
	"context"
	"net/netip"
)

// networkKey is the context key of where a request came from.
type networkKey struct{}

// FromNetwork returns a context that names the network of a client: an IPv4 address, or an IPv6 /64.
func FromNetwork(ctx context.Context, client netip.Addr) context.Context {
	client = client.Unmap().WithZone("")
	name := client.String()
	if client.Is6() {
		if p, err := client.Prefix(64); err == nil {
			name = p.String()
		}
	}
	return context.WithValue(ctx, networkKey{}, name)
}

// Network returns what FromNetwork has said, or "".
func Network(ctx context.Context) string {
	name, _ := ctx.Value(networkKey{}).(string)
	return name
}
