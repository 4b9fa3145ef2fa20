package catalogue

import (
	"errors"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/span"
)

// What is added to planned work on a service that asks for it waits for a second person;
// what takes away, runs, or is an emergency does not.
func TestWorkThatNeedsASecondPerson(t *testing.T) {
	now, err := span.ParseInstant("2026-11-02T12:00:00Z")
	if err != nil {
		t.Fatal(err)
	}
	s := New(nil, 0)
	do := func(approved bool, steps ...Step) error {
		now = now.Add(10_000)
		p, err := s.Plan(Circumstances{At: now, By: "t", Approved: approved}, steps...)
		if err == nil {
			s = p.After
		}
		return err
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for id, asks := range map[string]bool{"tickets": true, "crew": false} {
		must(do(false, Step{Kind: Service, ID: id, Spec: definition.ServiceSpec{Name: strings.ToUpper(id), Kind: "business", Combine: "worst", WorkApproval: asks}}))
	}
	work := func(edit func(*definition.WindowSpec)) definition.WindowSpec {
		w := definition.WindowSpec{Name: "Upkeep", Services: []string{"tickets"}, Start: "2026-11-03T02:00:00", Timezone: "UTC", DurationS: 7200, RRule: "FREQ=WEEKLY"}
		if edit != nil {
			edit(&w)
		}
		return w
	}
	// The window as it stands, and what an edit of it makes of it.
	for _, c := range []struct {
		name string
		was  func(*definition.WindowSpec)
		edit func(*definition.WindowSpec)
		want bool
	}{
		{"new", nil, nil, true},
		{"new, on what does not ask", nil, func(w *definition.WindowSpec) { w.Services = []string{"crew"} }, false},
		{"new, an emergency", nil, func(w *definition.WindowSpec) { w.Type = definition.Emergency }, false},
		{"new, in two years", nil, func(w *definition.WindowSpec) { w.Start = "2028-11-07T02:00:00" }, true},
		{"new, once, in two years", nil, func(w *definition.WindowSpec) { w.Start, w.RRule = "2028-11-07T02:00:00", "" }, true},
		{"more of it, in two years", func(w *definition.WindowSpec) { w.RRule = "FREQ=WEEKLY;COUNT=100" }, func(w *definition.WindowSpec) { w.RRule = "FREQ=WEEKLY;COUNT=101" }, true},
		{"one moved, in two years", same, func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2028-11-07T02:00:00", Start: "2028-11-07T03:00:00"}}
		}, true},
		{"another name", same, func(w *definition.WindowSpec) { w.Name = "Care" }, false},
		{"shorter", same, func(w *definition.WindowSpec) { w.DurationS = 3600 }, false},
		{"longer", same, func(w *definition.WindowSpec) { w.DurationS = 7260 }, true},
		{"one skipped", same, func(w *definition.WindowSpec) { w.Exdates = []string{"2026-11-10T02:00:00"} }, false},
		{"one put back", func(w *definition.WindowSpec) { w.Exdates = []string{"2026-11-10T02:00:00"} }, func(w *definition.WindowSpec) { w.Exdates = nil }, true},
		{"one cut", same, func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2026-11-10T02:00:00", DurationS: 600}}
		}, false},
		{"one moved", same, func(w *definition.WindowSpec) {
			w.Changes = []definition.Occurrence{{At: "2026-11-10T02:00:00", Start: "2026-11-10T03:00:00"}}
		}, true},
		{"until an end", same, func(w *definition.WindowSpec) { w.RRule = "FREQ=WEEKLY;COUNT=3" }, false},
		{"more often", same, func(w *definition.WindowSpec) { w.RRule = "FREQ=DAILY" }, true},
		{"on more, that does not ask", same, func(w *definition.WindowSpec) { w.Services = []string{"tickets", "crew"} }, false},
		{"on what asks, too", func(w *definition.WindowSpec) { w.Services = []string{"crew"} }, func(w *definition.WindowSpec) { w.Services = []string{"crew", "tickets"} }, true},
		{"no emergency any more", func(w *definition.WindowSpec) { w.Type = definition.Emergency }, same, true},
		{"emergency now", same, func(w *definition.WindowSpec) { w.Type = definition.Emergency }, false},
		{"what runs lasts longer", running, func(w *definition.WindowSpec) { running(w); w.DurationS = 7200 + 3600 }, false},
		{"what runs, and what comes, last longer", func(w *definition.WindowSpec) { running(w); w.RRule = "FREQ=DAILY" }, func(w *definition.WindowSpec) {
			running(w)
			w.RRule, w.DurationS = "FREQ=DAILY", 7200+3600
		}, true},
	} {
		id := ""
		step := Step{Kind: Window, Spec: work(c.edit)}
		if c.was != nil {
			p, err := s.Plan(Circumstances{At: now, By: "t", Approved: true}, Step{Kind: Window, Spec: work(c.was)})
			must(err)
			id, s = p.IDs[0], p.After
			step.Does, step.ID = Rewrite, id
		}
		before := s
		err := do(false, step)
		var asks *Unapproved
		if got := errors.As(err, &asks); got != c.want || !got && err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if c.want {
			var f *definition.Fault
			if !errors.As(err, &f) || f.Path != "services" || !strings.Contains(f.Message, "TICKETS asks a second person") {
				t.Errorf("%s is said as %v", c.name, err)
			}
			if err := do(true, step); err != nil {
				t.Errorf("%s, approved: %v", c.name, err)
			}
		}
		s = before
	}
	// What was cancelled is planned anew, and so waits anew.
	must(do(true, Step{Kind: Window, ID: "care", Spec: work(nil)}))
	must(do(false, Step{Does: Retire, Kind: Window, ID: "care"}))
	var asks *Unapproved
	if err := do(false, Step{Does: Restore, Kind: Window, ID: "care"}); !errors.As(err, &asks) {
		t.Errorf("a window that was cancelled came back: %v", err)
	}
}

func same(*definition.WindowSpec) {}

// running is a window that began an hour before the test's noon.
func running(w *definition.WindowSpec) { w.Start, w.RRule = "2026-11-02T11:00:00", "" }
