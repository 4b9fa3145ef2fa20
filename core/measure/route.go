package measure

import (
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"math"
	"slices"
)

// Route is the addresses at each distance along a path. A distance at which
// nobody answered is empty: it is unknown, and equal to any.
type Route struct {
	Hops    [][]string
	Reached bool // the last hop is the target
}

// RouteChanged stands in the detail of a measurement before how its route differs.
const RouteChanged = "the route changed: "

// Differs says in words how a later route differs from r, as far as both are
// known; empty when they agree.
func (r Route) Differs(later Route) string {
	for i := range min(len(r.Hops), len(later.Hops)) {
		a, b := r.Hops[i], later.Hops[i]
		if len(a) > 0 && len(b) > 0 && !slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) }) {
			return fmt.Sprintf("hop %d was %s and is %s", i+1, a[0], b[0])
		}
	}
	if r.Reached && later.Reached && len(r.Hops) != len(later.Hops) {
		return fmt.Sprintf("the target was %d hops away and is %d", len(r.Hops), len(later.Hops))
	}
	return ""
}

// Joined is what is known after a later look at a route that does not differ:
// a hop that is silent this time keeps the address it had.
func (r Route) Joined(later Route) Route {
	out := later
	if !later.Reached && len(r.Hops) > len(later.Hops) {
		out = Route{Hops: append(slices.Clone(later.Hops), r.Hops[len(later.Hops):]...), Reached: r.Reached}
	} else {
		out.Hops = slices.Clone(later.Hops)
	}
	for i := range min(len(r.Hops), len(later.Hops)) {
		if len(out.Hops[i]) == 0 {
			out.Hops[i] = r.Hops[i]
		}
	}
	return out
}

// fingerprintBits is as many as the stored values, single-precision numbers, hold exactly.
const fingerprintBits = 24

// Fingerprint is a whole number from 0 to 2^24 − 1 that equal routes share.
func (r Route) Fingerprint() uint32 {
	h := fnv.New32a()
	for i, hop := range r.Hops {
		if len(hop) > 0 {
			h.Write(binary.BigEndian.AppendUint16(nil, uint16(i)))
			h.Write([]byte(slices.Min(hop)))
		}
	}
	sum := h.Sum32()
	return sum>>fingerprintBits ^ sum&(1<<fingerprintBits-1)
}

// Held says, of the fingerprints of looks at a route, newest first, which look is the
// oldest of those on which the latest route was seen without a break, and which route
// there was before. NaN is a look that found no route, and breaks nothing. before is NaN
// where all looks saw the latest one; since is −1 where none saw any.
func Held(looks []float64) (since int, before float64) {
	since, before = -1, math.NaN()
	now := math.NaN()
	for i, route := range looks {
		switch {
		case math.IsNaN(route):
		case math.IsNaN(now) || route == now:
			now, since = route, i
		default:
			return since, route
		}
	}
	return since, before
}
