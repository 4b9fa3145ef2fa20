package catalogue_test

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
)

// at is an instant of March 2026 in UTC, "02T10:00".
func at(t testing.TB, s string) span.Instant {
	t.Helper()
	i, err := span.ParseInstant("2026-03-" + s + ":00Z")
	if err != nil {
		t.Fatal(err)
	}
	return i
}

// told is a catalogue that changes are made to, one after another.
type told struct {
	t    testing.TB
	snap *catalogue.Snapshot
}

func newTold(t testing.TB) *told {
	far, err := span.ParseInstant("2027-06-01T00:00:00Z")
	if err != nil {
		t.Fatal(err)
	}
	snap := catalogue.New(nil, far)
	snap.Timezone = "UTC"
	return &told{t, snap}
}

// try makes a change at a time, with what is published.
func (h *told) try(when span.Instant, published map[string][]string, steps ...catalogue.Step) (*catalogue.Plan, error) {
	p, err := h.snap.Plan(catalogue.Circumstances{At: when, By: "Astrid", Published: published}, steps...)
	if err == nil {
		h.snap = p.After
	}
	return p, err
}

func (h *told) do(when string, steps ...catalogue.Step) *catalogue.Plan {
	h.t.Helper()
	p, err := h.try(at(h.t, when), nil, steps...)
	if err != nil {
		h.t.Fatalf("at %s: %v", when, err)
	}
	return p
}

// refused says with which fault a change is refused.
func (h *told) refused(when string, path, says string, steps ...catalogue.Step) {
	h.t.Helper()
	before, _ := json.Marshal(h.snap)
	_, err := h.try(at(h.t, when), nil, steps...)
	var fault *definition.Fault
	if !errors.As(err, &fault) || fault.Path != path || !strings.Contains(fault.Message, says) {
		h.t.Errorf("refused with %v, not with %s: %s", err, path, says)
	}
	if after, _ := json.Marshal(h.snap); string(after) != string(before) {
		h.t.Error("the refused change left something behind")
	}
}

func define(kind, id string, spec catalogue.Spec) catalogue.Step {
	return catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Spec: spec}
}

func edit(kind, id string, spec catalogue.Spec) catalogue.Step {
	return catalogue.Step{Does: catalogue.Rewrite, Kind: kind, ID: id, Spec: spec}
}

func retire(kind, id string) catalogue.Step {
	return catalogue.Step{Does: catalogue.Retire, Kind: kind, ID: id}
}

func service(needs ...string) definition.ServiceSpec {
	s := definition.ServiceSpec{Name: "A service", Kind: definition.Business, Combine: definition.Worst}
	if len(needs) > 0 {
		s.DependsOn = []definition.Dependency{{Services: needs}}
	}
	return s
}

func check(of, name string) definition.CheckSpec {
	return definition.CheckSpec{
		Service: of, Name: name, Kind: "http", Target: "http://127.0.0.1/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150,
		Confirm: 1, Recover: 1, Quorum: "any", Role: definition.Decides, Locations: []string{"tolvik"},
	}
}

func agreement(of string) definition.AgreementSpec {
	return definition.AgreementSpec{Name: "Gold", Service: of, Timezone: "UTC", TargetPercent: "99.9"}
}

