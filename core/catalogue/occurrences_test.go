package catalogue_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
)

// What a window takes is told by the name that an edit of one occurrence has for it:
// also of those that were moved, that a clock change moves, and across a revision.
func TestOccurrencesAreNamedAsEditsNameThem(t *testing.T) {
	h := sailings(t)
	w := window("03-27T02:30", 60, "FREQ=DAILY")
	w.Timezone = "Europe/Oslo" // where 29 March has no half past two
	if _, err := h.try(february(t), nil, define(catalogue.Window, "backup", w)); err != nil {
		t.Fatal(err)
	}
	told := func() []string {
		list, faults := h.snap.Occurrences(span.Span{From: at(t, "27T00:00"), To: at(t, "31T00:00")})
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		var out []string
		for _, o := range list {
			out = append(out, fmt.Sprintf("%s %s %dm %v", o.At, o.From.Time().Format("02T15:04"), o.Length()/span.Minute, o.Changed))
		}
		return out
	}
	if got, want := told(), []string{"2026-03-27T02:30:00 27T01:30 60m false", "2026-03-28T02:30:00 28T01:30 60m false",
		"2026-03-29T02:30:00 29T01:30 60m false", "2026-03-30T02:30:00 30T00:30 60m false"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	// Each is skipped, moved and put back by that name.
	for _, name := range []string{"2026-03-28T02:30:00", "2026-03-29T02:30:00"} {
		skipped, err := w.Skipped(name)
		if err != nil {
			t.Fatal(err)
		}
		if w, err = skipped.Moved(name, "2026-03-29T12:00:00", 0); err != nil {
			t.Fatal(err)
		}
	}
	if w, err := w.AsRuled("2026-03-28T02:30:00"); err != nil || len(w.Changes) != 1 {
		t.Error(w, err)
	}
	if _, err := h.try(february(t).Add(span.Day), nil, edit(catalogue.Window, "backup", w)); err != nil {
		t.Fatal(err)
	}
	if got, want := told(), []string{"2026-03-27T02:30:00 27T01:30 60m false", "2026-03-28T02:30:00 29T10:00 60m true",
		"2026-03-29T02:30:00 29T10:00 60m true", "2026-03-30T02:30:00 30T00:30 60m false"}; !slices.Equal(got, want) {
		t.Errorf("two at one time: %q", got)
	}
}

func TestEditsOfOneOccurrence(t *testing.T) {
	daily, once := window("03-02T10:00", 60, "FREQ=DAILY"), window("03-02T10:00", 60, "")
	for name, x := range map[string]struct {
		do   func() (definition.WindowSpec, error)
		want string // of exdates and changes, or the fault
	}{
		"skipped": {func() (definition.WindowSpec, error) { return daily.Skipped("2026-03-04T10:00:00") }, `["2026-03-04T10:00:00"] null`},
		"later": {func() (definition.WindowSpec, error) {
			return daily.Moved("2026-03-04T10:00:00", "2026-03-04T22:00:00", 0)
		},
			`null [{"at":"2026-03-04T10:00:00","start":"2026-03-04T22:00:00"}]`},
		"longer": {func() (definition.WindowSpec, error) { return daily.Moved("2026-03-04T10:00:00", "", 7200) }, `null [{"at":"2026-03-04T10:00:00","duration_s":7200}]`},
		"as it was": {func() (definition.WindowSpec, error) {
			return daily.Moved("2026-03-04T10:00:00", "2026-03-04T10:00:00", 3600)
		}, `null null`},
		"no time":        {func() (definition.WindowSpec, error) { return daily.Skipped("tomorrow") }, "at:"},
		"one alone":      {func() (definition.WindowSpec, error) { return once.Skipped("2026-03-02T10:00:00") }, "at: it is the only occurrence; cancel the window"},
		"another of one": {func() (definition.WindowSpec, error) { return once.Moved("2026-03-03T10:00:00", "", 60) }, "at: the window does not start at 2026-03-03T10:00:00"},
		"moved, being alone": {func() (definition.WindowSpec, error) {
			return once.Moved("2026-03-02T10:00:00", "2026-03-05T10:00:00", 60)
		}, `null null`},
	} {
		w, err := x.do()
		got := fmt.Sprint(err)
		if err == nil {
			ex, _ := json.Marshal(w.Exdates)
			ch, _ := json.Marshal(w.Changes)
			got = string(ex) + " " + string(ch)
		}
		if !strings.HasPrefix(got, x.want) {
			t.Errorf("%s: %s", name, got)
		}
	}
	if len(daily.Exdates) > 0 || len(daily.Changes) > 0 {
		t.Error("the window itself was changed")
	}
}

// What is over cannot be planned, and an embargo wants a reason.
func TestWorkThatIsOverOrInAnEmbargo(t *testing.T) {
	h := sailings(t)
	now := at(t, "02T12:00")
	embargo := func(services ...string) definition.EmbargoSpec {
		return definition.EmbargoSpec{Name: "Easter", From: "2026-03-10T00:00:00", To: "2026-03-13T00:00:00", Timezone: "UTC", Services: services}
	}
	if _, err := h.try(now, nil, define(catalogue.Window, "nightly", window("03-02T14:00", 60, "FREQ=DAILY"))); err != nil {
		t.Fatal(err)
	}
	if _, err := h.try(now, nil, define(catalogue.Embargo, "easter", embargo())); err != nil {
		t.Fatal(err)
	}
	urgent := window("03-11T10:00", 60, "")
	urgent.Type = definition.Emergency
	renamed := window("03-02T14:00", 60, "FREQ=DAILY")
	renamed.Name = "Backup"
	longer := window("03-02T14:00", 90, "FREQ=DAILY")
	for i, x := range []struct {
		step catalogue.Step
		want string
	}{
		{define(catalogue.Window, "", window("03-02T10:00", 60, "")), "start: the work would be over"},
		{define(catalogue.Window, "", window("03-02T11:30", 60, "")), ""},
		{define(catalogue.Window, "", window("03-11T10:00", 60, "")), `reason: on 11 March 2026 it lies in the embargo "Easter"`},
		{define(catalogue.Window, "", window("03-09T23:30", 60, "")), "reason: on 9 March 2026"},
		{define(catalogue.Window, "", window("03-13T00:00", 60, "")), ""},
		{define(catalogue.Window, "", urgent), ""},
		{edit(catalogue.Window, "nightly", renamed), ""},
		{edit(catalogue.Window, "nightly", longer), "reason: on 10 March 2026"},
		{func() catalogue.Step {
			s := edit(catalogue.Window, "nightly", longer)
			s.Reason = "The supplier asks for it"
			return s
		}(), ""},
	} {
		_, err := h.try(now.Add(int64(i)*span.Second), nil, x.step)
		if got := fmt.Sprint(err); x.want == "" && err != nil || x.want != "" && !strings.HasPrefix(got, x.want) {
			t.Errorf("%d: %v, want %q", i, err, x.want)
		}
	}
	if _, err := h.try(now.Add(span.Hour), nil, edit(catalogue.Embargo, "easter", embargo("gates")),
		define(catalogue.Window, "", window("03-11T10:00", 60, ""))); err != nil {
		t.Errorf("of other services: %v", err)
	}
	for _, e := range []definition.EmbargoSpec{
		{Name: "x", From: "2026-03-10T00:00:00", To: "2026-03-10T00:00:00", Timezone: "UTC"},
		{Name: "x", From: "2026-03-10T00:00:00", To: "2036-03-10T00:00:00", Timezone: "UTC"},
		{Name: "x", From: "9998-03-10T00:00:00", To: "9998-03-11T00:00:00", Timezone: "UTC"},
		{Name: "x", From: "soon", To: "2026-03-10T00:00:00", Timezone: "UTC"},
		{Name: "x", From: "2026-03-10T00:00:00", To: "2026-03-11T00:00:00", Timezone: "Skerry"},
		{Name: "", From: "2026-03-10T00:00:00", To: "2026-03-11T00:00:00", Timezone: "UTC"},
	} {
		if _, err := h.try(now.Add(span.Hour), nil, define(catalogue.Embargo, "", e)); err == nil {
			t.Errorf("%+v was taken", e)
		}
	}
}

// What is remembered of a rule is the rule's: a revision that is read anew is expanded anew.
func TestARuleThatIsReadAnew(t *testing.T) {
	record := func(rule string) catalogue.Record {
		body, err := json.Marshal(window("03-02T10:00", 60, rule))
		if err != nil {
			t.Fatal(err)
		}
		return catalogue.Record{Kind: catalogue.Window, ID: "backup", Number: 1, From: february(t), Body: body}
	}
	count := func(s *catalogue.Snapshot) int {
		t.Helper()
		list, faults := s.Occurrences(span.Span{From: at(t, "02T00:00"), To: at(t, "16T00:00")})
		if len(faults) > 0 {
			t.Fatal(faults)
		}
		return len(list)
	}
	before := catalogue.New([]catalogue.Record{record("FREQ=DAILY")}, at(t, "31T00:00"))
	if n := count(before); n != 14 {
		t.Fatalf("%d of a daily one", n)
	}
	if n := count(before.With([]catalogue.Record{record("FREQ=WEEKLY")})); n != 2 {
		t.Errorf("%d of a weekly one", n)
	}
}
