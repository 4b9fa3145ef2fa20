package icalendar

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/planning"
	"kestite/core/span"
)

// What an import does with an event.
const (
	Makes     = "make"
	Edits     = "edit"
	Cancels   = "cancel"
	Unchanged = "unchanged"
	Older     = "older"   // than what was imported, or defined, before
	Refused   = "refused" // Why says for what
)

// Taken is what an import does with an event.
type Taken struct {
	Event
	Does   string
	Window string // id of the window that it makes or finds
	Why    string
	Step   catalogue.Step // of Makes, Edits and Cancels
}

// Steps are what importing events would do, each upon those before it; one that is
// refused harms no other. Events that name no services of ours are for services. What is
// imported counts as announced at the import, as anything else that is saved. may refuses
// what whoever imports may not write.
func Steps(snap *catalogue.Snapshot, in catalogue.Circumstances, events []Event, services []string,
	may func(before, after *catalogue.Snapshot, w catalogue.Write) error) []Taken {
	byUID := map[string]string{}
	for _, id := range catalogue.Sorted(snap.Windows) {
		uid := UIDOf(id, snap.Windows[id].Current().Spec)
		if have, twice := byUID[uid]; !twice || snap.Windows[have].Retired {
			byUID[uid] = id
		}
	}
	var out []Taken
	for _, e := range events {
		t := Taken{Event: e, Window: byUID[e.UID]}
		t.decide(snap, services)
		if t.Step.Kind != "" {
			plan, err := snap.Plan(in, t.Step)
			for i := 0; err == nil && may != nil && i < len(plan.Writes); i++ {
				err = may(snap, plan.After, plan.Writes[i])
			}
			if err == nil && len(t.Spec.Pause) > 0 && t.Step.Does != catalogue.Retire {
				err = planning.PauseFault(plan.After, plan.IDs[0], in.At)
			}
			if err != nil {
				t.Does, t.Why, t.Step = Refused, why(err), catalogue.Step{}
			} else {
				t.Window, snap = plan.IDs[0], plan.After
				t.Step.ID = t.Window
				byUID[e.UID] = t.Window
			}
		}
		out = append(out, t)
	}
	return out
}

// why says why a step was refused, with the field where that helps.
func why(err error) string {
	var f *definition.Fault
	if errors.As(err, &f) && f.Path != "" && !strings.Contains(f.Message, f.Path) {
		return f.Path + ": " + f.Message
	}
	return err.Error()
}

func (t *Taken) decide(snap *catalogue.Snapshot, services []string) {
	entry := snap.Windows[t.Window]
	if t.Cancelled {
		switch {
		case entry == nil:
			t.Does, t.Why = Unchanged, "it is cancelled, and there is no window of it"
		case entry.Retired:
			t.Does = Unchanged
		default:
			t.Does, t.Step = Cancels, catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Window, ID: t.Window, Reason: "cancelled by the calendar"}
		}
		return
	}
	t.Spec.Services = known(snap, t.Spec.Services)
	if len(t.Spec.Services) == 0 {
		t.Spec.Services = services
	}
	if len(t.Spec.Services) == 0 && entry != nil {
		t.Spec.Services = entry.Current().Spec.Services
	}
	if len(t.Spec.Services) == 0 {
		t.Does, t.Why = Refused, "it names no service; choose which it is for"
		return
	}
	if !strings.HasSuffix(t.UID, ours) {
		t.Spec.Imported = &definition.Imported{UID: t.UID, Sequence: t.Sequence}
	}
	if entry == nil {
		t.Does, t.Step = Makes, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, Spec: t.Spec}
		if id, is := strings.CutSuffix(t.UID, ours); is && definition.Slug(id) == id {
			t.Step.ID = id // exported elsewhere, or before a fresh start
		}
		return
	}
	current := entry.Current()
	t.Spec.Tell, t.Spec.Pause = current.Spec.Tell, current.Spec.Pause // no calendar says whom we tell, nor what pauses
	before := int64(current.Number)
	if current.Spec.Imported != nil {
		before = current.Spec.Imported.Sequence
	}
	switch {
	case t.Sequence < before:
		t.Does = Older
	case same(current.Spec, t.Spec) && !entry.Retired:
		t.Does = Unchanged
	case entry.Retired && t.Sequence == before:
		t.Does, t.Why = Unchanged, "its window was cancelled here since"
	case entry.Retired:
		t.Does, t.Step = Edits, catalogue.Step{Does: catalogue.Restore, Kind: catalogue.Window, ID: t.Window, Spec: t.Spec}
	default:
		t.Does, t.Step = Edits, catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Window, ID: t.Window, Spec: t.Spec}
	}
}

// known are the services among ids that are in force.
func known(snap *catalogue.Snapshot, ids []string) []string {
	return slices.DeleteFunc(slices.Clone(ids), func(id string) bool { e := snap.Services[id]; return e == nil || e.Retired })
}

// same says whether two specs say the same, but for the sequence and the order of what
// is skipped or otherwise.
func same(a, b definition.WindowSpec) bool {
	text := func(w definition.WindowSpec) string {
		w.Imported = nil
		if w.Type == definition.Planned {
			w.Type = ""
		}
		w.Exdates = slices.Sorted(slices.Values(w.Exdates))
		w.Changes = slices.SortedFunc(slices.Values(w.Changes), func(x, y definition.Occurrence) int { return strings.Compare(x.At, y.At) })
		body, _ := json.Marshal(w) // a spec has nothing that cannot be written
		return string(body)
	}
	return text(a) == text(b)
}

// Of are the windows of a snapshot as a calendar shows them: those in force that touch
// some services, all where none are named, and those that were cancelled since.
func Of(snap *catalogue.Snapshot, services []string, since span.Instant) []Window {
	var out []Window
	for _, id := range catalogue.Sorted(snap.Windows) {
		e := snap.Windows[id]
		c := e.Current()
		if e.Retired && c.During().To < since {
			continue
		}
		if len(services) > 0 && !slices.ContainsFunc(c.Spec.Services, func(s string) bool { return slices.Contains(services, s) }) {
			continue
		}
		w := Window{ID: id, Spec: c.Spec, Revision: c.Number, Since: c.From, Cancelled: e.Retired}
		for _, s := range c.Spec.Services {
			w.Names = append(w.Names, snap.Named(catalogue.Service, s))
		}
		out = append(out, w)
	}
	return out
}
