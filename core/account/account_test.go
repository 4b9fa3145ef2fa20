package account_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/evidence"
	"kestite/core/span"
	"kestite/core/verdict"
)

// midnight begins the day that most tests account.
const midnight = "2026-03-02T00:00:00Z"

// bundle is a day of one service, changed by edit.
func bundle(t testing.TB, edit func(*definition.Bundle)) *definition.Compiled {
	t.Helper()
	b := definition.Bundle{
		Format: definition.Format,
		Period: definition.Period{Timezone: "UTC", Start: "2026-03-02T00:00:00", End: "2026-03-03T00:00:00"},
		Services: []definition.Service{{ID: "tickets", Kind: "business", Combine: "worst", Checks: []definition.Check{{
			ID: "page", Kind: "http", IntervalS: 60, StaleAfterS: 150, Confirm: 1, Recover: 1, Quorum: "any", Role: "decides", Locations: []string{"tolvik"},
		}}}},
		Agreements: []definition.Agreement{{
			ID: "gold", Service: "tickets", TargetPercent: "99.9", DegradedWeightPercent: "0", MinCoveragePercent: "0", Unmeasured: "exclude",
			Maintenance: definition.Maintenance{Mode: "ignore"},
		}},
	}
	if edit != nil {
		edit(&b)
	}
	c, err := definition.Compile(b)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// minutely makes a CSV of measurements a minute apart from midnight; outcome
// says each minute's, "" for none.
func minutely(check, location string, minutes int, outcome func(int) string) string {
	var out strings.Builder
	start, _ := time.Parse(time.RFC3339, midnight)
	for m := range minutes {
		if o := outcome(m); o != "" {
			fmt.Fprintf(&out, "%s,%s,%s,%s\n", check, location, start.Add(time.Duration(m)*time.Minute).Format("2006-01-02T15:04:05Z"), o)
		}
	}
	return out.String()
}

func read(t testing.TB, c *definition.Compiled, rows string) *evidence.Measurements {
	t.Helper()
	text := "check,location,at,outcome\n" + rows
	m, err := evidence.ReadMeasurements(c, "measurements.csv", func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }, nil)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func accountOf(t testing.TB, c *definition.Compiled, rows string) *account.Account {
	t.Helper()
	m := read(t, c, rows)
	list, err := account.NewEvidence(c, m.Stretches, m.Timing).All()
	if err != nil {
		t.Fatal(err)
	}
	return list[0]
}

func downBetween(from, to int) func(int) string {
	return func(m int) string {
		if m >= from && m < to {
			return "failed"
		}
		return "ok"
	}
}

func TestForecastSaysWhenTheAllowanceRunsOut(t *testing.T) {
	asOf, _ := span.ParseInstant("2026-03-02T12:00:00Z")
	c := bundle(t, func(b *definition.Bundle) {
		b.AsOf = &asOf
		b.Agreements[0].TargetPercent = "99" // 14.4 minutes a day
	})
	a := accountOf(t, c, minutely("page", "tolvik", 720, downBetween(600, 610)))
	pace := a.Forecast(a.From)
	// 10 minutes in 12 hours; 4.4 are left: at that pace 5 h 16 min 48 s.
	if pace.RunsOutAt == nil || pace.RunsOutAt.String() != "2026-03-02T17:16:48.000Z" || pace.Verdict != account.Missed {
		t.Errorf("pace %+v", pace)
	}
	recent := a.Forecast(asOf.Add(-span.Hour)) // nothing in the last hour
	if recent.RunsOutAt != nil || recent.Verdict != account.Met {
		t.Errorf("pace of the last hour %+v", recent)
	}
	if accountOf(t, bundle(t, nil), minutely("page", "tolvik", 1440, downBetween(0, 0))).Forecast(0) != nil {
		t.Error("a final account has a forecast")
	}
}

func TestExplainNamesTheRuleThatDecides(t *testing.T) {
	c := bundle(t, func(b *definition.Bundle) {
		b.Agreements[0].ServiceHours.Plan = &definition.WeeklyPlan{Timezone: "UTC", Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: "06:00", To: "22:00"}}}
		b.Agreements[0].Maintenance.Mode = "exclude"
		b.Agreements[0].MinOutageS = 180
		b.Windows = []definition.Window{{ID: "w", Services: []string{"tickets"}, Start: "2026-03-02T08:00:00", Timezone: "UTC", DurationS: 3600, AnnouncedAt: 0}}
		from, _ := span.ParseInstant("2026-03-02T10:00:00Z")
		b.Adjustments = []definition.Adjustment{{ID: "a1", Agreement: "gold", From: from, To: from.Add(span.Hour), Class: "excused", Approved: true, Reason: "fire drill"}}
	})
	rows := minutely("page", "tolvik", 1440, func(m int) string {
		if m >= 720 && m < 722 || m >= 780 && m < 800 {
			return "failed"
		}
		return "ok"
	})
	m := read(t, c, rows)
	e := account.NewEvidence(c, m.Stretches, m.Timing)
	a, err := e.Account(c.Agreements[0])
	if err != nil {
		t.Fatal(err)
	}
	for at, want := range map[string]struct {
		class account.Class
		rule  int
	}{
		"2026-03-02T05:00:00Z": {account.Outside, 1},
		"2026-03-02T10:30:00Z": {account.Excused, 2},
		"2026-03-02T08:30:00Z": {account.Maintenance, 3},
		"2026-03-02T12:01:00Z": {account.Tolerated, 5},
		"2026-03-02T13:05:00Z": {account.Down, 6},
		"2026-03-02T15:00:00Z": {account.Up, 6},
	} {
		i, _ := span.ParseInstant(at)
		x := e.Explain(a, m.Sources(), i)
		decided := 0
		for _, r := range x.Rules {
			if r.Decides {
				decided = r.Number
			}
		}
		class := account.Unmeasured
		for _, iv := range a.Intervals {
			if iv.From <= i && i < iv.To {
				class = iv.Class
			}
		}
		if x.Class != want.class || decided != want.rule || class != want.class {
			t.Errorf("%s: explained as %s by rule %d, accounted as %s; want %s by %d", at, x.Class, decided, class, want.class, want.rule)
		}
		if len(x.Service.Checks) != 1 || len(x.Service.Checks[0].Locations) != 1 || x.Service.Checks[0].Locations[0].Count == 0 {
			t.Errorf("%s: no measurements behind it: %+v", at, x.Service)
		}
	}
}

