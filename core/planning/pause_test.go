package planning_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/evidence"
	"kestite/core/planning"
	"kestite/core/span"
)

func snapshotOf(t testing.TB, from span.Instant, specs map[string]catalogue.Spec) *catalogue.Snapshot {
	t.Helper()
	var records []catalogue.Record
	for _, key := range slices.Sorted(func(yield func(string) bool) {
		for k := range specs {
			if !yield(k) {
				return
			}
		}
	}) {
		kind, id, _ := strings.Cut(key, " ")
		body, err := json.Marshal(specs[key])
		if err != nil {
			t.Fatal(err)
		}
		records = append(records, catalogue.Record{Kind: kind, ID: id, Number: 1, From: from, Body: body})
	}
	s := catalogue.New(records, from.Add(400*span.Day))
	s.Timezone = "UTC"
	return s
}

// accounts are those of all agreements in March, by measurements that are all well but
// those that are left out.
func accounts(t testing.TB, s *catalogue.Snapshot, without func(check string, at span.Instant) bool) map[string]*account.Account {
	t.Helper()
	out := map[string]*account.Account{}
	for _, id := range catalogue.Live(s.Agreements) {
		period, err := s.PeriodAt(id, at(t, "10T00:00"))
		if err != nil {
			t.Fatal(err)
		}
		bundle, err := s.Bundle(period, nil, nil, []string{id}, true)
		if err != nil {
			t.Fatal(err)
		}
		var rows strings.Builder
		rows.WriteString("check,location,at,outcome\n")
		for _, revisions := range bundle.Checks {
			c := revisions[0]
			for at := period.Span().From.Add(-span.Hour); at < period.Span().To; at = at.Add(c.IntervalS * span.Second) {
				if !without(c.ID, at) {
					fmt.Fprintf(&rows, "%s,tolvik,%s,ok\n", c.ID, at)
				}
			}
		}
		m, err := evidence.ReadMeasurements(bundle, "rows", func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(rows.String())), nil }, nil)
		if err != nil {
			t.Fatal(err)
		}
		if out[id], err = account.NewEvidence(bundle, m.Stretches, m.Timing).Account(bundle.Agreements[0]); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

func weekly(days ...string) *definition.HoursSpec {
	return &definition.HoursSpec{WeeklyPlan: definition.WeeklyPlan{Timezone: "UTC", Holidays: []string{}, Weekly: []definition.WeeklyRow{{Days: days, From: "06:00", To: "20:00"}}}}
}

func figures(a *account.Account) string {
	availability := "none"
	if a.AvailabilityPercent != nil {
		availability = *a.AvailabilityPercent
	}
	return fmt.Sprintf("%s of %d, %d down, %d unmeasured, %s, left %d", availability, a.BaseMS, a.DowntimeMS, a.TotalMS.Unmeasured, a.Verdict, a.AllowanceLeftMS)
}