func period(t testing.TB, name string) calendar.Period {
	t.Helper()
	p, err := calendar.ParsePeriod(name, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func (h *told) bundle(name string, agreements ...string) *definition.Compiled {
	h.t.Helper()
	b, err := h.snap.Bundle(period(h.t, name), nil, nil, agreements, true)
	if err != nil {
		h.t.Fatal(err)
	}
	return b
}

// One change makes a service with its checks and its agreement, each upon those
// before it, or nothing at all.
func TestAChangeIsMadeWholeOrNotAtAll(t *testing.T) {
	h := newTold(t)
	steps := []catalogue.Step{
		define(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"}), define(catalogue.Service, "tickets", service()),
		define(catalogue.Check, "page", check("tickets", "Page")), define(catalogue.Agreement, "gold", agreement("tickets")),
	}
	wrong := agreement("tickets")
	wrong.TargetPercent = "100.1"
	_, err := h.try(at(t, "01T00:00"), nil, append(slices.Clone(steps[:3]), define(catalogue.Agreement, "gold", wrong))...)
	var step *catalogue.StepError
	if !errors.As(err, &step) || step.Index != 3 || len(h.snap.Locations) != 0 {
		t.Fatalf("%v, %v", err, h.snap.Locations)
	}
	p := h.do("01T00:00", steps...)
	if !slices.Equal(p.IDs, []string{"tolvik", "tickets", "page", "gold"}) || len(p.Writes) != 4 || !slices.Equal(p.Services,
		[]string{"tickets"}) {
		t.Errorf("%+v", p)
	}
	if !slices.Equal(h.snap.ChecksOf["tickets"], []string{"page"}) {
		t.Errorf("checks of tickets: %v", h.snap.ChecksOf)
	}
	h.refused("01T00:01", "id", "is taken", define(catalogue.Service, "tickets", service()))
	h.refused("01T00:01", "id", "is no id", define(catalogue.Service, "Ticket sales!", service()))
	h.refused("01T00:01", "spec", "not that of a service", define(catalogue.Service, "x", agreement("tickets")))
	h.refused("01T00:01", "spec", "not that of a service", edit(catalogue.Service, "tickets", agreement("tickets")))
	h.refused("01T00:01", "kind", "no kind", define("ferry", "x", service()))
}

// A service is at each instant what was defined of it then: a dependency that was
// dropped goes on for the time before, and forbids nothing since.
func TestServicesAreWhatTheyWereThen(t *testing.T) {
	h := newTold(t)
	h.do("01T00:00", define(catalogue.Service, "quay", service()), define(catalogue.Service, "power", service()),
		define(catalogue.Service, "portal", service("quay")), define(catalogue.Agreement, "gold", agreement("portal")))
	h.refused("05T00:00", "depends_on[0].services[0]", "circle: portal depends on quay", edit(catalogue.Service, "quay", service("portal")))
	renamed := service("quay")
	renamed.Name = "The portal"
	h.do("06T00:00", edit(catalogue.Service, "portal", renamed))
	h.do("10T12:00", edit(catalogue.Service, "portal", service("power")))
	h.do("12T00:00", edit(catalogue.Service, "quay", service("portal")))
	h.refused("12T00:01", "depends_on[0].services[0]", "circle", edit(catalogue.Service, "portal", service("quay")))
	h.refused("12T00:01", "depends_on[0].services[0]", "on itself", edit(catalogue.Service, "portal", service("portal")))

	b := h.bundle("2026-03", "gold")
	revisions := b.Services["portal"]
	if len(revisions) != 2 { // a new name concerns no account
		t.Fatalf("%+v", revisions)
	}
	for when, need := range map[string]string{"01T00:01": "quay", "10T11:59": "quay", "10T12:00": "power", "31T00:00": "power"} {
		if r := revisions.InForce(at(t, when)); r == nil || !slices.Equal(r.DependsOn[0].Services, []string{need}) {
			t.Errorf("at %s: %+v", when, r)
		}
	}
	if r := revisions.InForce(at(t, "01T00:00") - 1); r != nil {
		t.Errorf("before it was there: %+v", r)
	}
	if got := h.snap.Needed(span.Span{From: at(t, "11T00:00"), To: at(t, "12T00:00")}, "portal"); !slices.Equal(got,
		[]string{"portal", "power"}) {
		t.Errorf("needed on the 11th: %v", got)
	}
	// A period long after has nothing of it.
	if later := h.bundle("2026-05", "gold").Services["portal"]; len(later) != 1 || later[0].From != nil || later[0].DependsOn[0].Services[0] != "power" {
		t.Errorf("in May: %+v", later)
	}
}

// A service that was retired is there for what refers to it, and unmeasured.
func TestARetiredServiceEnds(t *testing.T) {
	h := newTold(t)
	h.do("01T00:00", define(catalogue.Service, "quay", service()), define(catalogue.Service, "portal", service("quay")),
		define(catalogue.Agreement, "gold", agreement("portal")))
	h.refused("02T00:00", "id", "depends on it", retire(catalogue.Service, "quay"))
	h.refused("02T00:00", "id", "agreement Gold is about it", retire(catalogue.Service, "portal"))
	h.do("05T00:00", retire(catalogue.Agreement, "gold"), retire(catalogue.Service, "portal"))
	b := h.bundle("2026-03", "gold")
	if b.Services["portal"].InForce(at(t, "04T23:59")) == nil || b.Services["portal"].InForce(at(t, "05T00:00")) != nil {
		t.Errorf("%+v", b.Services["portal"])
	}
	if until := b.Agreements[0].Until; until == nil || *until != at(t, "05T00:00") {
		t.Errorf("the agreement ends at %v", until)
	}
	if len(h.bundle("2026-06", "gold").Services["portal"]) != 1 {
		t.Error("in June it is not there at all")
	}
}

// What would keep an agreement from being accounted is refused where it is made.
func TestWhatCouldNotBeAccountedIsRefused(t *testing.T) {
	h := newTold(t)
	excuses := agreement("portal")
	excuses.Upstream = &definition.Upstream{Excuse: []string{"quay"}}
	h.do("01T00:00", define(catalogue.Service, "quay", service()), define(catalogue.Service, "portal", service()))
	h.do("01T00:00", define(catalogue.Agreement, "gold", excuses))
	h.refused("02T00:00", "depends_on", "depends on its own service portal", edit(catalogue.Service, "quay", service("portal")))
	h.refused("02T00:00", "id", "excuses it", retire(catalogue.Service, "quay"))
	h.do("03T00:00", edit(catalogue.Agreement, "gold", agreement("portal"))) // from April on nothing is excused
	h.refused("04T00:00", "depends_on", "depends on its own service portal", edit(catalogue.Service, "quay", service("portal")))
	april := at(t, "31T00:00").Add(20 * span.Day)
	if _, err := h.try(april, nil, edit(catalogue.Service, "quay", service("portal"))); err != nil {
		t.Errorf("on 20 April: %v", err)
	}
	if _, err := h.try(april.Add(span.Hour), nil, edit(catalogue.Agreement, "gold", excuses)); err == nil {
		t.Error("an agreement excuses what depends on its service")
	}
}

// Each period of an agreement is accounted by one revision: an edit counts from
// the next, a correction from where it says.
func TestAnEditCountsFromTheNextPeriod(t *testing.T) {
	h := newTold(t)
	target := func(s definition.Percent) definition.AgreementSpec {
		a := agreement("portal")
		a.TargetPercent = s
		return a
	}
	h.do("01T00:00", define(catalogue.Service, "portal", service()), define(catalogue.Agreement, "gold", target("99.0")))
	h.do("10T00:00", edit(catalogue.Agreement, "gold", target("99.5")))
	want := func(says string, targets ...string) {
		t.Helper()
		for n, name := range []string{"2026-02", "2026-03", "2026-04", "2026-05"} {
			if got := h.bundle(name, "gold").Agreements[0].TargetPercent; string(got) != targets[n] {
				t.Errorf("%s: %s is accounted with %s, not %s", says, name, got, targets[n])
			}
		}
	}
	want("an edit in March", "99.0", "99.0", "99.5", "99.5")
	correct := func(reason, from string, s definition.Percent, published ...string) error {
		step := edit(catalogue.Agreement, "gold", target(s))
		step.Reason, step.Corrects = reason, from
		_, err := h.try(at(t, "20T00:00"), map[string][]string{"gold": published}, step)
		return err
	}
	for _, c := range []struct {
		path, says, reason, from string
		published                []string
	}{
		{"reason", "is missing", "", "2026-03", nil},
		{"corrects", "has not begun", "typed wrongly", "2026-04", nil},
		{"corrects", "no period of this agreement", "typed wrongly", "2026-Q1", nil},
		{"corrects", "names no period", "typed wrongly", "March", nil},
		{"corrects", "February 2026 has a published report", "typed wrongly", "2026-02", []string{"2026-02"}},
		{"corrects", "February 2026 has a published report", "typed wrongly", "2026-01", []string{"2026-02"}},
	} {
		var fault *definition.Fault
		if err := correct(c.reason, c.from, "99.9", c.published...); !errors.As(err,
			&fault) || fault.Path != c.path || !strings.Contains(fault.Message, c.says) {
			t.Errorf("correcting %s: %v", c.from, err)
		}
	}
	if err := correct("typed wrongly", "2026-03", "99.9", "2026-02"); err != nil {
		t.Fatal(err)
	}
	want("a correction of March", "99.0", "99.9", "99.9", "99.9")
	if r := h.snap.Accounting("gold", at(t, "01T00:00")); r.Number != 3 {
		t.Errorf("March is accounted by revision %d", r.Number)
	}
	h.refused("21T00:00", "corrects", "only an edit of an agreement",
		catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Service, ID: "portal", Spec: service(), Corrects: "2026-03"})
}

// Periods tile time across edits that change them: the last before ends where the
// edit counts from.
func TestPeriodsAcrossAnEditOfThem(t *testing.T) {
	h := newTold(t)
	h.do("01T00:00", define(catalogue.Service, "portal", service()), define(catalogue.Agreement, "gold", agreement("portal")))
	from15 := agreement("portal")
	from15.Period = &definition.Cycle{Unit: calendar.Month, Day: 15}
	h.do("10T00:00", edit(catalogue.Agreement, "gold", from15))
	quarters := agreement("portal")
	quarters.Timezone = "Europe/Oslo"
	quarters.Period = &definition.Cycle{Unit: calendar.Quarter}
	if _, err := h.try(at(t, "31T00:00").Add(20*span.Day), nil, edit(catalogue.Agreement, "gold", quarters)); err != nil { // 20 April
		t.Fatal(err)
	}
	var names []string
	last := at(t, "01T00:00")
	for len(names) < 7 {
		p, err := h.snap.PeriodAt("gold", last)
		if err != nil || p.Span().From != last {
			t.Fatalf("%s begins at %s and not at %s, %v", p.Name(), p.Span().From, last, err)
		}
		if back, err := h.snap.PeriodNamed("gold", p.Name()); err != nil || back.Span() != p.Span() {
			t.Errorf("%s is found as %v, %v", p.Name(), back, err)
		}
		names, last = append(names, p.Name()), p.Span().To
	}
	// The edit of 20 April counts from 15 May, 02:00 in Oslo.
	want := []string{"2026-03", "2026-04-01/2026-04-15", "2026-04-15/2026-05-15", "2026-05-15T02:00:00/2026-07-01", "2026-Q3",
		"2026-Q4", "2027-Q1"}
	if !slices.Equal(names, want) {
		t.Errorf("%v\nwant %v", names, want)
	}
}

// An agreement ends after the day that it names, or when it is retired.
func TestAnAgreementEnds(t *testing.T) {
	h := newTold(t)
	a := agreement("portal")
	a.From, a.Until = "2026-02-10", "2026-03-20"
	h.do("01T00:00", define(catalogue.Service, "portal", service()), define(catalogue.Agreement, "gold", a))
	got := h.bundle("2026-03", "gold").Agreements[0]
	if *got.From != at(t, "01T00:00").Add(-19*span.Day) || *got.Until != at(t, "21T00:00") {
		t.Errorf("from %s until %s", got.From, got.Until)
	}
	h.do("15T00:00", retire(catalogue.Agreement, "gold"))
	if got := h.bundle("2026-03", "gold").Agreements[0]; *got.Until != at(t, "15T00:00") {
		t.Errorf("retired, until %s", got.Until)
	}
	early := agreement("portal")
	early.Until = "2026-02-01" // and it was entered in March
	h.do("16T00:00", define(catalogue.Agreement, "early", early))
	if got := h.bundle("2026-03", "early").Agreements[0]; *got.Until-*got.From != 1 {
		t.Errorf("one that ended before it began promises %s to %s", got.From, got.Until)
	}
}

func TestReferencesAreThereAndKept(t *testing.T) {
	h := newTold(t)
	h.do("01T00:00", define(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"}),
		define(catalogue.Location, "eskerby", definition.LocationSpec{Name: "Eskerby"}), define(catalogue.Service, "tickets", service()))
	far := check("tickets", "Far")
	far.Locations = []string{"tolvik", "nowhere"}
	h.refused("02T00:00", "locations[1]", `"nowhere" names no location`, define(catalogue.Check, "far", far))
	h.refused("02T00:00", "service", `"ferries" names no service`, define(catalogue.Check, "far", check("ferries", "Far")))
	h.refused("02T00:00", "services[0]", `"ferries" names no service`, define(catalogue.Window, "w",
		definition.WindowSpec{Name: "W", Services: []string{"ferries"}, Start: "2026-03-02T10:00:00", Timezone: "UTC", DurationS: 60}))
	h.do("02T00:00", define(catalogue.Check, "page", check("tickets", "Page")))
	h.refused("03T00:00", "id", "measures from here", retire(catalogue.Location, "tolvik"))
	h.refused("03T00:00", "id", "check Page is in force", retire(catalogue.Service, "tickets"))
	slowest := check("tickets", "Slowest")
	slowest.Kind, slowest.Target, slowest.Locations, slowest.Role = "derived", "", []string{definition.Server}, definition.Informs
	slowest.Derived = &definition.DerivedSettings{Operation: definition.Max,
		Sources: []definition.Source{{Check: "page", Measure: "total_ms"}}}
	h.do("03T00:00", define(catalogue.Check, "slowest", slowest))
	h.refused("03T01:00", "id", "Slowest of tickets is made of it", retire(catalogue.Check, "page"))
	fast := agreement("tickets")
	fast.Latency = &definition.Latency{Check: "page", LimitMS: 500, TargetPercent: "95"}
	h.do("03T02:00", retire(catalogue.Check, "slowest"), define(catalogue.Agreement, "gold", fast))
	h.refused("03T03:00", "id", "promises its response time", retire(catalogue.Check, "page"))
	h.refused("03T03:00", "service", "stays with its service", func() catalogue.Step {
		h.do("03T03:00", define(catalogue.Service, "freight", service()))
		return edit(catalogue.Check, "page", check("freight", "Page"))
	}())
	// In one change all goes, in its order.
	h.do("04T00:00", retire(catalogue.Agreement, "gold"), retire(catalogue.Check, "page"), retire(catalogue.Service, "tickets"),
		retire(catalogue.Location, "tolvik"))
	if _, err := h.try(at(t, "05T00:00"), nil, edit(catalogue.Service, "tickets", service())); !errors.Is(err, catalogue.ErrRetired) {
		t.Errorf("an edit of what is retired: %v", err)
	}
	if _, err := h.try(at(t, "05T00:00"), nil, retire(catalogue.Check, "nothing")); !errors.Is(err, catalogue.ErrNotFound) {
		t.Errorf("retiring nothing: %v", err)
	}
	h.refused("05T00:00", "service", "names no service", catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Check, ID: "page"})
	h.do("05T00:00", catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Location, ID: "tolvik"},
		catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Service, ID: "tickets"},
		catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Check, ID: "page"})
	if p := h.do("06T00:00", catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Check, ID: "page"}); len(p.Writes) != 0 {
		t.Errorf("restoring what is in force writes %+v", p.Writes)
	}
}

