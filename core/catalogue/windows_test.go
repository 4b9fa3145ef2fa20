package catalogue_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
)

func window(start string, minutes int64, rule string) definition.WindowSpec {
	return definition.WindowSpec{Name: "Work", Services: []string{"sailings"}, Start: "2026-" + start + ":00", Timezone: "UTC",
		DurationS: minutes * 60, RRule: rule}
}

// sailings has a service with an agreement since long before March.
func sailings(t testing.TB) *told {
	h := newTold(t)
	_, err := h.try(at(t, "01T00:00").Add(-100*span.Day), nil, define(catalogue.Service, "sailings", service()),
		define(catalogue.Service, "gates", service()), define(catalogue.Agreement, "gold", agreement("sailings")))
	if err != nil {
		t.Fatal(err)
	}
	return h
}

// february is 1 February, when the windows of docs/accounting.md's case 45 were announced.
func february(t testing.TB) span.Instant { return at(t, "01T00:00").Add(-28 * span.Day) }

// written is an entry as the evidence says it, in short.
func written(w definition.CompiledWindow) string {
	return fmt.Sprintf("%s %s %dm %s %v since %s", w.ID, w.Start, w.DurationS/60, w.RRule, w.Exdates,
		w.AnnouncedAt.Time().Format("02 Jan 15:04"))
}

func (h *told) windows(name string, agreements ...string) []string {
	h.t.Helper()
	var out []string
	for _, w := range h.bundle(name, agreements...).Windows {
		out = append(out, written(w))
	}
	return out
}

