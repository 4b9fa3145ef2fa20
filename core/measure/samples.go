package measure

import "math"

// RoundTrips sums up the round trips of one ping measurement in Ping's order:
// loss in percent of sent, and over the answered ones min, mean, max and
// jitter in ms. rtts are in the order sent, NaN for a packet without answer.
// Jitter is the mean absolute difference of successive answered round trips;
// it is absent with fewer than two.
func RoundTrips(rtts []float64) []float64 {
	values := Ping.None()
	if len(rtts) == 0 {
		return values
	}
	var sum, swing float64
	low, high, last := math.Inf(1), math.Inf(-1), math.NaN()
	answered, pairs := 0, 0
	for _, r := range rtts {
		if math.IsNaN(r) {
			continue
		}
		answered++
		sum += r
		low, high = min(low, r), max(high, r)
		if !math.IsNaN(last) {
			swing += math.Abs(r - last)
			pairs++
		}
		last = r
	}
	values[TripLoss] = 100 * float64(len(rtts)-answered) / float64(len(rtts))
	if answered > 0 {
		values[TripLeast], values[TripMean], values[TripMost] = low, sum/float64(answered), high
	}
	if pairs > 0 {
		values[PingJitter] = swing / float64(pairs)
	}
	return values
}
