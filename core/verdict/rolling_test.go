package verdict

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"kestite/core/definition"
	"kestite/core/span"
)

// rolled makes a check of one revision with a rolling rule, a second between runs.
func rolled(runs, places, windowS, staleS int64, locations ...string) definition.Check {
	return definition.Check{
		ID: "c", Kind: "ping", IntervalS: 1, StaleAfterS: staleS, Confirm: 9, Recover: 9, Quorum: "any", Role: definition.Decides,
		Locations: locations, Rolling: &definition.Rolling{Runs: runs, Locations: places, WindowS: windowS},
	}
}

// judged lets the readings of each location pass through both steps.
func judged(revisions Revisions, lanes map[string][]reading, live bool) map[string][]Stretch {
	made := map[string][]Stretch{}
	for location, list := range lanes {
		var s Series
		var out []Stretch
		for _, r := range list {
			set, _ := revisions.Settings(r.at)
			out = s.Add(out, r.at, r.own, set)
		}
		if live {
			made[location] = s.Waiting(out)
		} else {
			made[location] = s.AtEnd(out)
		}
	}
	return Roll(revisions, made, live)
}

func TestRollingRule(t *testing.T) {
	for _, c := range []struct {
		name         string
		rule         definition.Check
		a, b         string
		wantA, wantB string
		live         bool
	}{
		{"three of one location's last five, with good ones between", rolled(3, 1, 5, 2, "a"), "oofofofoooooo", "", "uuDuDuDuuuuuu", "", false},
		{"three that need a window longer by one are not believed", rolled(3, 1, 4, 2, "a"), "oofofofoooooo", "", "uuuuuuuuuuuuu", "", false},
		{"those before the window stay unbelieved", rolled(2, 1, 3, 2, "a"), "ofooofofo", "", "uuuuuDuDu", "", false},
		{"two locations must see it", rolled(3, 2, 4, 2, "a", "b"), "offffffoo", "ooooooooo", "uuuuuuuuu", "uuuuuuuuu", false},
		{"one sight of the second believes those of the first within the window", rolled(3, 2, 4, 2, "a", "b"), "offffffoo", "oooofoooo", "uDDDDDDuu", "uuuuDuuuu", false},
		{"what was believed holds until a good one", rolled(2, 2, 2, 2, "a", "b"), "offfffoo", "ofoooooo", "uDDDDDuu", "uDuuuuuu", false},
		{"a location that is not assigned does not count", rolled(2, 2, 4, 2, "a"), "offfoo", "offfoo", "uuuuuu", "uuuuuu", false},
		{"at the start there is no state to keep", rolled(3, 1, 5, 2, "a"), "ffooofo", "", "??uuuuu", "", false},
		{"a gap leaves doubted failures unmeasured", rolled(3, 1, 5, 2, "a"), "oof...oo", "", "uu?uu", "", false},
		{"believed ones outlast a gap", rolled(3, 1, 9, 2, "a"), "offf...foo", "", "uDDDDuu", "", false},
		{"what is in doubt at the end is unmeasured", rolled(3, 1, 5, 2, "a"), "ooff", "", "uu??", "", false},
		{"and live the state before it", rolled(3, 1, 5, 2, "a"), "ooff", "", "uuuu", "", true},
		{"not live either behind a gap", rolled(3, 1, 5, 2, "a"), "off...o", "", "u??u", "", true},
		{"a degraded state is kept as well", rolled(3, 1, 5, 2, "a"), "odfdo", "", "uddd" + "u", "", false},
	} {
		got := judged(Revisions{c.rule}, map[string][]reading{"a": readings(c.a), "b": readings(c.b)}, c.live)
		if a, b := spell(got["a"]), spell(got["b"]); a != c.wantA || b != c.wantB {
			t.Errorf("%s: %s %s make %s %s, want %s %s", c.name, c.a, c.b, a, b, c.wantA, c.wantB)
		}
	}
}

