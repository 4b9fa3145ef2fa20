package definition

import (
	"slices"

	"kestite/core/calendar"
)

// find reads the wall time that names an occurrence, as it is written in specs.
func (w WindowSpec) find(at string) (string, error) {
	wall, err := calendar.ParseWall(at)
	if err != nil {
		return "", fault("at", "%v", err)
	}
	if w.RRule == "" {
		start, err := calendar.ParseWall(w.Start)
		if err != nil || !start.Equal(wall) {
			return "", fault("at", "the window does not start at %s, but once, at %s", at, w.Start)
		}
	}
	return wall.String(), nil
}

// without is the spec without what it says of one occurrence.
func (w WindowSpec) without(at string) WindowSpec {
	w.Exdates = slices.DeleteFunc(slices.Clone(w.Exdates), func(x string) bool { return sameWall(x, at) })
	w.Changes = slices.DeleteFunc(slices.Clone(w.Changes), func(c Occurrence) bool { return sameWall(c.At, at) })
	return w
}

func sameWall(a, b string) bool {
	x, err := calendar.ParseWall(a)
	y, err2 := calendar.ParseWall(b)
	return err == nil && err2 == nil && x.Equal(y)
}

// Skipped is a recurring window without the occurrence that its rule gives at a wall
// time. The error is a *Fault of at.
func (w WindowSpec) Skipped(at string) (WindowSpec, error) {
	at, err := w.find(at)
	if err != nil {
		return w, err
	}
	if w.RRule == "" {
		return w, fault("at", "it is the only occurrence; cancel the window")
	}
	w = w.without(at)
	w.Exdates = append(w.Exdates, at)
	slices.Sort(w.Exdates)
	return w, nil
}

// Moved is a window of which the occurrence that its rule gives at a wall time starts
// at another one, or lasts otherwise; an empty start and 0 leave that. The error is a
// *Fault.
func (w WindowSpec) Moved(at, start string, durationS int64) (WindowSpec, error) {
	at, err := w.find(at)
	if err != nil {
		return w, err
	}
	if w.RRule == "" {
		if start != "" {
			w.Start = start
		}
		if durationS != 0 {
			w.DurationS = durationS
		}
		return w, nil
	}
	w = w.without(at)
	o := Occurrence{At: at}
	if start != "" && !sameWall(start, at) {
		o.Start = start
	}
	if durationS != w.DurationS {
		o.DurationS = durationS
	}
	if o.Start == "" && o.DurationS == 0 {
		return w, nil
	}
	w.Changes = append(w.Changes, o)
	slices.SortFunc(w.Changes, func(a, b Occurrence) int {
		if a.At < b.At {
			return -1
		}
		return 1
	})
	return w, nil
}

// AsRuled is a recurring window in which the occurrence that its rule gives at a wall
// time is as the rule says again, skipped or moved as it may have been. The error is a *Fault.
func (w WindowSpec) AsRuled(at string) (WindowSpec, error) {
	at, err := w.find(at)
	if err != nil {
		return w, err
	}
	return w.without(at), nil
}
