package incident

import (
	"fmt"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Agreement is what an incident is about whose allowance goes too fast, or is low.
const Agreement = "agreement"

// PolicyOfAllowances is what incidents of agreements follow.
var PolicyOfAllowances = Policy{Degraded: definition.Minor, Down: definition.Major, ReopenMS: 6 * span.Hour}

// Low is the share of an allowance, in percent, below which what is left needs somebody.
const Low = 25

// Pace is how fast an allowance may go: so much downtime within a long span calls, if
// within a twelfth of it, up to now, it goes on at no lower pace. A blip is too little for
// the long one, and trouble that is over is not in the short one any more.
type Pace struct {
	LongMS, ShortMS int64
	NeedMS          int64 // downtime within the long span
	Fast            bool  // of the two, the one that does not wait
}

// blip is downtime that calls nobody by its pace, in ms, where the allowance is no less
// than twice as much.
const blip = 5 * span.Minute

// Paces are those of an allowance in a period, in ms: the fast one over a 720th of the
// period (an hour of 30 days) at fourteen times the pace that would just use it up, and
// the slow one over a tenth of it at that pace. None where nothing is allowed: then any
// downtime misses the target.
func Paces(allowance, period int64) []Pace {
	if allowance <= 0 || period <= 0 {
		return nil
	}
	var out []Pace
	for _, p := range []struct {
		part, factor int64
		fast         bool
	}{{720, 14, true}, {10, 1, false}} {
		long := max(period/p.part, 12*span.Minute)
		need := max(int64(float64(allowance)*float64(long)/float64(period)*float64(p.factor)), min(blip, allowance/2), 1)
		out = append(out, Pace{long, long / 12, min(need, long), p.fast})
	}
	return out
}

// Calls says whether downtime calls by a pace at an instant.
func (p Pace) Calls(down span.Set, at span.Instant) bool {
	within := func(ms int64) int64 { return down.Cut(span.Span{From: at.Add(-ms), To: at}).Length() }
	return within(p.LongMS) >= p.NeedMS && within(p.ShortMS) >= max(1, p.NeedMS/12)
}

// Called are the instants at which somebody would have been called in a time of
// downtimes, by any of the paces, to the next 10 s. One call stands for all until the
// short span after it has been without one.
func Called(paces []Pace, down span.Set) []span.Instant {
	const step = 10 * span.Second
	var out []span.Instant
	quiet := span.Beginning // when the last call is over
	for _, d := range down {
		for at := min(d.From.Add(step), d.To); ; at = min(at.Add(step), d.To) {
			short, calls := int64(0), false
			for _, p := range paces {
				if p.Calls(down, at) {
					short, calls = max(short, p.ShortMS), true
				}
			}
			if calls { // and does until the downtime ends
				if at > quiet {
					out = append(out, at)
				}
				quiet = d.To.Add(short)
			}
			if calls || at >= d.To {
				break
			}
		}
	}
	return out
}

// Allowance is how the allowance of an agreement stands at an instant of its period.
type Allowance struct {
	AllowanceMS, LeftMS, PeriodMS int64
	Down                          span.Set // in the period, up to the instant
}

// State is what an allowance comes to as the state of an incident, and why in words;
// Up where it needs nobody.
func (a Allowance) State(at span.Instant) (verdict.State, string) {
	for _, p := range Paces(a.AllowanceMS, a.PeriodMS) {
		if a.LeftMS >= 0 && p.Calls(a.Down, at) {
			down := a.Down.Cut(span.Span{From: at.Add(-p.LongMS), To: at}).Length()
			state := verdict.Degraded
			if p.Fast {
				state = verdict.Down
			}
			return state, fmt.Sprintf("%s of downtime in %s: at that pace its allowance ends in %s", span.WordsUp(down), span.Words(p.LongMS),
				span.Words(int64(float64(a.LeftMS)*float64(p.LongMS)/float64(down))))
		}
	}
	switch {
	case a.LeftMS < 0:
		return verdict.Down, "its allowance is used up: " + span.WordsUp(-a.LeftMS) + " more than allowed"
	case a.AllowanceMS > 0 && a.LeftMS*100 < a.AllowanceMS*Low:
		return verdict.Degraded, fmt.Sprintf("%s of %s of its allowance are left", span.Words(a.LeftMS), span.Words(a.AllowanceMS))
	}
	return verdict.Up, ""
}