// history is a random bundle with random measurements.
type history struct {
	bundle *definition.Compiled
	rows   []string
}

func randomHistory(t testing.TB, r *rand.Rand) history {
	t.Helper()
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	edge, _ := span.ParseInstant(midnight)
	edge = edge.Add(int64(r.IntN(24*60)) * span.Minute)
	var asOf *span.Instant
	if r.IntN(3) == 0 {
		i, _ := span.ParseInstant(midnight)
		i = i.Add(int64(r.IntN(26)) * span.Hour)
		asOf = &i
	}
	c := bundle(t, func(b *definition.Bundle) {
		b.AsOf = asOf
		s := &b.Services[0]
		s.Combine = pick("worst", "best")
		first := s.Checks[0]
		first.Confirm, first.Recover = int64(1+r.IntN(3)), int64(1+r.IntN(3))
		first.Quorum = definition.Quorum(pick("any", "majority", "all", "2"))
		first.Locations = []string{"tolvik", "eskerby", "havn"}
		first.Until = &edge
		second := first
		second.From, second.Until = &edge, nil
		second.Confirm = int64(1 + r.IntN(3))
		second.Locations = first.Locations[:1+r.IntN(3)]
		second.StaleAfterS = int64(90 + r.IntN(200))
		s.Checks = []definition.Check{first, second}
		b.Services = append(b.Services, definition.Service{ID: "acquirer", Kind: "supplier", Combine: "worst", Checks: []definition.Check{{
			ID: "gateway", Kind: "http", IntervalS: 60, StaleAfterS: 150, Confirm: 1, Recover: 1, Quorum: "any", Role: "decides", Locations: []string{"tolvik"},
		}}})
		a := &b.Agreements[0]
		a.Unmeasured = pick("exclude", "down", "up")
		a.DegradedWeightPercent = definition.Percent(pick("0", "33.3", "100"))
		a.MinOutageS = int64(r.IntN(2) * 300)
		a.Upstream = definition.Upstream{Excuse: []string{"acquirer"}, LeadS: 60, LingerS: 120}
		a.Maintenance.Mode = pick("ignore", "exclude", "forgive")
		b.Windows = []definition.Window{{ID: "w", Services: []string{"tickets"}, Start: "2026-03-02T09:30:00", Timezone: "UTC", DurationS: 5400}}
	})
	h := history{bundle: c}
	for _, lane := range [][2]string{{"page", "tolvik"}, {"page", "eskerby"}, {"page", "havn"}, {"gateway", "tolvik"}} {
		state := "ok"
		rows := minutely(lane[0], lane[1], 25*60, func(int) string {
			if r.IntN(40) == 0 {
				state = pick("ok", "ok", "degraded", "failed", "failed", "")
			}
			return state
		})
		h.rows = append(h.rows, strings.SplitAfter(strings.TrimSuffix(rows, "\n"), "\n")...)
		h.rows[len(h.rows)-1] += "\n"
	}
	return h
}

