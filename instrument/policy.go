package instrument

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// Policy says which addresses may be measured. It is the agent owner's, not the
// server's: whoever defines checks cannot change it. The rule with the longest
// prefix that holds an address decides; of equal ones, what the owner said goes
// before what goes without saying, and forbidding before allowing.
type Policy struct{ rules []rule }

type rule struct {
	prefix netip.Prefix
	allow  bool
	what   string // of a rule that goes without saying
}

// unsaid are the rules that go without saying: what is behind these addresses is
// the agent's own machine or its surroundings, and never a service that somebody
// answers for (RFC 6890).
var unsaid = []rule{
	{prefix: netip.MustParsePrefix("127.0.0.0/8"), what: "loopback"},
	{prefix: netip.MustParsePrefix("::1/128"), what: "loopback"},
	{prefix: netip.MustParsePrefix("0.0.0.0/8"), what: "the machine itself"},
	{prefix: netip.MustParsePrefix("::/128"), what: "the machine itself"},
	{prefix: netip.MustParsePrefix("169.254.0.0/16"), what: "link-local"},
	{prefix: netip.MustParsePrefix("fe80::/10"), what: "link-local"},
	{prefix: netip.MustParsePrefix("224.0.0.0/4"), what: "multicast"},
	{prefix: netip.MustParsePrefix("ff00::/8"), what: "multicast"},
	{prefix: netip.MustParsePrefix("255.255.255.255/32"), what: "broadcast"},
	// Where rented machines are told their own credentials.
	{prefix: netip.MustParsePrefix("fd00:ec2::254/128"), what: "the machine's metadata"},
	{prefix: netip.MustParsePrefix("fd20:ce::254/128"), what: "the machine's metadata"},
	{prefix: netip.MustParsePrefix("100.100.100.200/32"), what: "the machine's metadata"},
	{prefix: netip.MustParsePrefix("192.0.0.192/32"), what: "the machine's metadata"},
	{prefix: netip.MustParsePrefix("168.63.129.16/32"), what: "the machine's metadata"},
}

// loopback are the addresses that stay on the machine.
var loopback = []string{"127.0.0.0/8", "::1/128"}

// NewPolicy is the usual policy with what the owner allows and forbids: prefixes
// such as 198.18.0.0/15, or single addresses. Without any, everything may be
// measured but the machine itself, its link and its metadata.
func NewPolicy(allow, forbid []string) (*Policy, error) {
	p := &Policy{}
	for _, list := range []struct {
		texts []string
		allow bool
	}{{forbid, false}, {allow, true}} {
		for _, text := range list.texts {
			prefix, err := prefixOf(text)
			if err != nil {
				return nil, err
			}
			p.rules = append(p.rules, rule{prefix: prefix, allow: list.allow})
		}
	}
	p.rules = append(p.rules, unsaid...) // the first of equal ones decides
	return p, nil
}

// LocalPolicy is the usual policy for somebody who measures by hand from a
// machine of their own: that one may be measured too.
func LocalPolicy() *Policy {
	p, _ := NewPolicy(loopback, nil)
	return p
}

func prefixOf(text string) (netip.Prefix, error) {
	text = strings.TrimSpace(text)
	if addr, err := netip.ParseAddr(text); err == nil && addr.Zone() == "" {
		addr = addr.Unmap()
		return netip.PrefixFrom(addr, addr.BitLen()), nil
	}
	prefix, err := netip.ParsePrefix(text)
	if err != nil || prefix.Addr().Is4In6() {
		return netip.Prefix{}, fmt.Errorf("%q is no range of addresses; write it as 198.18.0.0/15, 2001:db8::/32 or a single address", text)
	}
	return prefix.Masked(), nil
}

// errForbidden is a target that the owner's policy refuses.
type errForbidden struct {
	addr, inner netip.Addr
	by          rule
}

func (e *errForbidden) Error() string {
	what := cmp.Or(e.by.what, e.by.prefix.String())
	at := e.addr.String()
	if e.inner != e.addr {
		at += " (which is " + e.inner.String() + ")"
	}
	return fmt.Sprintf("the agent's policy forbids targets such as %s: %s; its owner may start it with --allow %s", at, what, e.inner)
}

// Refuses says what an address is that the policy refuses, such as link-local or a prefix
// that its owner forbade; "" for one that it allows.
func (p *Policy) Refuses(addr netip.Addr) string {
	var no *errForbidden
	if !errors.As(p.allowed(addr), &no) {
		return ""
	}
	return cmp.Or(no.by.what, no.by.prefix.String())
}

// allowed says whether an address may be measured, in whatever form it is
// written: with a zone, or as an IPv4 address within an IPv6 one.
func (p *Policy) allowed(addr netip.Addr) error {
	forms := []netip.Addr{addr.WithZone("").Unmap()}
	if inner, is := within(forms[0]); is {
		forms = append(forms, inner)
	}
	for _, form := range forms {
		var decides *rule
		for i, r := range p.rules {
			if r.prefix.Contains(form) && (decides == nil || r.prefix.Bits() > decides.prefix.Bits()) {
				decides = &p.rules[i]
			}
		}
		if decides != nil && !decides.allow {
			return &errForbidden{addr, form, *decides}
		}
	}
	return nil
}

// within is the IPv4 address that an IPv6 address stands for, where the network
// takes it there: IPv4-compatible (RFC 4291 §2.5.5.1), behind a translator (RFC
// 6052 §2.2, RFC 8215), 6to4 (RFC 3056), Teredo (RFC 4380 §4) or ISATAP (RFC 5214 §6.1).
func within(addr netip.Addr) (netip.Addr, bool) {
	if !addr.Is6() {
		return addr, false
	}
	b := addr.As16()
	four := func(a, b, c, d byte) (netip.Addr, bool) { return netip.AddrFrom4([4]byte{a, b, c, d}), true }
	high, low := binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])
	switch {
	case high == 0 && low>>32 == 0 && low > 1:
		return four(b[12], b[13], b[14], b[15])
	case high == 0x0064_ff9b_0000_0000 && low>>32 == 0:
		return four(b[12], b[13], b[14], b[15])
	case high>>16 == 0x0064_ff9b_0001:
		// The local prefix may be of any length: /96 and /48 are the usual ones.
		if low>>32 == 0 && high&0xffff == 0 {
			return four(b[12], b[13], b[14], b[15])
		}
		return four(b[6], b[7], b[9], b[10])
	case b[0] == 0x20 && b[1] == 0x02:
		return four(b[2], b[3], b[4], b[5])
	case high>>32 == 0x2001_0000:
		return four(^b[12], ^b[13], ^b[14], ^b[15])
	case b[8]&^2 == 0 && b[9] == 0 && b[10] == 0x5e && b[11] == 0xfe:
		return four(b[12], b[13], b[14], b[15])
	}
	return addr, false
}
