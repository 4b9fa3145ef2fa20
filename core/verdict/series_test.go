package verdict

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"kestite/core/span"
)

// reading is one measurement of a test series.
type reading struct {
	at  span.Instant
	own State
}

// readings spells measurements a second apart: o ok, d degraded, f failed, and
// a dot for a second without one.
func readings(text string) []reading {
	own := map[rune]State{'o': Up, 'd': Degraded, 'f': Down}
	var out []reading
	for i, c := range text {
		if c != '.' {
			out = append(out, reading{span.Instant(i) * 1000, own[c]})
		}
	}
	return out
}

func run(list []reading, set Settings) []Stretch {
	var s Series
	var out []Stretch
	for _, r := range list {
		out = s.Add(out, r.at, r.own, set)
	}
	return s.AtEnd(out)
}

// spell writes the state of each measurement: u up, d degraded, D down, ? none.
func spell(stretches []Stretch) string {
	letters := map[State]string{Up: "u", Degraded: "d", Down: "D", Unmeasured: "?"}
	var out strings.Builder
	for _, s := range stretches {
		out.WriteString(strings.Repeat(letters[s.State], int(s.Count)))
	}
	return out.String()
}

func TestConfirmRecoverHold(t *testing.T) {
	set := Settings{Confirm: 3, Recover: 2, StaleAfter: 2000}
	for _, c := range []struct{ name, in, want string }{
		{"two failures are nothing", "ooffoo", "uuuuuu"},
		{"three are down from the first", "oofffoo", "uuDDDuu"},
		{"one good one ends no outage", "oofffoff", "uuDDDDDD"},
		{"two do, from the first", "oofffodo", "uuDDDudu"},
		{"a degraded one discards pending failures", "offdffo", "uuudddu"},
		{"what waits at the end is unmeasured, even with a state before it", "odff", "ud??"},
		{"at the start there is no state to keep", "ffoo", "??uu"},
		{"a gap forgets pending failures", "off...oo", "u??uu"},
		{"a gap keeps a pending recovery down", "offfo...o", "uDDDDu"},
		{"exactly at stale_after is no gap", "of.f.foo", "uDDDuu"},
		{"the end does as a gap does", "offfo", "uDDDD"},
		{"and forgets pending failures", "oof", "uu?"},
	} {
		if got := spell(run(readings(c.in), set)); got != c.want {
			t.Errorf("%s: %s is %s, not %s", c.name, c.in, got, c.want)
		}
	}
}

func TestStretchesAreMaximal(t *testing.T) {
	got := run(readings("oooffooo...oo"), Settings{Confirm: 3, Recover: 1, StaleAfter: 2000})
	want := []Stretch{
		{Up, Up, 0, 2000, 3}, {Up, Down, 3000, 4000, 2}, {Up, Up, 5000, 7000, 3}, // unconfirmed failures: state up, own down
		{Up, Up, 11000, 12000, 2}, // after a gap
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got %v", got)
	}
}

func TestSettingsOfTheJoiningMeasurementCount(t *testing.T) {
	var s Series
	var out []Stretch
	strict, easy := Settings{Confirm: 3, Recover: 1, StaleAfter: 5000}, Settings{Confirm: 1, Recover: 1, StaleAfter: 5000}
	out = s.Add(out, 0, Up, strict)
	out = s.Add(out, 1000, Down, strict)
	if s.PendingCount() != 1 {
		t.Fatal("the first failure waits")
	}
	out = s.Add(out, 2000, Down, easy) // joins under confirm 1: both are down
	if got := spell(s.AtEnd(out)); got != "uDD" {
		t.Errorf("got %s", got)
	}
}

func randomReadings(r *rand.Rand, n int) []reading {
	var out []reading
	at := span.Instant(0)
	own := Up
	for range n {
		at += span.Instant(500 + r.IntN(1500))
		if r.IntN(12) == 0 {
			at += span.Instant(r.IntN(5000))
		}
		if r.IntN(3) == 0 {
			own = []State{Up, Up, Degraded, Down}[r.IntN(4)]
		}
		out = append(out, reading{at, own})
	}
	return out
}

