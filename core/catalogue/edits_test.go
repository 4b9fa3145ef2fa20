package catalogue_test

import (
	"reflect"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
)

// Edits that accounts see are found, those of what a service needs too; those that they do
// not see, and those of other times, are not.
func TestEdits(t *testing.T) {
	h := newTold(t)
	service := func(name string, needs ...string) definition.ServiceSpec {
		s := definition.ServiceSpec{Name: name, Kind: definition.Business, Combine: definition.Worst}
		if len(needs) > 0 {
			s.DependsOn = []definition.Dependency{{Services: needs}}
		}
		return s
	}
	check := func(of, role string, interval int64) definition.CheckSpec {
		return definition.CheckSpec{Service: of, Name: of + " page", Kind: measure.HTTP.Name, Target: "http://127.0.0.1/", Role: role, IntervalS: interval, TimeoutMS: 1000, StaleAfterS: 300,
			Confirm: 1, Recover: 1, Locations: []string{"tolvik"}}
	}
	makes := func(kind, id string, spec catalogue.Spec) catalogue.Step {
		return catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Spec: spec}
	}
	edits := func(kind, id string, spec catalogue.Spec) catalogue.Step {
		return catalogue.Step{Does: catalogue.Rewrite, Kind: kind, ID: id, Spec: spec}
	}
	h.do("01T00:00", makes(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"}), makes(catalogue.Service, "quay", service("Quay")),
		makes(catalogue.Service, "gates", service("Gates", "quay")), makes(catalogue.Service, "board", service("Board")),
		makes(catalogue.Check, "quay-http", check("quay", definition.Decides, 60)), makes(catalogue.Check, "gates-http", check("gates", definition.Decides, 60)),
		makes(catalogue.Check, "gates-look", check("gates", definition.Informs, 60)), makes(catalogue.Check, "board-http", check("board", definition.Decides, 60)))
	h.do("03T00:00", edits(catalogue.Check, "quay-http", check("quay", definition.Decides, 30)))
	h.do("04T00:00", edits(catalogue.Check, "quay-http", check("quay", definition.Decides, 20)))
	renamed := check("gates", definition.Decides, 60)
	renamed.Name = "Another name"
	h.do("05T00:00", edits(catalogue.Check, "gates-http", renamed), edits(catalogue.Check, "gates-look", check("gates", definition.Informs, 30)),
		edits(catalogue.Check, "board-http", check("board", definition.Decides, 30)))
	h.do("06T00:00", edits(catalogue.Service, "gates", service("Gates renamed", "quay")))
	h.do("07T00:00", edits(catalogue.Service, "gates", service("Gates renamed")))
	during := func(from, to string) span.Span { return span.Span{From: at(t, from), To: at(t, to)} }
	for _, c := range []struct {
		within span.Span
		want   []catalogue.Edited
	}{
		{during("02T00:00", "07T00:00"), []catalogue.Edited{{Kind: catalogue.Check, ID: "quay-http", Times: 2, Last: at(t, "04T00:00")}}},
		{during("03T12:00", "08T00:00"), []catalogue.Edited{{Kind: catalogue.Service, ID: "gates", Times: 1, Last: at(t, "07T00:00")}, {Kind: catalogue.Check, ID: "quay-http", Times: 1, Last: at(t, "04T00:00")}}},
		{during("01T00:00", "03T00:00"), nil},
		{during("08T00:00", "09T00:00"), nil},
	} {
		if got := h.snap.Edits("gates", c.within); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%v: %+v, want %+v", c.within, got, c.want)
		}
	}
}