// The case 45 of the worked accounts: what was announced stays so, what an edit adds
// is announced by it, an occurrence that was cut is an exdate and an entry, and the
// rest of a rule is the rule.
func TestEditsOfRunningWork(t *testing.T) {
	h := sailings(t)
	if _, err := h.try(february(t), nil, define(catalogue.Window, "release", window("03-02T10:00", 120, "")),
		define(catalogue.Window, "backup", window("02-24T20:00", 30, "FREQ=DAILY")),
		define(catalogue.Window, "monday", window("02-23T16:00", 30, "FREQ=WEEKLY;BYDAY=MO"))); err != nil {
		t.Fatal(err)
	}
	h.do("02T11:10", edit(catalogue.Window, "release", window("03-02T10:00", 180, "")))
	cut := window("02-24T20:00", 30, "FREQ=DAILY")
	cut.Changes = []definition.Occurrence{{At: "2026-03-02T20:00:00", DurationS: 900}}
	h.do("02T20:15", edit(catalogue.Window, "backup", cut))
	want := []string{
		"backup 2026-02-24T20:00:00 30m FREQ=DAILY [2026-03-02T20:00:00] since 01 Feb 00:00",
		"backup+1 2026-03-02T20:00:00 15m  [] since 01 Feb 00:00",
		"monday 2026-02-23T16:00:00 30m FREQ=WEEKLY;BYDAY=MO [] since 01 Feb 00:00",
		"release 2026-03-02T10:00:00 120m  [] since 01 Feb 00:00",
		"release+1 2026-03-02T12:00:00 60m  [] since 02 Mar 11:10",
	}
	if got := h.windows("2026-03-02/2026-03-03", "gold"); !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

func TestWhatEditsOfWindowsDo(t *testing.T) {
	daily := window("03-05T22:00", 60, "FREQ=DAILY;COUNT=5")
	with := func(w definition.WindowSpec, change func(*definition.WindowSpec)) definition.WindowSpec {
		change(&w)
		return w
	}
	for _, c := range []struct {
		says  string
		first definition.WindowSpec
		edits map[string]catalogue.Step // by when
		want  []string
	}{
		{"a new name, long after", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{"20T00:00": edit("window", "w",
				with(window("03-02T10:00", 60, ""), func(w *definition.WindowSpec) { w.Name = "Other" }))},
			[]string{"w 2026-03-02T10:00:00 60m  [] since 01 Feb 00:00"}},
		{"a new name, while it runs", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{"02T10:30": edit("window", "w",
				with(window("03-02T10:00", 60, ""), func(w *definition.WindowSpec) { w.Name = "Other" }))},
			[]string{"w 2026-03-02T10:00:00 60m  [] since 01 Feb 00:00"}},
		{"retired afterwards", window("03-02T10:00", 60, ""), map[string]catalogue.Step{"20T00:00": retire("window", "w")},
			[]string{"w 2026-03-02T10:00:00 60m  [] since 01 Feb 00:00"}},
		{"taken back before", window("03-02T10:00", 60, ""), map[string]catalogue.Step{"02T09:00": retire("window", "w")}, nil},
		{"taken back while it runs", window("03-02T10:00", 60, ""), map[string]catalogue.Step{"02T10:20": retire("window", "w")},
			[]string{"w 2026-03-02T10:00:00 20m  [] since 01 Feb 00:00"}},
		{"later, overlapping", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{"01T12:00": edit("window", "w", window("03-02T10:30", 60, ""))},
			[]string{"w 2026-03-02T10:30:00 30m  [] since 01 Feb 00:00", "w+1 2026-03-02T11:00:00 30m  [] since 01 Mar 12:00"}},
		{"moved into the past, which it cannot plan", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{"02T09:30": edit("window", "w", window("03-02T09:00", 60, ""))},
			[]string{"w 2026-03-02T09:30:00 30m  [] since 02 Mar 09:30"}},
		{"one service more", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{"01T12:00": edit("window", "w",
				with(window("03-02T10:00", 60, ""), func(w *definition.WindowSpec) { w.Services = []string{"gates", "sailings"} }))},
			[]string{"w 2026-03-02T10:00:00 60m  [] since 01 Mar 12:00", "w+1 2026-03-02T10:00:00 60m  [] since 01 Feb 00:00"}},
		{"a service taken out and put back", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{
				"01T12:00": edit("window", "w", with(window("03-02T10:00", 60, ""),
					func(w *definition.WindowSpec) { w.Services = []string{"gates"} })),
				"01T13:00": edit("window", "w", window("03-02T10:00", 60, ""))},
			[]string{"w 2026-03-02T10:00:00 60m  [] since 01 Mar 13:00"}},
		{"one occurrence skipped", daily, map[string]catalogue.Step{"06T12:00": edit("window", "w",
			with(daily, func(w *definition.WindowSpec) { w.Exdates = []string{"2026-03-07T22:00:00"} }))},
			[]string{"w 2026-03-05T22:00:00 60m FREQ=DAILY;COUNT=5 [2026-03-07T22:00:00] since 01 Feb 00:00"}},
		{"one occurrence that was, skipped afterwards", daily,
			map[string]catalogue.Step{"06T12:00": edit("window", "w",
				with(daily, func(w *definition.WindowSpec) { w.Exdates = []string{"2026-03-05T22:00:00"} }))},
			[]string{"w 2026-03-05T22:00:00 60m FREQ=DAILY;COUNT=5 [2026-03-05T22:00:00] since 01 Feb 00:00",
				"w+1 2026-03-05T22:00:00 60m  [] since 01 Feb 00:00"}},
		{"one occurrence moved by half an hour", daily,
			map[string]catalogue.Step{"06T12:00": edit("window", "w", with(daily, func(w *definition.WindowSpec) {
				w.Changes = []definition.Occurrence{{At: "2026-03-07T22:00:00", Start: "2026-03-07T22:30:00"}}
			}))},
			[]string{"w 2026-03-05T22:00:00 60m FREQ=DAILY;COUNT=5 [2026-03-07T22:00:00] since 01 Feb 00:00",
				"w+1 2026-03-07T22:30:00 30m  [] since 01 Feb 00:00", "w+2 2026-03-07T23:00:00 30m  [] since 06 Mar 12:00"}},
		{"another rule from now on", daily, map[string]catalogue.Step{"06T23:30": edit("window", "w",
			window("03-05T22:00", 60, "FREQ=DAILY;INTERVAL=2;COUNT=3"))},
			[]string{"w 2026-03-05T22:00:00 60m FREQ=DAILY;COUNT=5 [] since 01 Feb 00:00",
				"w+1 2026-03-05T22:00:00 60m FREQ=DAILY;INTERVAL=2;COUNT=3 [] since 01 Feb 00:00"}},
		{"in place of another window that was given up", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{
				"01T12:00": define("window", "another", window("03-02T10:30", 60, "")), "01T12:00 ": retire("window", "w")},
			[]string{"another 2026-03-02T10:30:00 30m  [] since 01 Feb 00:00", "another+1 2026-03-02T11:00:00 30m  [] since 01 Mar 12:00"}},
		{"planned work that becomes emergency work is announced anew", window("03-02T10:00", 60, ""),
			map[string]catalogue.Step{"02T09:00": edit("window", "w",
				with(window("03-02T10:00", 60, ""), func(w *definition.WindowSpec) { w.Type = "emergency" }))},
			[]string{"w 2026-03-02T10:00:00 60m  [] since 02 Mar 09:00"}},
	} {
		t.Run(c.says, func(t *testing.T) {
			h := sailings(t)
			_, err := h.try(at(t, "01T00:00").Add(-50*span.Day), nil, define(catalogue.Agreement, "gate-gold", agreement("gates")))
			if err != nil {
				t.Fatal(err)
			}
			if _, err := h.try(february(t), nil, define(catalogue.Window, "w", c.first)); err != nil {
				t.Fatal(err)
			}
			for _, when := range slices.Sorted(maps.Keys(c.edits)) {
				h.do(strings.TrimSpace(when), c.edits[when])
			}
			agreements := []string{"gold"}
			if c.says == "one service more" {
				agreements = append(agreements, "gate-gold")
			}
			got := h.windows("2026-03", agreements...)
			slices.Sort(got)
			slices.Sort(c.want)
			if !slices.Equal(got, c.want) {
				t.Errorf("%q\nwant %q", got, c.want)
			}
		})
	}
}

// Whatever was edited how often: what the evidence says of each minute and service is
// what the revision in force then planned, announced since the earliest from which on
// every revision said so. Both are looked up here minute by minute.
func TestEvidenceOfWindowsIsWhatWasPlanned(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	services := []string{"gates", "sailings"}
	rules := []string{"", "", "FREQ=DAILY", "FREQ=DAILY;BYHOUR=3,4,5", "FREQ=HOURLY;INTERVAL=5", "FREQ=WEEKLY;BYDAY=MO,TH",
		"FREQ=DAILY;COUNT=6"}
	random := func() definition.WindowSpec {
		w := window(fmt.Sprintf("03-%02dT%02d:%02d", 1+r.IntN(12), r.IntN(24), r.IntN(60)), int64(1+r.IntN(600)), rules[r.IntN(len(rules))])
		if r.IntN(3) == 0 {
			w.Timezone = "Europe/Oslo" // whose clocks change on the 29th
		}
		if w.Services = services; r.IntN(3) > 0 {
			w.Services = services[:1+r.IntN(2)]
		}
		if r.IntN(6) == 0 {
			w.Type = definition.Emergency
		}
		return w
	}
	// otherwise gives some occurrences of a window another time.
	otherwise := func(w definition.WindowSpec) definition.WindowSpec {
		c, err := definition.CompileWindow(definition.Window{Start: w.Start, Timezone: w.Timezone, DurationS: w.DurationS, RRule: w.RRule})
		if err != nil {
			t.Fatal(err)
		}
		walls, err := c.Recurrence.Walls(at(t, "01T00:00"), at(t, "20T00:00"))
		if err != nil || w.RRule == "" || len(walls) == 0 {
			return w
		}
		w.Exdates, w.Changes = nil, nil
		for range r.IntN(3) {
			wall := walls[r.IntN(len(walls))].String()
			if r.IntN(2) == 0 {
				w.Exdates = append(w.Exdates, wall)
				continue
			}
			if !slices.ContainsFunc(w.Changes, func(o definition.Occurrence) bool { return o.At == wall }) && !slices.Contains(w.Exdates, wall) {
				w.Changes = append(w.Changes, definition.Occurrence{At: wall, DurationS: int64(1+r.IntN(200)) * 60,
					Start: fmt.Sprintf("2026-03-%02dT%02d:%02d:00", 1+r.IntN(12), r.IntN(24), r.IntN(60))})
			}
		}
		w.Exdates = slices.DeleteFunc(w.Exdates, func(x string) bool {
			return slices.ContainsFunc(w.Changes, func(o definition.Occurrence) bool { return o.At == x })
		})
		return w
	}
	for round := range 150 {
		h := sailings(t)
		when := at(t, "01T00:00").Add(int64(r.IntN(3*24*60)) * span.Minute)
		ids := []string{"w", "x", "y"}[:1+r.IntN(3)]
		spec, step, retired := map[string]definition.WindowSpec{}, map[string]catalogue.Step{}, map[string]bool{}
		for _, id := range ids {
			spec[id] = random()
			step[id] = define(catalogue.Window, id, spec[id])
		}
		for range 1 + r.IntN(8) {
			id := ids[r.IntN(len(ids))]
			_, err := h.try(when, nil, step[id])
			if err != nil && strings.Contains(err.Error(), "over by now") { // a rule of one start plans the same, and may be over
				w := spec[id]
				w.RRule = "FREQ=DAILY;COUNT=1"
				spec[id] = w
				again := step[id]
				again.Spec = w
				_, err = h.try(when, nil, again)
			}
			if err != nil {
				t.Fatalf("%+v: %v", step[id].Spec, err)
			}
			if r.IntN(3) > 0 { // several at one instant, too
				when = when.Add(int64(1+r.IntN(3*24*60)) * span.Minute)
			}
			switch {
			case retired[id]:
				step[id], retired[id] = catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Window, ID: id}, false
			case r.IntN(5) == 0:
				step[id], retired[id] = retire(catalogue.Window, id), true
			case r.IntN(4) == 0: // in place of another
				spec[id] = spec[ids[r.IntN(len(ids))]]
				step[id] = edit(catalogue.Window, id, spec[id])
			case r.IntN(2) == 0:
				spec[id] = otherwise(spec[id])
				step[id] = edit(catalogue.Window, id, spec[id])
			default:
				spec[id] = otherwise(random())
				step[id] = edit(catalogue.Window, id, spec[id])
			}
		}
		p := period(t, "2026-03-03/2026-03-12")
		b, err := h.snap.Bundle(p, nil, services, nil, true)
		if err != nil {
			t.Fatal(err)
		}
		type place struct {
			service, kind string
			at            span.Instant
		}
		said := map[place][]span.Instant{}
		for _, w := range b.Windows {
			list, err := w.Starts(p.Span().From.Add(-catalogue.Margin), p.Span().To)
			if err != nil {
				t.Fatal(err)
			}
			for _, from := range list {
				first := span.Instant((int64(from) + span.Minute - 1) / span.Minute * span.Minute) // it is looked up at whole minutes
				for i := first; i < from.Add(w.DurationS*span.Second); i = i.Add(span.Minute) {
					for _, s := range w.Services {
						said[place{s, w.OfType(), i}] = append(said[place{s, w.OfType(), i}], w.AnnouncedAt)
					}
				}
			}
		}
		plans := newPlans(t, h.snap)
		for i := p.Span().From; i < p.Span().To; i = i.Add(span.Minute) {
			for _, s := range services {
				for _, kind := range []string{definition.Planned, definition.Emergency} {
					since, planned := plans.announced(s, kind, i)
					got := said[place{s, kind, i}]
					if planned != (len(got) > 0) || slices.ContainsFunc(got, func(at span.Instant) bool { return at != since }) {
						t.Fatalf("round %d: %s work on %s at %s: planned %v since %s, the evidence says %v", round, kind, s, i, planned, since, got)
					}
				}
			}
		}
	}
}

