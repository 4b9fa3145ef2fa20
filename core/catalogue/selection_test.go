package catalogue

import (
	"errors"
	"slices"
	"testing"

	"kestite/core/definition"
	"kestite/core/span"
)

// Who is told outside of hours stands in one place: no plan leaves it to itself, to one
// that leaves it on, or, while others leave it to it, to another one.
func TestPlansDoNotLeaveWhatIsDueInACircle(t *testing.T) {
	hours := &definition.WeeklyPlan{Timezone: "UTC", Weekly: []definition.WeeklyRow{{Days: []string{"MO"}, From: "08:00", To: "16:00"}}}
	plan := func(instead string) definition.NoticePlanSpec {
		p := definition.NoticePlanSpec{Name: "Plan", Steps: []definition.NoticeStep{{Tell: []definition.Recipient{{Person: "p"}}}}}
		if instead != "" {
			p.Hours, p.Outside, p.Instead = hours, definition.OutsidePlan, instead
		}
		return p
	}
	s := New(nil, 0)
	do := func(does Deed, id string, spec definition.NoticePlanSpec) string {
		p, err := s.Plan(Circumstances{At: 1_000_000, By: "t"}, Step{Does: does, Kind: NoticePlan, ID: id, Spec: spec})
		var f *definition.Fault
		if errors.As(err, &f) {
			return f.Path
		}
		if err != nil {
			t.Fatal(err)
		}
		s = p.After
		return ""
	}
	for i, c := range []struct {
		does    Deed
		id      string
		instead string
		want    string
	}{
		{Make, "night", "", ""}, {Make, "day", "night", ""}, {Make, "other", "nobody", "instead"}, {Make, "third", "day", "instead"},
		{Rewrite, "day", "day", "instead"}, {Rewrite, "night", "day", "instead"}, {Make, "late", "", ""}, {Rewrite, "night", "late", "outside"},
		{Rewrite, "day", "", ""}, {Rewrite, "night", "late", ""},
	} {
		if got := do(c.does, c.id, plan(c.instead)); got != c.want {
			t.Errorf("%d: %s leaves its nights to %q: fault at %q, want %q", i, c.id, c.instead, got, c.want)
		}
	}
}

// What selections take follows the definitions: what is added later is taken too, what is
// retired no more; what refers to one keeps it.
func TestSelectionsFollowTheDefinitions(t *testing.T) {
	s := New(nil, 0)
	at := 1_000_000
	do := func(steps ...Step) error {
		at += 10_000
		p, err := s.Plan(Circumstances{At: span.Instant(at), By: "t"}, steps...)
		if err == nil {
			s = p.After
		}
		return err
	}
	must := func(steps ...Step) {
		t.Helper()
		if err := do(steps...); err != nil {
			t.Fatal(err)
		}
	}
	service := func(kind, owner string, tags ...string) definition.ServiceSpec {
		return definition.ServiceSpec{Name: "S", Kind: kind, Combine: "worst", Owner: owner, Tags: tags}
	}
	check := func(of, kind string) definition.CheckSpec {
		return definition.CheckSpec{Service: of, Name: kind, Kind: kind, Target: "https://a.skerry.example/", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 200, Confirm: 1,
			Recover: 1, Quorum: "any", Role: definition.Informs, Locations: []string{"tolvik"}}
	}
	must(Step{Kind: Team, ID: "harbour", Spec: definition.TeamSpec{Name: "Harbour"}}, Step{Kind: Location, ID: "tolvik", Spec: definition.LocationSpec{Name: "Tolvik"}},
		Step{Kind: Service, ID: "gates", Spec: service("business", "harbour", "north")}, Step{Kind: Check, ID: "page", Spec: check("gates", "http")},
		Step{Kind: Service, ID: "crew", Spec: service("supporting", "", "north")},
		Step{Kind: Selection, ID: "ours", Spec: definition.SelectionSpec{Name: "Ours", Of: definition.OfServices, Owners: []string{"harbour"}, Tags: []string{"north", "south"}}},
		Step{Kind: Selection, ID: "pages", Spec: definition.SelectionSpec{Name: "Pages", Of: definition.OfChecks, CheckKinds: []string{"http"}}})
	takes := func(id string, services, checks []string) {
		t.Helper()
		spec := s.Selections[id].Current().Spec
		if got := s.Selected(spec); !slices.Equal(got, services) {
			t.Errorf("%s takes the services %v, want %v", id, got, services)
		}
		if got := s.SelectedChecks(spec); !slices.Equal(got, checks) {
			t.Errorf("%s takes the checks %v, want %v", id, got, checks)
		}
	}
	takes("ours", []string{"gates"}, []string{"page"})
	takes("pages", []string{"gates"}, []string{"page"})
	must(Step{Kind: Service, ID: "quay", Spec: service("supplier", "harbour", "south")}, Step{Kind: Check, ID: "quay", Spec: check("quay", "http")})
	takes("ours", []string{"gates", "quay"}, []string{"page", "quay"})
	must(Step{Does: Retire, Kind: Check, ID: "quay"})
	takes("ours", []string{"gates", "quay"}, []string{"page"})
	takes("pages", []string{"gates"}, []string{"page"})
	if s.InSelection("pages", "gates", "") || !s.InSelection("pages", "gates", "page") || !s.InSelection("ours", "gates", "page") || s.InSelection("ours", "crew", "") {
		t.Error("a selection of checks takes a service, or one of services not its checks")
	}
	must(Step{Kind: NoticePlan, ID: "plan", Spec: definition.NoticePlanSpec{Name: "Plan", Selections: []string{"pages"},
		Steps: []definition.NoticeStep{{Tell: []definition.Recipient{{Person: "p"}}}}}})
	if do(Step{Does: Retire, Kind: Selection, ID: "pages"}) == nil {
		t.Error("a selection was retired that a notice plan is for")
	}
	if do(Step{Does: Retire, Kind: Team, ID: "harbour"}) == nil {
		t.Error("a team was retired that a selection names")
	}
	if do(Step{Kind: Selection, ID: "odd", Spec: definition.SelectionSpec{Name: "Odd", Of: definition.OfServices, Owners: []string{"nobody"}}}) == nil {
		t.Error("a selection of a team that there is not was taken")
	}
}