// Storing the series between any two measurements changes nothing.
func TestSeriesResumes(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		list := randomReadings(r, 60)
		set := Settings{Confirm: int64(1 + r.IntN(4)), Recover: int64(1 + r.IntN(4)), StaleAfter: 3000}
		want := run(list, set)
		var s Series
		var out []Stretch
		for _, x := range list {
			out = s.Add(out, x.at, x.own, set)
			if r.IntN(5) == 0 {
				text, err := json.Marshal(s)
				if err != nil {
					t.Fatal(err)
				}
				s = Series{}
				if err := json.Unmarshal(text, &s); err != nil {
					t.Fatal(err)
				}
			}
		}
		if got := s.AtEnd(out); !reflect.DeepEqual(got, want) {
			t.Fatalf("got %v\nwant %v", got, want)
		}
	}
}

// The location's timeline from stretches is the one that the rules make of the
// measurements one by one.
func TestLocationAgreesWithTheRulesOneByOne(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 500 {
		list := randomReadings(r, 40)
		set := Settings{Confirm: int64(1 + r.IntN(3)), Recover: int64(1 + r.IntN(3)), StaleAfter: 3000}
		stretches := run(list, set)
		line := Location(stretches, revisionsFor(set))
		states := []State{}
		for _, s := range stretches {
			for range s.Count {
				states = append(states, s.State)
			}
		}
		for i, m := range list {
			end := span.End
			if i+1 < len(list) {
				end = list[i+1].at
			}
			hold := min(end, m.at.Add(set.StaleAfter))
			want := Same(Unmeasured)
			if states[i] != Unmeasured {
				want = Views{states[i], max(states[i], m.own), min(states[i], m.own)}
				if i+1 < len(list) && states[i+1] != Unmeasured {
					want[Low] = max(want[Low], states[i+1], list[i+1].own)
					want[High] = min(want[High], min(states[i+1], list[i+1].own))
				}
			}
			for _, at := range []span.Instant{m.at, (m.at + hold) / 2, hold - 1} {
				if got := line.At(at); got != want {
					t.Fatalf("at %d: %v, not %v\n%v\n%v", at, got, want, list, stretches)
				}
			}
			if hold < end && line.At(hold) != Same(Unmeasured) {
				t.Fatalf("after %d it is %v", hold, line.At(hold))
			}
		}
	}
}

func TestQuorum(t *testing.T) {
	letters := map[byte]State{'u': Up, 'd': Degraded, 'D': Down, '?': Unmeasured}
	for _, c := range []struct {
		states string
		k      int
		want   State
	}{
		{"uuD", 2, Up}, {"udD", 2, Degraded}, {"uDD", 2, Down}, {"uuD", 1, Down}, {"uuD", 3, Up},
		{"?uu", 2, Up}, {"?uD", 2, Up}, {"?dD", 2, Degraded},
		{"??u", 2, Unmeasured}, {"??D", 2, Unmeasured}, {"???", 1, Unmeasured},
		{"u?", 2, Up}, {"d?", 2, Unmeasured}, // one silent of two: up only while the other is
		{"uu?", 3, Up}, {"dd?", 3, Unmeasured},
	} {
		var states []State
		for i := range c.states {
			states = append(states, letters[c.states[i]])
		}
		if got := Quorum(states, c.k); got != c.want {
			t.Errorf("%s with k %d is %s, not %s", c.states, c.k, got, c.want)
		}
	}
}