func (h history) account(t testing.TB, rows []string) *account.Account {
	return accountOf(t, h.bundle, strings.Join(rows, ""))
}

func same(t *testing.T, what string, a, b *account.Account) {
	t.Helper()
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	if !bytes.Equal(x, y) {
		t.Fatalf("%s changed the account:\n%s\n%s", what, x, y)
	}
}

// FuzzHistories: what must hold for any history. Classes partition the period,
// bounds enclose the availability, neither the order of rows nor errors nor
// repeated rows change anything, and the account from stretches that were stored
// and loaded as the server does is that of the raw measurements.
func FuzzHistories(f *testing.F) {
	for seed := range uint64(100) {
		f.Add(seed, seed+1)
	}
	f.Fuzz(func(t *testing.T, one, two uint64) {
		r := rand.New(rand.NewPCG(one, two))
		h := randomHistory(t, r)
		a := h.account(t, h.rows)
		tm := a.TotalMS
		if sum := tm.Outside + tm.Up + tm.Degraded + tm.Down + tm.Tolerated + tm.Maintenance + tm.Upstream + tm.Excused + tm.Unmeasured; sum != tm.Period || tm.Agreed+tm.Outside != tm.Period {
			t.Fatalf("classes sum to %d of %d", sum, tm.Period)
		}
		at := a.From
		for _, i := range a.Intervals {
			if i.From != at || i.To <= i.From {
				t.Fatalf("a hole at %s", at)
			}
			at = i.To
		}
		if len(a.Intervals) > 0 && at != a.To {
			t.Fatalf("intervals end at %s", at)
		}
		if p := a.AvailabilityPercent; p != nil {
			if low, high := *a.AvailabilityLowPercent, *a.AvailabilityHighPercent; percent(low) > percent(*p) || percent(*p) > percent(high) {
				t.Fatalf("%s is outside [%s, %s]", *p, low, high)
			}
		}
		shuffled := append([]string(nil), h.rows...)
		r.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
		same(t, "shuffling", a, h.account(t, shuffled))
		extra := append(append([]string(nil), h.rows...), h.rows[r.IntN(len(h.rows))], "page,tolvik,2026-03-02T07:00:30Z,error\n")
		same(t, "a repeated row and an error", a, h.account(t, extra))
		stored := storedStretches(t, h, r)
		got, err := account.NewEvidence(h.bundle, func(check, location string) []verdict.Stretch { return stored[check+" "+location] }, nil).All()
		if err != nil {
			t.Fatal(err)
		}
		same(t, "judging in pieces", a, got[0])
	})
}

func percent(s string) float64 {
	var v float64
	fmt.Sscan(s, &v)
	return v
}

