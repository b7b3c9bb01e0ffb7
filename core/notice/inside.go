package notice

import (
	"errors"
	"fmt"
	"net/netip"
)

// ErrInside says that an address is one of the inside, which nobody is told anything at.
var ErrInside = errors.New("it is an address of the inside")

// inside are the networks that are no part of the public internet: the special-purpose registries of RFC 6890 and
// after.
var inside = prefixes("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12",
	"192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "192.168.0.0/16", "198.18.0.0/15", "198.51.100.0/24",
	"203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
	"::/96", "::1/128", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "3fff::/20", "5f00::/16", "fc00::/7",
	"fe80::/10", "fec0::/10", "ff00::/8")

func prefixes(texts ...string) []netip.Prefix {
	out := make([]netip.Prefix, len(texts))
	for i, t := range texts {
		out[i] = netip.MustParsePrefix(t)
	}
	return out
}

var (
	translated = netip.MustParsePrefix("64:ff9b::/96") // NAT64, RFC 6052
	sixToFour  = netip.MustParsePrefix("2002::/16")    // RFC 3056
)

// Reachable says why an address is not to be told anything: ErrInside; nil: it may be. Addresses that carry one of IPv4
// within are judged by both. allowed are networks of the inside that whoever runs the service has let in.
func Reachable(a netip.Addr, allowed []netip.Prefix) error {
	a = a.WithZone("")
	for _, p := range allowed {
		if p.Contains(a) || p.Contains(a.Unmap()) {
			return nil
		}
	}
	a = a.Unmap()
	for _, p := range inside {
		if p.Contains(a) {
			return fmt.Errorf("%s: %w", a, ErrInside)
		}
	}
	if within, carries := carried(a); carries {
		if err := Reachable(within, nil); err != nil {
			return fmt.Errorf("%s carries %w", a, err)
		}
	}
	return nil
}

// carried is the address of IPv4 that one of IPv6 leads to.
func carried(a netip.Addr) (netip.Addr, bool) {
	if !a.Is6() {
		return netip.Addr{}, false
	}
	b := a.As16()
	switch {
	case translated.Contains(a):
		return netip.AddrFrom4([4]byte(b[12:])), true
	case sixToFour.Contains(a):
		return netip.AddrFrom4([4]byte(b[2:6])), true
	}
	return netip.Addr{}, false
}
