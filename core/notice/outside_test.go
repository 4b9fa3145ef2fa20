package notice

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
)

// office are the hours of a plan; an incident of these tests opens on a Monday at 04:10 there.
func office(p definition.NoticePlanSpec, outside string) definition.NoticePlanSpec {
	p.Hours = &definition.WeeklyPlan{Timezone: "Europe/Oslo", Weekly: []definition.WeeklyRow{
		{Days: []string{"MO", "TU", "WE", "TH", "FR"}, From: "08:00", To: "16:00"}}}
	p.Outside = outside
	return p
}

func TestDigests(t *testing.T) {
	digest := func(at ...string) *definition.Digest { return &definition.Digest{Timezone: "Europe/Oslo", At: at} }
	night := office(twoSteps, definition.OutsideDigest)
	night.Digest = digest("07:30", "17:00")
	all := twoSteps
	all.Digest = digest("07:30")
	all.Digest.Days = []string{"WE"}
	for _, c := range []struct {
		name string
		plan definition.NoticePlanSpec
		want string
	}{
		{"outside the hours once in the digest, within them again", night,
			"03:12 step 0 in 06:30; 03:18 step 1 in 06:30; 07:00 step 1 again 3"},
		{"a plan of digests repeats nothing", all, "03:12 step 0 in 04 06:30; 03:18 step 1 in 04 06:30"},
	} {
		l := LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false)
		var got []string
		for _, n := range l.Schedule(NewPlan("duty", c.plan), start-1, start.Add(30*span.Hour)) {
			line := n.At.String()[11:16] + " " + n.words()
			if n.Digest != nil {
				line += " in " + strings.TrimPrefix(n.Digest.String()[8:10]+" "+n.Digest.String()[11:16], "02 ")
			}
			got = append(got, line)
		}
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, s, c.want)
		}
	}
	l := LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false)
	if why, until := l.Silence(NewPlan("duty", night), start); !strings.Contains(why, "digest") || until == nil || until.String()[11:16] != "06:30" {
		t.Errorf("outside its hours it says %q until %v", why, until)
	}
}

// A digest has its times on the clocks of its zone: the hour that a change skips is the
// one after it, and one that comes twice is its first.
func TestWhenDigestsAreSent(t *testing.T) {
	for _, c := range []struct{ at, days, after, want string }{
		{"07:30", "", "2026-11-02T06:29:59.999Z", "2026-11-02T06:30:00.000Z"},
		{"07:30", "", "2026-11-02T06:30:00.000Z", "2026-11-03T06:30:00.000Z"},
		{"07:30 17:00", "", "2026-11-02T06:30:00.000Z", "2026-11-02T16:00:00.000Z"},
		{"17:00 07:30", "MO", "2026-11-02T16:00:00.000Z", "2026-11-09T06:30:00.000Z"},
		{"02:30", "", "2026-03-28T12:00:00.000Z", "2026-03-29T01:30:00.000Z"},
		{"02:30", "", "2026-10-24T12:00:00.000Z", "2026-10-25T00:30:00.000Z"},
		{"02:30", "", "2026-10-25T00:30:00.000Z", "2026-10-26T01:30:00.000Z"},
	} {
		d := definition.Digest{Timezone: "Europe/Oslo", At: strings.Fields(c.at), Days: strings.Fields(c.days)}
		compiled, err := d.Compile()
		if err != nil {
			t.Fatal(err)
		}
		if got := compiled.Next(instant(c.after)).String(); got != c.want {
			t.Errorf("after %s the digest at %s %s is sent at %s, want %s", c.after, c.at, c.days, got, c.want)
		}
	}
}

func snapshot(t *testing.T, specs map[string]catalogue.Spec) *catalogue.Snapshot {
	t.Helper()
	var records []catalogue.Record
	for key, spec := range specs {
		kind, id, _ := strings.Cut(key, " ")
		body, err := json.Marshal(spec)
		if err != nil {
			t.Fatal(err)
		}
		records = append(records, catalogue.Record{Kind: kind, ID: id, Number: 1, From: start.Add(-span.Day), Body: body})
	}
	return catalogue.New(records, start.Add(span.Day))
}