// looked is a revision of a window, with the minutes that it plans.
type looked struct {
	catalogue.Revision[definition.WindowSpec]
	minutes map[span.Instant]bool
}

// plans look up minute by minute what each revision of each window says.
type plans []looked

func newPlans(t *testing.T, snap *catalogue.Snapshot) (out plans) {
	for _, e := range snap.Windows {
		for _, r := range e.Revisions {
			minutes := map[span.Instant]bool{}
			w := r.Spec
			add := func(from span.Instant, seconds int64) {
				for i := from; i < from.Add(seconds*span.Second); i = i.Add(span.Minute) {
					minutes[i] = true
				}
			}
			exdates := slices.Clone(w.Exdates)
			loc := zoneOf(t, w.Timezone)
			for _, o := range w.Changes {
				exdates = append(exdates, o.At)
				start, err := calendar.ParseWall(o.Start)
				if err != nil {
					t.Fatal(err)
				}
				add(start.Instant(loc, calendar.Shift), o.DurationS)
			}
			c, err := definition.CompileWindow(definition.Window{
				Start: w.Start, Timezone: w.Timezone, DurationS: w.DurationS, RRule: w.RRule, Exdates: exdates,
			})
			if err != nil {
				t.Fatal(err)
			}
			list, err := c.Recurrence.Starts(span.Beginning, at(t, "31T00:00"))
			if err != nil {
				t.Fatal(err)
			}
			for _, from := range list {
				add(from, w.DurationS)
			}
			out = append(out, looked{r, minutes})
		}
	}
	return out
}

