package incident_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
)

const month = 30 * span.Day

// outages are so many of a length each, so far apart, beginning at an instant.
func outages(at span.Instant, n int, length, apart int64) span.Set {
	var out []span.Span
	for i := range n {
		from := at.Add(int64(i) * apart)
		out = append(out, span.Span{From: from, To: from.Add(length)})
	}
	return span.Union(out...)
}

func TestABlipCallsNobodyAndASlowLeakDoes(t *testing.T) {
	for _, c := range []struct {
		name  string
		share float64 // of the month that is allowed to be down
		down  span.Set
		calls bool
	}{
		{"nothing", 0.001, nil, false},
		{"a blip", 0.001, outages(1000*minute, 1, span.Minute, 0), false},
		{"a blip where little is allowed", 0.0001, outages(1000*minute, 1, span.Minute, 0), false},
		{"two blips where little is allowed", 0.00005, outages(1000*minute, 1, 2*span.Minute, 0), true},
		{"six minutes on end", 0.001, outages(1000*minute, 1, 6*span.Minute, 0), true},
		{"six minutes of an allowance of hours", 0.01, outages(1000*minute, 1, 6*span.Minute, 0), false},
		{"an hour of an allowance of hours", 0.01, outages(1000*minute, 1, span.Hour, 0), true},
		{"a minute every four hours", 0.001, outages(1000*minute, 40, span.Minute, 4*span.Hour), true},
		{"a minute every two days", 0.001, outages(1000*minute, 10, span.Minute, 2*span.Day), false},
	} {
		got := incident.Called(incident.Paces(int64(c.share*float64(month)), month), c.down)
		if (len(got) > 0) != c.calls {
			t.Errorf("%s: called at %v", c.name, got)
		}
	}
}

// A call is where a pace calls, and wherever one calls there is a call that is not over.
func TestCallsAreThoseOfThePaces(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 3))
		var list []span.Span
		for range 1 + r.IntN(30) {
			at := span.Instant(r.Int64N(month))
			list = append(list, span.Span{From: at, To: at.Add(1 + r.Int64N(20*span.Minute))})
		}
		down := span.Union(list...)
		paces := incident.Paces(int64(float64(month)*[]float64{0.01, 0.001, 0.0001}[r.IntN(3)]), month)
		calls := func(at span.Instant) bool { return paces[0].Calls(down, at) || paces[1].Calls(down, at) }
		called := incident.Called(paces, down)
		for n, at := range called {
			if !calls(at) {
				t.Fatalf("seed %d: called at %s, where no pace calls", seed, at)
			}
			if n > 0 && at <= called[n-1] {
				t.Fatalf("seed %d: %v is in no order", seed, called)
			}
		}
		for _, d := range down {
			for at := d.From; at <= d.To; at = at.Add(10 * span.Second) {
				if calls(at) && (len(called) == 0 || called[0] > at.Add(10*span.Second)) {
					t.Fatalf("seed %d: at %s nobody was called yet", seed, at)
				}
			}
		}
	}
}

func TestHowAnAllowanceStands(t *testing.T) {
	const allowance = 43 * span.Minute
	now := span.Instant(20 * span.Day)
	for _, c := range []struct {
		name  string
		a     incident.Allowance
		state verdict.State
		says  string
	}{
		{"plenty", incident.Allowance{AllowanceMS: allowance, LeftMS: allowance, PeriodMS: month}, verdict.Up, ""},
		{"low", incident.Allowance{AllowanceMS: allowance, LeftMS: 10 * span.Minute, PeriodMS: month, Down: outages(0, 1, 33*span.Minute, 0)},
			verdict.Degraded,
			"10 min of 43 min of its allowance are left"},
		{"used up", incident.Allowance{AllowanceMS: allowance, LeftMS: -1, PeriodMS: month}, verdict.Down,
			"its allowance is used up: 1 ms more than allowed"},
		{"all but", incident.Allowance{AllowanceMS: allowance, LeftMS: 0, PeriodMS: month}, verdict.Degraded, "0 s of 43 min"},
		{"nothing is allowed", incident.Allowance{PeriodMS: month}, verdict.Up, ""},
		{"nothing is allowed, and it was down", incident.Allowance{LeftMS: -5000, PeriodMS: month}, verdict.Down, "used up"},
		{"going fast", incident.Allowance{AllowanceMS: allowance, LeftMS: 37 * span.Minute, PeriodMS: month,
			Down: outages(now.Add(-6*span.Minute), 1, 6*span.Minute, 0)}, verdict.Down,
			"6 min of downtime in 1 h: at that pace its allowance ends in 6 h 10 min"},
		{"over", incident.Allowance{AllowanceMS: allowance, LeftMS: 37 * span.Minute, PeriodMS: month,
			Down: outages(now.Add(-30*span.Hour), 1, 6*span.Minute, 0)}, verdict.Up, ""},
	} {
		state, says := c.a.State(now)
		if state != c.state || !strings.Contains(says, c.says) || (says == "") != (c.says == "") {
			t.Errorf("%s: %s, %q", c.name, state, says)
		}
	}
}
