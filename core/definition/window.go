package definition

import (
	"fmt"
	"slices"

	"kestite/core/calendar"
)

// WindowSpec is planned work. It counts as announced from when it was saved, piece
// by piece: what an edit adds is announced by the edit.
type WindowSpec struct {
	Name      string       `json:"name" minLength:"1" maxLength:"120"`
	Type      string       `json:"type,omitempty" enum:"planned,emergency" default:"planned"`
	Services  []string     `json:"services" minItems:"1" maxItems:"1000"`
	Start     string       `json:"start" doc:"Wall time, 2006-01-02T15:04:05"`
	Timezone  string       `json:"timezone"`
	DurationS int64        `json:"duration_s" minimum:"60" maximum:"2678400"`
	RRule     string       `json:"rrule,omitempty"`
	Exdates   []string     `json:"exdates,omitempty" doc:"Starts that are skipped, as wall times"`
	Changes   []Occurrence `json:"changes,omitempty" maxItems:"400" doc:"Single occurrences that are at another time, or last longer or shorter"`
	Reference string       `json:"reference,omitempty" maxLength:"120" doc:"Of the change, where work is approved elsewhere"`
	Note      string       `json:"note,omitempty" maxLength:"2000"`
	Tell      []Recipient  `json:"tell,omitempty" maxItems:"50" doc:"Who is told when it is planned, changed and cancelled"`
	Pause     []string     `json:"pause,omitempty" maxItems:"200" doc:"Ids of checks of its services that do not measure during it: only where every agreement that follows from them takes all of the work out of its base"`
	Imported  *Imported    `json:"imported,omitempty" doc:"The event it was imported from"`
}

// Imported is the event of another calendar that a window comes from, by RFC 5545.
type Imported struct {
	UID      string `json:"uid" maxLength:"255"`
	Sequence int64  `json:"sequence" minimum:"0" maximum:"2147483647" doc:"Of its revision there"`
}

// Occurrence is one of a window that is otherwise than its rule says.
type Occurrence struct {
	At        string `json:"at" doc:"Its start by the rule, as a wall time"`
	Start     string `json:"start,omitempty" doc:"When it starts instead, as a wall time; absent: as by the rule"`
	DurationS int64  `json:"duration_s,omitempty" minimum:"0" maximum:"2678400" doc:"How long it lasts, s; 0: as the others"`
}

// OfType is the window's type; planned where nothing is said.
func (w WindowSpec) OfType() string { return Window{Type: w.Type}.OfType() }

// Validate of a window.
func (w WindowSpec) Validate() error {
	if err := called("name", w.Name); err != nil {
		return err
	}
	if err := plain("reference", w.Reference); err != nil {
		return err
	}
	if err := receivers("tell", w.Tell); err != nil {
		return err
	}
	for i, id := range w.Pause {
		if slices.Contains(w.Pause[:i], id) {
			return fault(fmt.Sprintf("pause[%d]", i), "stands there twice; take one of them away")
		}
	}
	if w.Imported != nil {
		if err := called("imported.uid", w.Imported.UID); err != nil {
			return err
		}
	}
	if t := w.OfType(); t != Planned && t != Emergency {
		return fault("type", "%q is not allowed; it is planned or emergency", t)
	}
	if len(w.Services) == 0 {
		return fault("services", "a window needs at least one service")
	}
	compiled, err := CompileWindow(Window{Start: w.Start, Timezone: w.Timezone, DurationS: w.DurationS, RRule: w.RRule, Exdates: w.Exdates})
	if err != nil {
		return err
	}
	if !wholeSeconds(w.Start) {
		return fault("start", "%q has a fraction of a second; leave that away", w.Start)
	}
	return w.validChanges(compiled.Recurrence)
}

// validChanges says what is wrong with the occurrences that are otherwise.
func (w WindowSpec) validChanges(rule calendar.Recurrence) error {
	if len(w.Changes) > 0 && w.RRule == "" {
		return fault("changes", "the window has one occurrence alone; change its start and duration")
	}
	seen := map[string]bool{}
	for i, o := range w.Changes {
		path := fmt.Sprintf("changes[%d]", i)
		at, err := calendar.ParseWall(o.At)
		if err != nil {
			return fault(path+".at", "%v", err)
		}
		start := at.Instant(rule.Location, calendar.Shift)
		if starts, err := rule.Starts(start, start+1); err != nil {
			return fault("rrule", "%v", err)
		} else if len(starts) == 0 {
			return fault(path+".at", "the window does not start at %s", o.At)
		}
		if seen[at.String()] {
			return fault(path+".at", "%s stands there twice", o.At)
		}
		seen[at.String()] = true
		if o.Start == "" && o.DurationS == 0 {
			return fault(path, "says nothing; give it another start or duration, or skip the occurrence")
		}
		if o.DurationS < 0 || o.DurationS > MostWindowS {
			return fault(path+".duration_s", "%d s is not allowed; a window lasts at most 31 days, %d seconds", o.DurationS, MostWindowS)
		}
		if o.Start == "" {
			continue
		}
		if _, err := calendar.ParseWall(o.Start); err != nil || !wholeSeconds(o.Start) {
			return fault(path+".start", "%q is no wall time to the second; write it as 2006-01-02T15:04:05", o.Start)
		}
	}
	return nil
}

// wholeSeconds says whether a wall time that can be read has no fraction.
func wholeSeconds(wall string) bool { return len(wall) == len("2006-01-02T15:04:05") }
