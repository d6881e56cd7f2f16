package judge

import "net/netip"

// FairPlaces are how many letters of a day the networks of strangers share at one address, beside what the rules let
// through: a network that has had few gets one even when others have used up all. It loses its place to networks that
// have had fewer.
const FairPlaces = 10

// Fair reports whether one more letter is within the share of a network, when networks have had so many: an IPv4
// address, or an IPv6 /64. Networks beside each other, in a /24 or a /48, have one share between them, and share it
// alike. The share is the largest by which all that want more get the same (max-min fairness). Nobody gets more by it
// than another has had.
func Fair(places int, had map[string]int, network string) bool {
	mine := wide(network)
	if mine == "" {
		return false
	}
	groups, inside := make(map[string]int), make(map[string]int)
	for one, n := range had {
		group := wide(one)
		groups[group] += n
		if group == mine {
			inside[one] += n
		}
	}
	return behind(groups, mine) && within(places, groups, mine) && within(places, inside, network)
}

// within reports whether one more for mine is within its share.
func within(places int, had map[string]int, mine string) bool {
	want := had[mine] + 1
	taken := want
	for other, n := range had {
		if other != mine {
			taken += min(n, want)
		}
	}
	return taken <= places
}

// behind reports whether another has had more than mine.
func behind(had map[string]int, mine string) bool {
	for other, n := range had {
		if other != mine && n > had[mine] {
			return true
		}
	}
	return false
}

// wide returns the /24 or /48 of a network, "" for none.
func wide(network string) string {
	if p, err := netip.ParsePrefix(network); err == nil {
		if p, err = p.Addr().Prefix(min(48, p.Bits())); err == nil {
			return p.String()
		}
	}
	a, err := netip.ParseAddr(network)
	if err != nil {
		return ""
	}
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return ""
	}
	return p.String()
}

// MostFair returns how many letters networks get in this way at the most, however many there are.
func MostFair(places int) (n int) {
	for networks := 2; networks <= places; networks++ {
		n += places / networks
	}
	return n
}