// A rule that is edited judges what joins from then on; what counted under the
// shorter window counts again under a longer one.
func TestRollingRuleEdited(t *testing.T) {
	first, second := rolled(3, 1, 3, 2, "a"), rolled(3, 1, 9, 2, "a")
	edit := span.Instant(6000)
	first.Until, second.From = &edit, &edit
	got := judged(Revisions{first, second}, map[string][]reading{"a": readings("ofofoofo")}, false)
	if s := spell(got["a"]); s != "uDuDuuDu" {
		t.Errorf("the longer window makes %s of it", s)
	}
	// Without a rule before the edit, only what comes after it counts for the rule.
	plain := first
	plain.Rolling, plain.Confirm, plain.Recover = nil, 2, 1
	got = judged(Revisions{plain, second}, map[string][]reading{"a": readings("ofoffofoffoo")}, false)
	if s := spell(got["a"]); s != "uuuDDuDuDDuu" {
		t.Errorf("a rule from the edit on makes %s of it", s)
	}
}

// plainly judges measurement by measurement, as the rule is written.
func plainly(revisions Revisions, lanes map[string][]reading, live bool) map[string]string {
	type point struct {
		reading
		location string
		rule     *definition.Rolling
	}
	var failures []point
	for location, list := range lanes {
		for _, r := range list {
			if c := revisions.Valid(r.at); r.own == Down && c.Rolling != nil && slices.Contains(c.Locations, location) {
				failures = append(failures, point{r, location, c.Rolling})
			}
		}
	}
	believed := map[string]bool{}
	for _, end := range failures {
		var inside []point
		places := map[string]bool{}
		for _, f := range failures {
			if f.at <= end.at && f.at > end.at.Add(-end.rule.WindowS*1000) {
				inside = append(inside, f)
				places[f.location] = true
			}
		}
		if int64(len(inside)) >= end.rule.Runs && int64(len(places)) >= end.rule.Locations {
			for _, f := range inside {
				believed[fmt.Sprint(f.location, f.at)] = true
			}
		}
	}
	out := map[string]string{}
	for location, list := range lanes {
		out[location] = alone(revisions, list, func(r reading) bool {
			c := revisions.Valid(r.at)
			return r.own == Down && c.Rolling != nil && !believed[fmt.Sprint(location, r.at)]
		}, live)
	}
	return out
}

// alone judges the measurements of one location one by one, as
// docs/accounting.md §3 is written; doubted are known.
func alone(revisions Revisions, list []reading, doubted func(reading) bool, live bool) string {
	const letters = "?udD"
	text := make([]byte, len(list))
	say := func(indexes []int, state State) {
		for _, i := range indexes {
			text[i] = letters[state]
		}
	}
	s := Unmeasured
	var failures, recovery, open []int // pending, and doubted ones that nothing has followed yet
	for i, r := range list {
		c := revisions.Valid(r.at)
		confirm, recover := c.Confirm, c.Recover
		if c.Rolling != nil {
			confirm, recover = 1, 1
		}
		if i > 0 && r.at > list[i-1].at.Add(revisions.Valid(list[i-1].at).StaleAfterS*span.Second) {
			say(failures, Unmeasured)
			say(recovery, Down)
			say(open, Unmeasured)
			s, failures, recovery, open = Unmeasured, nil, nil, nil
		}
		switch {
		case doubted(r) && s == Down:
			say(append(recovery, i), Down)
			recovery = nil
			continue
		case doubted(r):
			open = append(open, i)
			continue
		}
		say(open, s)
		open = nil
		switch {
		case r.own == Down && s != Down:
			if failures = append(failures, i); int64(len(failures)) >= confirm {
				say(failures, Down)
				s, failures = Down, nil
			}
		case r.own == Down:
			say(append(recovery, i), Down)
			recovery = nil
		case s == Down:
			if recovery = append(recovery, i); int64(len(recovery)) >= recover {
				for _, n := range recovery {
					text[n] = letters[list[n].own]
				}
				s, recovery = r.own, nil
			}
		default:
			say(failures, s)
			failures = nil
			text[i], s = letters[r.own], r.own
		}
	}
	end := Unmeasured
	if live {
		end = s
	}
	say(failures, end)
	say(open, end)
	say(recovery, Down)
	return string(text)
}

