package definition

import (
	"fmt"
	"net/netip"
)

// NetworkSpec is a network that addresses on a path may lie in: ours, or a named provider's.
type NetworkSpec struct {
	Name     string   `json:"name" minLength:"1" maxLength:"80"`
	Ours     bool     `json:"ours,omitempty" doc:"It is our own"`
	Prefixes []string `json:"prefixes" minItems:"1" doc:"Address ranges such as 198.18.0.0/15 or fd77::/16; a single address stands for itself"`
	Note     string   `json:"note,omitempty" maxLength:"2000"`
}

// Validate of a network.
func (n NetworkSpec) Validate() error {
	if err := called("name", n.Name); err != nil {
		return err
	}
	if len(n.Prefixes) == 0 {
		return fault("prefixes", "a network needs at least one range of addresses")
	}
	for i, p := range n.Prefixes {
		if _, err := prefix(p); err != nil {
			return fault(fmt.Sprintf("prefixes[%d]", i), "%q is no range of addresses; write it as 198.18.0.0/15 or fd77::/16", p)
		}
	}
	return nil
}

func prefix(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return a.Prefix(a.BitLen())
	}
	return netip.ParsePrefix(text)
}

// NetworkOf names the network that an address lies in: the one with the longest
// range that holds it. It is empty where none does.
func NetworkOf(networks []NetworkSpec, address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return ""
	}
	name, longest := "", -1
	for _, n := range networks {
		for _, text := range n.Prefixes {
			if p, err := prefix(text); err == nil && p.Contains(a) && p.Bits() > longest {
				name, longest = n.Name, p.Bits()
			}
		}
	}
	return name
}