// storedStretches judges the rows as the server does: row by row, the series
// stored and loaded now and then, rows at or after as_of not there yet.
func storedStretches(t *testing.T, h history, r *rand.Rand) map[string][]verdict.Stretch {
	t.Helper()
	records, err := csv.NewReader(strings.NewReader(strings.Join(h.rows, ""))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	severity := map[string]verdict.State{"ok": verdict.Up, "degraded": verdict.Degraded, "failed": verdict.Down}
	series := map[string]*verdict.Series{}
	out := map[string][]verdict.Stretch{}
	for _, rec := range records {
		key := rec[0] + " " + rec[1]
		at, err := span.ParseInstant(rec[2])
		if err != nil {
			t.Fatal(err)
		}
		set, ok := verdict.Revisions(h.bundle.Checks[rec[0]]).Settings(at)
		if !ok || h.bundle.AsOf != nil && at >= *h.bundle.AsOf {
			continue
		}
		if series[key] == nil {
			series[key] = &verdict.Series{}
		}
		out[key] = series[key].Add(out[key], at, severity[rec[3]], set)
		if r.IntN(20) == 0 {
			text, _ := json.Marshal(series[key])
			fresh := &verdict.Series{}
			if err := json.Unmarshal(text, fresh); err != nil {
				t.Fatal(err)
			}
			series[key] = fresh
		}
	}
	for key, s := range series {
		out[key] = s.AtEnd(out[key])
	}
	return out
}

func TestWhatIfLeavesTheBundleAlone(t *testing.T) {
	c := bundle(t, nil)
	m := read(t, c, minutely("page", "tolvik", 1440, downBetween(600, 603)))
	e := account.NewEvidence(c, m.Stretches, m.Timing)
	other := c.Agreements[0]
	other.TargetPercent = "99.5"
	other.MinOutageS = 600
	changed, err := e.Account(other)
	if err != nil {
		t.Fatal(err)
	}
	own, err := e.Account(c.Agreements[0])
	if err != nil {
		t.Fatal(err)
	}
	if changed.Verdict != account.Met || changed.TotalMS.Tolerated != 180_000 || own.Verdict != account.Missed || own.TotalMS.Tolerated != 0 {
		t.Errorf("what-if %s, own %s", changed.Verdict, own.Verdict)
	}
	several, err := account.Under([]*account.Evidence{e, e}, other)
	if err != nil || len(several) != 2 || several[1].Verdict != account.Met {
		t.Errorf("under other clauses: %v %v", several, err)
	}
	if !reflect.DeepEqual(c.Agreements[0].TargetPercent, definition.Percent("99.9")) {
		t.Error("the bundle was changed")
	}
}

// One month, 5 checks at 5 locations every minute, from stretches.
func BenchmarkMonthFromStretches(b *testing.B) {
	c := bundle(b, func(x *definition.Bundle) {
		x.Period.Start, x.Period.End = "2026-03-01T00:00:00", "2026-04-01T00:00:00"
		s := &x.Services[0]
		s.Checks = nil
		for i := range 5 {
			s.Checks = append(s.Checks, definition.Check{
				ID: fmt.Sprintf("c%d", i), Kind: "http", IntervalS: 60, StaleAfterS: 150, Confirm: 2, Recover: 1, Quorum: "majority", Role: "decides",
				Locations: []string{"a", "b", "c", "d", "e"},
			})
		}
	})
	stretches := map[string][]verdict.Stretch{}
	for i := range 5 {
		for _, l := range []string{"a", "b", "c", "d", "e"} {
			var s verdict.Series
			var out []verdict.Stretch
			r := rand.New(rand.NewPCG(uint64(i), uint64(l[0])))
			for m := range 31 * 24 * 60 {
				own := verdict.Up
				if m%9000 < 4 || r.IntN(15000) == 0 {
					own = verdict.Down
				}
				out = s.Add(out, c.Span.From.Add(int64(m)*span.Minute), own, verdict.Settings{Confirm: 2, Recover: 1, StaleAfter: 150_000})
			}
			stretches[fmt.Sprintf("c%d %s", i, l)] = s.AtEnd(out)
		}
	}
	source := func(check, location string) []verdict.Stretch { return stretches[check+" "+location] }
	b.ReportAllocs()
	for b.Loop() {
		if _, err := account.NewEvidence(c, source, nil).All(); err != nil {
			b.Fatal(err)
		}
	}
}
