package verdict

import (
	"fmt"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/span"
)

// told are the measurements behind a state, as seconds with their role's first letters.
func told(list []Because) string {
	var out []string
	for _, b := range list {
		role := map[string]string{ConfirmsFailure: "failure", ConfirmsRecovery: "recovery", LetsBelieve: "belief"}[b.Role]
		out = append(out, fmt.Sprintf("%s %d-%d ×%d %s", b.Location, b.From/1000, b.To/1000, b.Count, role))
	}
	return strings.Join(out, ", ")
}

// A measurement a second: u up, d degraded, f failed, a space none. Confirmed by
// three, recovered by two, and silent after two seconds.
func TestWhyALocationIsAsItIs(t *testing.T) {
	set := Settings{Confirm: 3, Recover: 2, StaleAfter: 2000}
	for _, c := range []struct {
		rows    string
		at      float64 // s
		state   State
		says    string
		because string
	}{
		{"uuuu", 2, Up, "4 measurements ok", ""},
		{"uufffu", 3, Down, "3 measurements failed", "l 2-4 ×3 failure"},
		{"uuffffuf", 6, Down, "1 measurement ok, a recovery not confirmed (by 2 in a row): still down", "l 2-5 ×3 failure"},
		{"uufffuuu", 6, Up, "3 measurements ok", "l 5-7 ×2 recovery"},
		{"uufffudu", 7, Up, "1 measurement ok", "l 5-5 ×1 recovery, l 6-6 ×1 recovery"},
		{"uuffuu", 3, Up, "2 measurements failed, a failure not confirmed (by 3 in a row): still up", ""},
		{"uuff", 3, Unmeasured, "2 measurements failed, fewer than the 3 in a row that confirm it, when the data end: unmeasured", ""},
		{"uuff    uuu", 3, Unmeasured, "fewer than the 3 in a row that confirm it, before it fell silent: unmeasured", ""},
		{"ffuuu", 0, Unmeasured, "fewer than the 3 in a row that confirm it, and there was no state before: unmeasured", ""},
		{"uufff    u", 5, Down, "3 measurements failed", "l 2-4 ×3 failure"},
		{"uuu     u", 6, Unmeasured, "silent: the last measurement, at 1970-01-01T00:00:02.000Z, holds for 2 s only", ""},
		{"fffff", 4, Down, "5 measurements failed", "l 0-4 ×3 failure"},
		{"uuu", -1, Unmeasured, "nothing was measured before", ""},
	} {
		var s Series
		var list []Stretch
		for i, b := range c.rows {
			if own, measured := map[rune]State{'u': Up, 'd': Degraded, 'f': Down}[b]; measured {
				list = s.Add(list, span.Instant(i*1000), own, set)
			}
		}
		got := explainLocation("l", s.AtEnd(list), revisionsFor(set), span.Instant(c.at*1000))
		if got.State != c.state || !strings.Contains(got.Text, c.says) || told(got.Because) != c.because {
			t.Errorf("%q at %v: %s, %q, because of %q; want %s, %q, %q", c.rows, c.at, got.State, got.Text, told(got.Because), c.state, c.says, c.because)
		}
	}
}

// What a rolling rule believes, it believes because of failures in a window, at all
// locations; what it doubts is called so.
func TestWhyARollingRuleBelieves(t *testing.T) {
	check := definition.Check{
		ID: "c", Kind: "ping", IntervalS: 1, StaleAfterS: 5, Confirm: 9, Recover: 9, Role: definition.Decides, Locations: []string{"a", "b"},
		Rolling: &definition.Rolling{Runs: 3, Locations: 2, WindowS: 4},
	}
	if err := check.Quorum.SetScalar("any"); err != nil {
		t.Fatal(err)
	}
	revisions := Revisions{check}
	raw := map[string][]Stretch{}
	for location, rows := range map[string]string{"a": "uufufuuuuufu", "b": "uuufuuuuuuuu"} {
		var s Series
		var list []Stretch
		for i, b := range rows {
			list = s.Add(list, span.Instant(i*1000), map[rune]State{'u': Up, 'f': Down}[b], SettingsOf(check))
		}
		raw[location] = s.AtEnd(list)
	}
	rolled := Roll(revisions, raw, false)
	sources := Sources{
		Judged: func(_, location string) []Stretch { return rolled[location] },
		Raw:    func(_, location string) []Stretch { return raw[location] },
	}
	at := func(s int) map[string]LocationReason {
		out := map[string]LocationReason{}
		for _, l := range explainCheck(check, revisions, sources, span.Instant(s*1000)).Locations {
			out[l.Location] = l
		}
		return out
	}
	const all = "a 2-2 ×1 belief, b 3-3 ×1 belief, a 4-4 ×1 belief"
	for s, location := range map[int]string{2: "a", 3: "b", 4: "a"} {
		if got := at(s)[location]; got.State != Down || told(got.Because) != all {
			t.Errorf("%s at %d: %s because of %q, want down because of %q", location, s, got.State, told(got.Because), all)
		}
	}
	if got := at(10)["a"]; got.State != Up || !strings.Contains(got.Text, "a failure that the rolling rule does not believe (") || got.Because != nil {
		t.Errorf("a doubted failure: %+v", got)
	}
}