// An edit is made on the revision that its maker saw.
func TestAnEditOfAnOldRevisionIsAConflict(t *testing.T) {
	h := newTold(t)
	h.do("01T00:00", define(catalogue.Service, "tickets", service()))
	step := edit(catalogue.Service, "tickets", service())
	step.Expected = 1
	h.do("02T00:00", step)
	_, err := h.try(at(t, "03T00:00"), nil, step)
	var conflict *catalogue.Conflict
	if !errors.As(err, &conflict) || conflict.Theirs != 2 || conflict.Mine != 1 || conflict.By != "Astrid" {
		t.Errorf("%v", err)
	}
	gone := retire(catalogue.Service, "tickets")
	gone.Expected = 1
	if _, err := h.try(at(t, "03T00:00"), nil, gone); !errors.As(err, &conflict) {
		t.Errorf("retiring by an old revision: %v", err)
	}
	// Two changes at one instant follow one another all the same.
	h.do("04T00:00", edit(catalogue.Service, "tickets", service()))
	h.do("04T00:00", edit(catalogue.Service, "tickets", service()))
	revisions := h.snap.Services["tickets"].Revisions
	for n := 1; n < len(revisions); n++ {
		if revisions[n].From <= revisions[n-1].From || *revisions[n-1].Until != revisions[n].From {
			t.Errorf("revision %d: %+v after %+v", n+1, revisions[n], revisions[n-1])
		}
	}
}