// What a plan leaves to another one outside its hours that one tells then, and from when
// on it still lasts; within the hours it tells nothing.
func TestAnotherPlanTellsOutside(t *testing.T) {
	day := office(definition.NoticePlanSpec{Name: "Day", Steps: []definition.NoticeStep{{Tell: []definition.Recipient{{Pool: "desk"}}}}}, definition.OutsidePlan)
	day.Instead = "night"
	night := definition.NoticePlanSpec{Name: "Night", Steps: []definition.NoticeStep{{AfterS: 300, Tell: []definition.Recipient{{Pool: "duty"}}, RepeatS: 3600}}}
	specs := map[string]catalogue.Spec{
		"notice-plan day": day, "notice-plan night": night,
		"service gates": definition.ServiceSpec{Name: "Gates", Kind: "business", Combine: "worst", Notices: &definition.NoticeChoice{Plan: "day"}},
	}
	chosen := Plans(snapshot(t, specs), incident.Subject{About: incident.Service, ID: "gates"}, "gates")
	if want := []Chosen{{Plan: "day", By: OfService}, {Plan: "night", By: InPlaceOf, For: []string{"day"}}}; !slices.EqualFunc(chosen, want, Chosen.Equal) {
		t.Fatalf("it follows %v, want %v", chosen, want)
	}
	told := func(began span.Instant, until span.Instant) string {
		l := LifeOf(incident.Incident{KnownAt: began, Severity: definition.Major}, nil, false)
		var out []string
		for _, p := range Following(snapshot(t, specs), chosen, "gates") {
			for _, n := range l.Schedule(p, began-1, until) {
				out = append(out, fmt.Sprintf("%s %s %s", n.At.String()[11:16], p.ID, n.words()))
			}
		}
		slices.Sort(out)
		return strings.Join(out, "; ")
	}
	if got, want := told(start, start.Add(8*span.Hour)), "03:15 night step 0; 04:15 night step 0 again 1; 05:15 night step 0 again 2; "+
		"06:15 night step 0 again 3; 07:00 day step 0"; got != want {
		t.Errorf("a night is told %s\nwant %s", got, want)
	}
	if got, want := told(instant("2026-11-02T14:30:00Z"), instant("2026-11-02T16:30:00Z")), "14:30 day step 0; 15:00 night step 0; 15:35 night step 0 again 1; "+
		"16:35 night step 0 again 2"; !strings.HasPrefix(want, got) || got == "" {
		t.Errorf("an evening is told %s\nwant %s", got, want)
	}
	l := LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false)
	plans := Following(snapshot(t, specs), chosen, "gates")
	if why, _ := l.Silence(plans[0], start); !strings.Contains(why, "another one tells") {
		t.Errorf("at night the plan of the day says %q", why)
	}
	if why, _ := l.Silence(plans[1], start); why != "" {
		t.Errorf("at night the plan of the night says %q", why)
	}
	if why, _ := LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false).Silence(plans[1], instant("2026-11-02T09:00:00Z")); why == "" {
		t.Error("by day the plan of the night says nothing of why it is silent")
	}
	// A plan that the service follows by itself is not kept to the hours of another one.
	night.Everywhere = true
	specs["notice-plan night"] = night
	if chosen := Plans(snapshot(t, specs), incident.Subject{About: incident.Service, ID: "gates"}, "gates"); len(chosen) != 2 || chosen[1].By != OfAnything {
		t.Errorf("a plan for everything that another one leaves its nights to is followed as %v", chosen)
	}
}

// A step that is put elsewhere in its plan, or is due at another time, is the same step.
func TestAStepThatMovesIsNotToldAgain(t *testing.T) {
	told, l := new(Told), LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false)
	now := start.Add(9 * minute)
	for _, n := range l.Due(NewPlan("duty", twoSteps), told, now) {
		told.Add(n, now)
	}
	p := twoSteps
	p.Steps = []definition.NoticeStep{{Tell: []definition.Recipient{{Contact: "room"}}}, twoSteps.Steps[0], twoSteps.Steps[1]}
	p.Steps[2].AfterS = 300
	var got []string
	for _, n := range l.Due(NewPlan("duty", p), told, now) {
		got = append(got, n.words())
	}
	if want := []string{"step 0"}; !slices.Equal(got, want) {
		t.Errorf("after a step was put before the others %v are told, want %v", got, want)
	}
	// What was told before steps had marks is known by its number.
	old := new(Told)
	old.Add(Notice{What: Begun, Round: 1, Step: 0, Mark: MarkIn("1/step/0/0")}, now)
	got = nil
	for _, n := range l.Due(NewPlan("duty", twoSteps), old, now) {
		got = append(got, n.words())
	}
	if want := []string{"step 1"}; !slices.Equal(got, want) {
		t.Errorf("beside a notice without a mark %v are told, want %v", got, want)
	}
	same := definition.NoticePlanSpec{Steps: []definition.NoticeStep{twoSteps.Steps[0], twoSteps.Steps[0]}}
	if m := same.Marks(); m[0] == m[1] {
		t.Errorf("two steps alike have the marks %v", m)
	}
}