// Random agreements, windows and hours: where a check may pause no account is another one
// for it, whatever follows from it; where it may not, most would be.
func TestWhatPausesCostsNoAgreement(t *testing.T) {
	now := at(t, "01T00:00")
	allowed, refused, wouldDiffer := 0, 0, 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 5))
		check := func(of string, role string) definition.CheckSpec {
			return definition.CheckSpec{Service: of, Name: of, Kind: "http", Target: "https://a.skerry.example/", IntervalS: []int64{300, 600}[r.IntN(2)], TimeoutMS: 1000,
				StaleAfterS: 1500, Confirm: 1 + r.Int64N(2), Recover: 1, Quorum: "any", Role: role, Locations: []string{"tolvik"}}
		}
		service := func(needs ...string) definition.ServiceSpec {
			s := definition.ServiceSpec{Name: "S", Kind: "business", Combine: "worst"}
			if len(needs) > 0 {
				s.DependsOn = []definition.Dependency{{Services: needs}}
			}
			return s
		}
		promise := func(of string) definition.AgreementSpec {
			a := definition.AgreementSpec{Name: "A of " + of, Service: of, TargetPercent: "99", Timezone: "UTC", Unmeasured: []string{"down", "exclude", "up"}[r.IntN(3)]}
			if r.IntN(5) > 0 {
				a.Maintenance = &definition.MaintenanceSpec{Mode: []string{"exclude", "exclude", "exclude", "forgive", "ignore"}[r.IntN(5)]}
				if a.Maintenance.Mode != "ignore" && r.IntN(3) == 0 {
					a.Maintenance.NoticeS = r.Int64N(3) * 86_400
				}
				if hours := r.Int64N(12) * 3600; a.Maintenance.Mode != "ignore" && r.IntN(3) == 0 {
					a.Maintenance.CapS = &hours
				}
			}
			if r.IntN(3) == 0 {
				a.ServiceHours = weekly("MO", "TU", "WE", "TH", "FR")
			}
			return a
		}
		gates := promise("gates")
		if r.IntN(2) == 0 {
			gates.Upstream = &definition.Upstream{Excuse: []string{"tickets"}}
		}
		window := definition.WindowSpec{Name: "Work", Services: []string{"tickets"}, Start: fmt.Sprintf("2026-03-%02dT%02d:00:00", 2+r.IntN(5), r.IntN(24)), Timezone: "UTC",
			DurationS: []int64{1800, 7200, 6 * 3600}[r.IntN(3)], RRule: []string{"", "FREQ=WEEKLY"}[r.IntN(2)], Pause: []string{"page"}}
		if r.IntN(2) == 0 {
			window.Services = append(window.Services, "board")
		}
		specs := map[string]catalogue.Spec{
			"location tolvik": definition.LocationSpec{Name: "Tolvik"}, "service tickets": service(), "service board": service("tickets"), "service gates": service(),
			"check page": check("tickets", []string{"decides", "decides", "informs"}[r.IntN(3)]), "check own": check("tickets", "decides"), "check gates": check("gates", "decides"),
			"agreement tickets": promise("tickets"), "agreement board": promise("board"), "agreement gates": gates, "window work": window,
		}
		s := snapshotOf(t, now.Add(-span.Hour), specs)
		month := span.Span{From: now, To: now.Add(31 * span.Day)}
		pauses := planning.Pauses(s, month, now)
		if len(pauses) == 0 {
			t.Fatalf("seed %d: nothing pauses", seed)
		}
		in := func(refused bool) func(string, span.Instant) bool {
			return func(check string, at span.Instant) bool {
				return slices.ContainsFunc(pauses, func(p planning.Pause) bool {
					return p.Check == check && (p.Refused != "") == refused && p.Quiet.Contains(at)
				})
			}
		}
		all := accounts(t, s, func(string, span.Instant) bool { return false })
		quiet, forced := accounts(t, s, in(false)), accounts(t, s, in(true))
		differs := false
		for id, a := range all {
			if got, want := figures(quiet[id]), figures(a); got != want {
				t.Errorf("seed %d: %s is %s, and with pauses %s", seed, id, want, got)
			}
			differs = differs || figures(forced[id]) != figures(a)
		}
		some := slices.ContainsFunc(pauses, func(p planning.Pause) bool { return p.Refused != "" })
		if slices.ContainsFunc(pauses, func(p planning.Pause) bool { return p.Refused == "" }) {
			allowed++
		}
		if some {
			refused++
		}
		if some && differs {
			wouldDiffer++
		}
		err := planning.PauseFault(s, "work", now)
		var f *definition.Fault
		if (err != nil) != some || err != nil && (!errors.As(err, &f) || f.Path != "pause[0]" || strings.Contains(f.Message, "%!")) {
			t.Errorf("seed %d: of %d pauses some refused: %v, and it is said: %v", seed, len(pauses), some, err)
		}
	}
	t.Logf("%d allowed, %d refused, of which %d would have cost", allowed, refused, wouldDiffer)
	if allowed < 8 || refused < 20 || wouldDiffer < refused/2 {
		t.Errorf("%d allowed, %d refused, of which %d would have cost, are too few to prove anything", allowed, refused, wouldDiffer)
	}
}

