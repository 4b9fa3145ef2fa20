// Package clock places what one machine has counted on the clock of another,
// and says how far that may be wrong, by four timestamps (RFC 5905 §8).
package clock

import (
	"errors"
	"slices"
	"time"
)

// Drift is how much a counter and a clock that nobody sets may part with time: 100
// parts in a million, the tolerance of ordinary quartz. (RFC 5905 §7.3 takes 15,
// for clocks that it steers.)
const Drift = 100e-6

// kept is how many readings a filter chooses from, as in RFC 5905 §10.
const kept = 8

// Exchange is a question and its answer. Sent and Arrived are counted by who
// asks, Received and Answered read on the other's clock.
type Exchange struct {
	Sent     time.Duration
	Received time.Time
	Answered time.Time
	Arrived  time.Duration
	// Error is how far the other's clock may be off what it stands for.
	Error time.Duration
}

// Reading says what the other's clock shows when the counter stands at zero.
type Reading struct {
	Zero time.Time
	// Error is how far Zero may be wrong, when the counter stood at Read.
	Error time.Duration
	Read  time.Duration
}

// ErrTangled is an exchange that ended before it began by one of the clocks.
var ErrTangled = errors.New("the answer took longer than the question was away: one of the clocks was set meanwhile")

// Reading is what an exchange tells. Its error is half of the time on the way,
// since all of it may have been spent in one direction, and the other's own.
func (x Exchange) Reading() (Reading, error) {
	held := x.Answered.Sub(x.Received)
	away := x.Arrived - x.Sent
	delay := away - held
	if held < 0 || away < 0 || delay < 0 {
		return Reading{}, ErrTangled
	}
	// The offset, ((T2 − T1) + (T3 − T4)) / 2, written so that no sum of instants is needed.
	return Reading{Zero: x.Received.Add(-x.Sent - delay/2), Error: delay/2 + max(0, x.Error), Read: x.Arrived}, nil
}

// At is what the other's clock shows when the counter stands at ticks.
func (r Reading) At(ticks time.Duration) time.Time { return r.Zero.Add(ticks) }

// ErrorAt is how far At may be wrong: more with the time since it was read, and
// before.
func (r Reading) ErrorAt(ticks time.Duration) time.Duration {
	return r.Error + time.Duration(Drift*float64((ticks-r.Read).Abs()))
}

// contradicts says that both cannot be right at ticks: a clock was set between them.
func (r Reading) contradicts(o Reading, ticks time.Duration) bool {
	return r.Zero.Sub(o.Zero).Abs() > r.ErrorAt(ticks)+o.ErrorAt(ticks)
}

// Filter keeps the latest readings and takes the one that is least wrong. The
// zero value has none.
type Filter struct{ readings []Reading }

// Add takes a reading in. Those before that contradict it are forgotten, since
// the other's clock was set; set says whether there were any.
func (f *Filter) Add(r Reading) (set bool) {
	before := len(f.readings)
	f.readings = slices.DeleteFunc(f.readings, func(o Reading) bool { return o.contradicts(r, r.Read) })
	set = len(f.readings) < before
	if f.readings = append(f.readings, r); len(f.readings) > kept {
		f.readings = f.readings[1:]
	}
	return set
}

// Best is the reading least wrong when the counter stands at ticks; false where
// there is none.
func (f *Filter) Best(ticks time.Duration) (Reading, bool) {
	if len(f.readings) == 0 {
		return Reading{}, false
	}
	return slices.MinFunc(f.readings, func(a, b Reading) int { return int(a.ErrorAt(ticks) - b.ErrorAt(ticks)) }), true
}