func TestRollingRuleAsWritten(t *testing.T) {
	if letters := "?udD"; letters[Unmeasured] != '?' || letters[Up] != 'u' || letters[Degraded] != 'd' || letters[Down] != 'D' {
		t.Fatal("the letters do not spell the states")
	}
	r := rand.New(rand.NewPCG(4, 7))
	seen := map[State]int{}
	for round := range 20_000 {
		places := []string{"a", "b", "c"}[:1+r.IntN(3)]
		first := rolled(1+r.Int64N(4), 1, 1+r.Int64N(8), 1+r.Int64N(3), places...)
		first.Rolling.Locations = 1 + r.Int64N(min(first.Rolling.Runs, int64(len(places))))
		revisions := Revisions{first}
		for range r.IntN(5) { // edits, of the rule, to confirm and recover, of the places
			last := &revisions[len(revisions)-1]
			edit := max(definition.Begins(last.From), 0) + span.Instant(1+r.IntN(12))*1000
			next := rolled(1+r.Int64N(4), 1, 1+r.Int64N(8), 1+r.Int64N(3), places[:1+r.IntN(len(places))]...)
			if r.IntN(2) == 0 {
				next.Rolling, next.Confirm, next.Recover = nil, 1+r.Int64N(4), 1+r.Int64N(4)
			}
			last.Until, next.From = &edit, &edit
			revisions = append(revisions, next)
		}
		lanes := map[string][]reading{}
		for _, l := range places {
			bad := r.IntN(10)
			for at := range 30 {
				switch n := r.IntN(12); {
				case n == 0: // nothing measured
				case n <= bad:
					lanes[l] = append(lanes[l], reading{span.Instant(at)*1000 + span.Instant(r.IntN(3)), Down})
				default:
					lanes[l] = append(lanes[l], reading{span.Instant(at) * 1000, []State{Up, Up, Degraded}[r.IntN(3)]})
				}
			}
		}
		live := r.IntN(2) == 0
		got := map[string]string{}
		for l, list := range judged(revisions, lanes, live) {
			got[l] = spell(list)
			for _, s := range list {
				seen[s.State] += int(s.Count)
			}
		}
		if want := plainly(revisions, lanes, live); !maps.Equal(got, want) {
			t.Fatalf("round %d, rule %+v of %d revisions: %v are judged %v, want %v", round, *first.Rolling, len(revisions), lanes, got, want)
		}
	}
	for _, s := range []State{Unmeasured, Up, Degraded, Down} {
		if seen[s] < 1000 {
			t.Errorf("only %d measurements were judged %s", seen[s], s)
		}
	}
}

// BenchmarkRoll judges a month of runs a minute from three locations of which
// every tenth fails, beside the step that every check needs.
func BenchmarkRoll(b *testing.B) {
	rule := rolled(5, 2, 600, 150, "a", "b", "c")
	rule.IntervalS = 60
	revisions := Revisions{rule}
	lanes := map[string][]reading{}
	r := rand.New(rand.NewPCG(1, 1))
	for n, l := range rule.Locations {
		for m := range 30 * 24 * 60 {
			own := Up
			if r.IntN(10) == 0 {
				own = Down
			}
			lanes[l] = append(lanes[l], reading{span.Instant(m*60_000 + n*20_000), own})
		}
	}
	set := SettingsOf(rule)
	step := func() map[string][]Stretch {
		out := map[string][]Stretch{}
		for l, list := range lanes {
			var s Series
			for _, x := range list {
				out[l] = s.Add(out[l], x.at, x.own, set)
			}
		}
		return out
	}
	b.Run("series", func(b *testing.B) {
		for b.Loop() {
			step()
		}
	})
	made := step()
	b.Run("roll", func(b *testing.B) {
		for b.Loop() {
			Roll(revisions, made, false)
		}
	})
}