// announced says whether work of a type is planned for a service at an instant, and
// since when: back from that instant over all times at which some revision said so.
func (p plans) announced(service, kind string, i span.Instant) (since span.Instant, planned bool) {
	var says []span.Span
	for _, r := range p {
		if r.Spec.OfType() == kind && slices.Contains(r.Spec.Services, service) && r.minutes[i] {
			says = append(says, r.During())
		}
	}
	set := span.Union(says...) // times that touch are one
	if !set.Contains(i) {
		return 0, false
	}
	for _, s := range set {
		if s.Contains(i) {
			return s.From, true
		}
	}
	return 0, false
}

func zoneOf(t *testing.T, name string) *time.Location {
	loc, err := calendar.Zone(name)
	if err != nil {
		t.Fatal(err)
	}
	return loc
}

// Work is planned to the second, by rules that can be computed, and an occurrence
// that is otherwise is one that the rule gives.
func TestWindowsThatCannotBe(t *testing.T) {
	daily := window("03-05T22:00", 60, "FREQ=DAILY")
	for path, change := range map[string]func(*definition.WindowSpec){
		"start":      func(w *definition.WindowSpec) { w.Start += ".5" },
		"type":       func(w *definition.WindowSpec) { w.Type = "secret" },
		"rrule":      func(w *definition.WindowSpec) { w.RRule = "FREQ=SECONDLY" },
		"duration_s": func(w *definition.WindowSpec) { w.DurationS = 32 * 86_400 },
		"changes[0].at": func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2026-03-06T21:00:00", DurationS: 60}}
		},
		"changes[0]": func(w *definition.WindowSpec) { w.Changes = []definition.Occurrence{{At: "2026-03-06T22:00:00"}} },
		"changes[0].start": func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2026-03-06T22:00:00", Start: "soon"}}
		},
		"changes[0].duration_s": func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2026-03-06T22:00:00", DurationS: -1}}
		},
		"changes[1].at": func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2026-03-06T22:00:00", DurationS: 60}, {At: "2026-03-06T22:00:00", DurationS: 90}}
		},
		"changes": func(w *definition.WindowSpec) {
			w.RRule, w.Changes = "", []definition.Occurrence{{At: "2026-03-05T22:00:00", DurationS: 60}}
		},
	} {
		w := daily
		change(&w)
		sailings(t).refused("01T00:00", path, "", define(catalogue.Window, "w", w))
	}
}
