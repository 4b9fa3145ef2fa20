package topology

import (
	"fmt"
	"math"

	"gonum.org/v1/gonum/mathext"
)

// Known is what measuring tells of the availability of a service.
type Known struct {
	UpMS    int64   // up or degraded
	DownMS  int64   // the sum of the outages
	Outages []int64 // how long each was, ms
}

// Availability is the share of the time that it was up or degraded of that in which it was
// measured, 0–1; false where it was not measured.
func (k Known) Availability() (float64, bool) {
	if k.UpMS+k.DownMS <= 0 {
		return 0, false
	}
	return float64(k.UpMS) / float64(k.UpMS+k.DownMS), true
}

// shortestSupposed is how long an outage is taken to be where none was seen, at least, ms.
const shortestSupposed = 3_600_000

// Supposed is how long an outage is taken to be of services that had none: as the longest of
// the others, and an hour at least, ms.
func Supposed(all map[string]Known) int64 {
	out := int64(shortestSupposed)
	for _, k := range all {
		for _, length := range k.Outages {
			out = max(out, length)
		}
	}
	return out
}

// Between is in what the availability lies with 95 of 100, 0–1, if outages come at random and
// independently of one another: the gamma interval for a weighted sum of Poisson counts
// (M. P. Fay and E. J. Feuer, Statistics in Medicine 16, 1997), each outage weighing its
// length. One more outage, as long as the longest or, without any, as supposed, could have
// come: so nothing is certain that was not seen.
func (k Known) Between(supposed int64) (low, high float64) {
	known := float64(k.UpMS + k.DownMS)
	sum, squares, longest := 0.0, 0.0, 0.0
	for _, length := range k.Outages {
		l := float64(length)
		sum, squares, longest = sum+l, squares+l*l, max(longest, l)
	}
	if longest == 0 {
		longest = float64(supposed)
	}
	gamma := func(sum, squares, part float64) float64 {
		if sum == 0 {
			return 0
		}
		return mathext.GammaIncRegInv(sum*sum/squares, part) * squares / sum
	}
	least, most := gamma(sum, squares, 0.025), gamma(sum+longest, squares+longest*longest, 0.975)
	return max(0, 1-most/known), 1 - least/known
}

// Between is in what the availability of the service lies with about 95 of 100, 0–1, given
// what is known of each of the others: the deviations that the limits of each make, by
// themselves, added as squares (MOVER; G. Y. Zou and A. Donner, Statistics in Medicine 27,
// 2008).
func (f *Formula) Between(all map[string]Known) (low, high float64) {
	best := func(id string) float64 { a, _ := all[id].Availability(); return a }
	at := f.Availability(best)
	supposed := Supposed(all)
	below, above := 0.0, 0.0
	for _, p := range f.parts {
		least, most := all[p.service].Between(supposed)
		less, more := 0.0, 0.0
		for _, limit := range []float64{least, most} {
			change := f.Availability(func(id string) float64 {
				if id == p.service {
					return limit
				}
				return best(id)
			}) - at
			less, more = min(less, change), max(more, change)
		}
		below, above = below+less*less, above+more*more
	}
	return max(0, at-math.Sqrt(below)), min(1, at+math.Sqrt(above))
}

// PromisedWords says what an availability is that follows from promises.
func PromisedWords(percent string) string {
	return meanOf(percent, "each kept what is promised of it, exactly", "")
}

// MeasuredWords says what an availability is that follows from so many days of measuring.
func MeasuredWords(percent, low, high string, days int) string {
	return meanOf(percent, fmt.Sprintf("all went on as measured in the last %d days", days),
		fmt.Sprintf(" What was measured leaves it between %s %% and %s %%, in 95 of 100 cases.", low, high))
}

func meanOf(percent, supposed, sure string) string {
	return percent + " % is the mean of a model: what would come of it over the years if " + supposed +
		" and each failed independently of the others." + sure + " It is no promise that a single month is met."
}