// A plan can be for what selections take: certificates of all services, services of a team.
func TestPlansForSelections(t *testing.T) {
	check := func(service, kind string) definition.CheckSpec {
		return definition.CheckSpec{Service: service, Name: kind, Kind: kind, Target: "x", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 200, Confirm: 1,
			Recover: 1, Quorum: "any", Role: definition.Informs, Locations: []string{"tolvik"}}
	}
	plan := func(selections ...string) definition.NoticePlanSpec {
		p := definition.NoticePlanSpec{Name: "P", Everywhere: true, Selections: selections}
		p.Steps = twoSteps.Steps
		return p
	}
	snap := snapshot(t, map[string]catalogue.Spec{
		"service gates": definition.ServiceSpec{Name: "Gates", Kind: "business", Combine: "worst", Tags: []string{"harbour"}},
		"service crew":  definition.ServiceSpec{Name: "Crew", Kind: "supporting", Combine: "worst"},
		"check page":    check("gates", "http"), "check cert": check("crew", "certificate"),
		"selection certificates":   definition.SelectionSpec{Name: "All certificates", Of: definition.OfChecks, CheckKinds: []string{"certificate"}},
		"selection harbour":        definition.SelectionSpec{Name: "Harbour", Of: definition.OfServices, Tags: []string{"harbour"}},
		"notice-plan certificates": plan("certificates"), "notice-plan harbour": plan("harbour"), "notice-plan both": plan("certificates", "harbour"),
	})
	for _, c := range []struct {
		about, id, service string
		want               []string
	}{
		{incident.Check, "cert", "crew", []string{"both", "certificates"}},
		{incident.Check, "page", "gates", []string{"both", "harbour"}},
		{incident.Service, "gates", "gates", []string{"both", "harbour"}},
		{incident.Service, "crew", "crew", nil},
		{incident.Location, "tolvik", "", nil},
	} {
		var got []string
		for _, p := range Plans(snap, incident.Subject{About: c.about, ID: c.id}, c.service) {
			got = append(got, p.Plan)
		}
		if slices.Sort(got); !slices.Equal(got, c.want) {
			t.Errorf("an incident of the %s %s follows %v, want %v", c.about, c.id, got, c.want)
		}
	}
}

// A plan for service hours has a clock that runs in those of the service's agreements,
// or outside all of them; where nothing was promised there are none.
func TestPlansForServiceHours(t *testing.T) {
	weekly := func(from, to string) *definition.HoursSpec {
		return &definition.HoursSpec{WeeklyPlan: definition.WeeklyPlan{Timezone: "Europe/Oslo", Holidays: []string{}, Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: from, To: to}}}}
	}
	agreement := func(hours *definition.HoursSpec) definition.AgreementSpec {
		return definition.AgreementSpec{Name: "A", Service: "gates", TargetPercent: "99", Timezone: "Europe/Oslo", ServiceHours: hours}
	}
	service := definition.ServiceSpec{Name: "S", Kind: "business", Combine: "worst"}
	for _, c := range []struct{ service, agreed, want string }{
		{"gates", "inside", "05:02 step 0; 05:08 step 1"}, // 04:10 there; hours from 06:00, and others from 10:00
		{"gates", "outside", "03:12 step 0; 03:18 step 1"},
		{"crew", "inside", ""},
		{"crew", "outside", "03:12 step 0; 03:18 step 1"},
		{"crew", "", "03:12 step 0; 03:18 step 1"},
	} {
		p := twoSteps
		p.Steps = slices.Clone(p.Steps)
		p.Steps[1].RepeatS, p.Steps[1].Most = 0, 0
		p.Agreed, p.Everywhere = c.agreed, true
		snap := snapshot(t, map[string]catalogue.Spec{"service gates": service, "service crew": service, "notice-plan p": p,
			"agreement early": agreement(weekly("06:00", "08:00")), "agreement late": agreement(weekly("10:00", "12:00"))})
		chosen := Plans(snap, incident.Subject{About: incident.Service, ID: c.service}, c.service)
		plans := Following(snap, chosen, c.service)
		l := LifeOf(incident.Incident{KnownAt: start, Severity: definition.Major}, nil, false)
		var got []string
		for _, n := range l.Schedule(plans[0], start-1, start.Add(10*span.Hour)) {
			got = append(got, n.At.String()[11:16]+" "+n.words())
		}
		if s := strings.Join(got, "; "); s != c.want {
			t.Errorf("%s, %s: %s\nwant %s", c.service, c.agreed, s, c.want)
		}
		silent := c.agreed == "inside"
		if why, _ := l.Silence(plans[0], start); (why != "") != silent {
			t.Errorf("%s, %s: at the beginning it says %q", c.service, c.agreed, why)
		}
	}
}