// Each reason for which a check may not pause is said.
func TestWhyAChecksMayNotPause(t *testing.T) {
	now := at(t, "01T00:00")
	base := func() (definition.AgreementSpec, definition.WindowSpec) {
		return definition.AgreementSpec{Name: "Gold", Service: "tickets", TargetPercent: "99", Timezone: "UTC", Maintenance: &definition.MaintenanceSpec{Mode: "exclude"}},
			definition.WindowSpec{Name: "Work", Services: []string{"tickets"}, Start: "2026-03-03T02:00:00", Timezone: "UTC", DurationS: 7200, Pause: []string{"page"}}
	}
	for _, c := range []struct {
		name string
		edit func(*definition.AgreementSpec, *definition.WindowSpec, map[string]catalogue.Spec)
		want string
	}{
		{"granted", func(*definition.AgreementSpec, *definition.WindowSpec, map[string]catalogue.Spec) {}, ""},
		{"forgiven", func(a *definition.AgreementSpec, _ *definition.WindowSpec, _ map[string]catalogue.Spec) {
			a.Maintenance.Mode = "forgive"
		}, "Gold does not take planned work out of its base (mode forgive)"},
		{"no clause", func(a *definition.AgreementSpec, _ *definition.WindowSpec, _ map[string]catalogue.Spec) {
			a.Maintenance = nil
		}, "(mode ignore)"},
		{"late", func(a *definition.AgreementSpec, _ *definition.WindowSpec, _ map[string]catalogue.Spec) {
			a.Maintenance.NoticeS = 7 * 86_400
		}, "Gold does not grant all of it"},
		{"outside hours", func(a *definition.AgreementSpec, _ *definition.WindowSpec, _ map[string]catalogue.Spec) {
			a.Maintenance = nil
			a.ServiceHours = weekly("TU")
		}, ""},
		{"too short", func(_ *definition.AgreementSpec, w *definition.WindowSpec, _ map[string]catalogue.Spec) {
			w.DurationS = 120
		}, "it is too short"},
		{"made of it", func(_ *definition.AgreementSpec, _ *definition.WindowSpec, s map[string]catalogue.Spec) {
			s["service board"] = definition.ServiceSpec{Name: "Board", Kind: "business", Combine: "worst", DependsOn: []definition.Dependency{{Services: []string{"tickets"}}}}
			s["agreement board"] = definition.AgreementSpec{Name: "Silver", Service: "board", TargetPercent: "99", Timezone: "UTC", Maintenance: &definition.MaintenanceSpec{Mode: "exclude"}}
		}, "the account of Silver follows from it, being made of Tickets, and the window does not name its service"},
		{"excused", func(_ *definition.AgreementSpec, _ *definition.WindowSpec, s map[string]catalogue.Spec) {
			s["service gates"] = definition.ServiceSpec{Name: "Gates", Kind: "business", Combine: "worst"}
			s["agreement gates"] = definition.AgreementSpec{Name: "Bronze", Service: "gates", TargetPercent: "99", Timezone: "UTC", Maintenance: &definition.MaintenanceSpec{Mode: "exclude"},
				Upstream: &definition.Upstream{Excuse: []string{"tickets"}}}
		}, "which excuses the failures of Tickets"},
		{"a latency objective", func(a *definition.AgreementSpec, _ *definition.WindowSpec, s map[string]catalogue.Spec) {
			check := s["check page"].(definition.CheckSpec)
			check.Role = definition.Informs
			s["check page"] = check
			a.Maintenance = nil
			a.Latency = &definition.Latency{Check: "page", LimitMS: 500, TargetPercent: "95"}
		}, "(mode ignore)"},
		{"it informs", func(a *definition.AgreementSpec, _ *definition.WindowSpec, s map[string]catalogue.Spec) {
			check := s["check page"].(definition.CheckSpec)
			check.Role = definition.Informs
			s["check page"], a.Maintenance = check, nil
		}, ""},
	} {
		a, w := base()
		specs := map[string]catalogue.Spec{"location tolvik": definition.LocationSpec{Name: "Tolvik"}, "service tickets": definition.ServiceSpec{Name: "Tickets", Kind: "business", Combine: "worst"},
			"check page": definition.CheckSpec{Service: "tickets", Name: "Page", Kind: "http", Target: "https://a.skerry.example/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 200,
				Confirm: 2, Recover: 1, Quorum: "any", Role: definition.Decides, Locations: []string{"tolvik"}}}
		c.edit(&a, &w, specs)
		specs["agreement gold"], specs["window work"] = a, w
		err := planning.PauseFault(snapshotOf(t, now.Add(-span.Hour), specs), "work", now)
		if got := fmt.Sprint(err); (err != nil) != (c.want != "") || c.want != "" && !strings.Contains(got, c.want) {
			t.Errorf("%s: %v\nwant %s", c.name, err, c.want)
		}
	}
}
