package verdict

import (
	"math/rand/v2"
	"slices"
	"testing"

	"kestite/core/span"
)

// However often the past is judged otherwise, what the appended transitions tell is
// what was judged last; and what was told first and stayed so is told once.
func TestTransitionsTellWhatWasJudged(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for round := range 3000 {
		line := span.Constant(Unmeasured)
		var told []Transition
		until := span.Instant(0)
		for now := span.Instant(10); now < 100; now += span.Instant(1 + r.IntN(20)) {
			known := span.Instant(0)
			if r.IntN(2) == 0 {
				known = max(0, now-span.Instant(1+r.IntN(40)))
			}
			line = changed(r, line, known, until, now)
			more := Transitions(Told(told), line, known, now)
			for n, x := range more {
				if x.Corrects && n > 0 || x.From == x.To && !x.Corrects || x.Corrects && !slices.ContainsFunc(told,
					func(o Transition) bool { return o.At >= x.At }) {
					t.Fatalf("round %d: %+v, after %+v", round, more, told)
				}
			}
			told = append(told, more...)
			got := Told(told)
			for i := known; i <= now; i++ {
				if got.At(i) != line.At(i) {
					t.Fatalf("round %d: at %d it tells %s of %s\ntold %+v\nline %v", round, i, got.At(i), line.At(i), told, line)
				}
			}
			if again := Transitions(Told(told), line, known, now); len(again) > 0 {
				t.Fatalf("round %d: told again %+v", round, again)
			}
			until = now
		}
	}
}

// changed is a line with some changes after until, and now and then in the past from
// known on.
func changed(r *rand.Rand, line span.Timeline[State], known, until, now span.Instant) span.Timeline[State] {
	states := []State{Unmeasured, Up, Degraded, Down}
	values := make([]State, now+1)
	for i := range values {
		values[i] = line.At(span.Instant(i))
	}
	last := values[until]
	for i := until + 1; i <= now; i++ {
		if r.IntN(6) == 0 {
			last = states[r.IntN(len(states))]
		}
		values[i] = last
	}
	if r.IntN(3) == 0 {
		for i := known + span.Instant(r.IntN(int(now-known)+1)); i <= now && r.IntN(5) > 0; i++ {
			values[i] = states[r.IntN(len(states))]
		}
	}
	out := span.Constant(Unmeasured)
	for i, v := range values {
		out = out.Append(span.Instant(i), v)
	}
	return out
}

func TestTransitionsInOrder(t *testing.T) {
	line := span.Constant(Unmeasured).Append(10, Up).Append(20, Down)
	first := Transitions(span.Constant(Unmeasured), line, 0, 25)
	if want := []Transition{{10, Unmeasured, Up, false}, {20, Up, Down, false}}; !slices.Equal(first, want) {
		t.Errorf("%+v", first)
	}
	line = line.Append(30, Up)
	if got := Transitions(Told(first), line, 0, 30); !slices.Equal(got, []Transition{{30, Down, Up, false}}) {
		t.Errorf("%+v", got)
	}
	// It came out later that it had been down only from 22 on, and that it was degraded before.
	late := span.Constant(Unmeasured).Append(10, Up).Append(15, Degraded).Append(22, Down).Append(30, Up)
	want := []Transition{{15, Up, Degraded, true}, {22, Degraded, Down, false}, {30, Down, Up, false}}
	all := append(slices.Clone(first), Transition{30, Down, Up, false})
	if got := Transitions(Told(all), late, 0, 31); !slices.Equal(got, want) {
		t.Errorf("%+v", got)
	}
	// And that it never was down.
	up := span.Constant(Unmeasured).Append(10, Up)
	if got := Transitions(Told(all), up, 0, 31); !slices.Equal(got, []Transition{{20, Up, Up, true}}) {
		t.Errorf("%+v", got)
	}
}
