package address

import "net/netip"

// special are the blocks of IANA's special-purpose address registries (RFC 6890; as of 1 December
// 2026) that are not globally reachable, and what else stands for an address inside: multicast, and the forms
// in which IPv6 carries IPv4. What a block excepts follows it.
var special = []struct {
	block   netip.Prefix
	reached bool
}{
	{netip.MustParsePrefix("0.0.0.0/8"), false},       // this network (RFC 791)
	{netip.MustParsePrefix("10.0.0.0/8"), false},      // private (RFC 1918)
	{netip.MustParsePrefix("100.64.0.0/10"), false},   // shared between carriers and customers (RFC 6598)
	{netip.MustParsePrefix("127.0.0.0/8"), false},     // loopback (RFC 1122)
	{netip.MustParsePrefix("169.254.0.0/16"), false},  // link-local (RFC 3927)
	{netip.MustParsePrefix("172.16.0.0/12"), false},   // private (RFC 1918)
	{netip.MustParsePrefix("192.0.0.0/24"), false},    // protocol assignments (RFC 6890)
	{netip.MustParsePrefix("192.0.0.9/32"), true},     // port control anycast (RFC 7723)
	{netip.MustParsePrefix("192.0.0.10/32"), true},    // relay anycast (RFC 8155)
	{netip.MustParsePrefix("192.0.2.0/24"), false},    // documentation (RFC 5737)
	{netip.MustParsePrefix("192.88.99.0/24"), false},  // 6to4 relays (RFC 7526)
	{netip.MustParsePrefix("192.168.0.0/16"), false},  // private (RFC 1918)
	{netip.MustParsePrefix("198.18.0.0/15"), false},   // benchmarks (RFC 2544)
	{netip.MustParsePrefix("198.51.100.0/24"), false}, // documentation (RFC 5737)
	{netip.MustParsePrefix("203.0.113.0/24"), false},  // documentation (RFC 5737)
	{netip.MustParsePrefix("224.0.0.0/4"), false},     // multicast (RFC 5771)
	{netip.MustParsePrefix("240.0.0.0/4"), false},     // reserved, and broadcast (RFC 1112, RFC 8190)

	{netip.MustParsePrefix("::/0"), false},           // but global unicast:
	{netip.MustParsePrefix("2000::/3"), true},        // RFC 4291, 2.4
	{netip.MustParsePrefix("2001::/23"), false},      // protocol assignments, Teredo among them (RFC 2928, RFC 4380)
	{netip.MustParsePrefix("2001:1::1/128"), true},   // port control anycast (RFC 7723)
	{netip.MustParsePrefix("2001:1::2/128"), true},   // relay anycast (RFC 8155)
	{netip.MustParsePrefix("2001:1::3/128"), true},   // service registration anycast (RFC 9665)
	{netip.MustParsePrefix("2001:3::/32"), true},     // multicast tunnels (RFC 7450)
	{netip.MustParsePrefix("2001:4:112::/48"), true}, // AS112 (RFC 7535)
	{netip.MustParsePrefix("2001:20::/28"), true},    // ORCHIDv2 (RFC 7343)
	{netip.MustParsePrefix("2001:30::/28"), true},    // drones (RFC 9374)
	{netip.MustParsePrefix("2001:db8::/32"), false},  // documentation (RFC 3849)
	{netip.MustParsePrefix("2002::/16"), false},      // 6to4, which carries IPv4 (RFC 3056)
	{netip.MustParsePrefix("3fff::/20"), false},      // documentation (RFC 9637)
}

// nat64 is how IPv6 reaches IPv4 where there is a translator (RFC 6052).
var nat64 = netip.MustParsePrefix("64:ff9b::/96")

// Private reports whether an IP address is none that the public internet reaches, also where an IPv6
// address stands for an IPv4 address that is none.
func Private(ip netip.Addr) bool {
	ip = ip.Unmap().WithZone("")
	if nat64.Contains(ip) {
		b := ip.As16()
		ip = netip.AddrFrom4([4]byte(b[12:]))
	}
	if !ip.IsValid() {
		return true
	}
	private := false
	for _, s := range special {
		if s.block.Contains(ip) {
			private = !s.reached
		}
	}
	return private
}