func TestCombineAndGroup(t *testing.T) {
	for _, c := range []struct {
		rule   string
		states []State
		want   State
		any    bool
	}{
		{"worst", []State{Up, Unmeasured, Down}, Down, true},
		{"worst", []State{Up, Unmeasured, Degraded}, Unmeasured, true},
		{"worst", []State{Up, absent, Degraded}, Degraded, true},
		{"best", []State{Down, Unmeasured, Up}, Up, true},
		{"best", []State{Down, Unmeasured, Degraded}, Unmeasured, true},
		{"best", []State{Down, Degraded}, Degraded, true},
		{"worst", []State{absent}, Unmeasured, false},
		{"best", nil, Unmeasured, false},
	} {
		if got, any := Combine(c.states, c.rule); got != c.want || any != c.any {
			t.Errorf("%s of %v is %s %v", c.rule, c.states, got, any)
		}
	}
	for _, c := range []struct {
		members []State
		need    int
		want    State
	}{
		{[]State{Up, Down}, 1, Up}, {[]State{Up, Down}, 2, Down}, {[]State{Unmeasured, Down}, 1, Unmeasured},
		{[]State{Degraded, Down}, 1, Degraded}, {[]State{Up, Degraded}, 2, Degraded}, {[]State{Degraded, Unmeasured, Down}, 2, Unmeasured},
	} {
		if got := Group(c.members, c.need); got != c.want {
			t.Errorf("%d of %v is %s", c.need, c.members, got)
		}
	}
}

// FuzzSeries reads bytes as a sequence of measurements: splitting it anywhere
// and resuming from what was stored gives the same stretches; these are in
// order, count every measurement once and never call a gap measured; a state
// down begins with as many failures as it takes to confirm it.
func FuzzSeries(f *testing.F) {
	f.Add([]byte("\x01\x02\x03\x03\x03\x01\x01"), uint8(2), uint8(1), uint8(30), uint8(3))
	f.Add([]byte{3, 3, 255, 3, 3, 1, 3, 2, 2, 7, 200, 1}, uint8(3), uint8(2), uint8(9), uint8(5))
	f.Fuzz(func(t *testing.T, data []byte, confirm, recover, stale, cut uint8) {
		set := Settings{Confirm: 1 + int64(confirm%5), Recover: 1 + int64(recover%5), StaleAfter: 1000 * (1 + int64(stale%60))}
		var list []reading
		at := span.Instant(0)
		for _, b := range data {
			at += span.Instant(1 + int64(b>>2)*700)
			list = append(list, reading{at, []State{Up, Up, Degraded, Down}[b&3]})
		}
		want := run(list, set)
		var s Series
		var out []Stretch
		for i, x := range list {
			if i == int(cut) {
				text, err := json.Marshal(s)
				if err != nil {
					t.Fatal(err)
				}
				s = Series{}
				if err := json.Unmarshal(text, &s); err != nil {
					t.Fatal(err)
				}
			}
			out = s.Add(out, x.at, x.own, set)
		}
		if got := s.AtEnd(out); !reflect.DeepEqual(got, want) {
			t.Fatalf("cut at %d: %v\nwhole: %v", cut, got, want)
		}
		var count int64
		last := span.Instant(-1)
		for i, x := range want {
			if x.First <= last || x.Last < x.First || x.Count < 1 {
				t.Fatalf("stretch %d of %v", i, want)
			}
			if x.State == Down && x.Own == Down && x.Count < set.Confirm && (i == 0 || want[i-1].State != Down) {
				t.Fatalf("%d failures made it down, %d are needed: %v", x.Count, set.Confirm, want)
			}
			last = x.Last
			count += x.Count
		}
		if count != int64(len(list)) {
			t.Fatalf("%d of %d measurements are in %v", count, len(list), want)
		}
	})
}

func BenchmarkSeries(b *testing.B) {
	set := Settings{Confirm: 3, Recover: 2, StaleAfter: 150_000}
	var s Series
	out := make([]Stretch, 0, 1<<16)
	at := span.Instant(0)
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		own := Up
		if i%1000 < 4 {
			own = Down
		}
		at += 60_000
		out = s.Add(out, at, own, set)
		if len(out) > 1<<15 {
			out = out[:1]
		}
	}
}
