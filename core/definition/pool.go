package definition

import (
	"fmt"
	"slices"
	"time"

	"kestite/core/calendar"
)

// PoolSpec is people who can be told together, or of whom one is on duty.
type PoolSpec struct {
	Name      string     `json:"name" minLength:"1" maxLength:"80"`
	Members   []string   `json:"members" minItems:"1" maxItems:"50" doc:"Ids of people, in the order in which they take their turns"`
	Rotation  *Rotation  `json:"rotation,omitempty" doc:"One at a time is on duty; absent: all are told together"`
	Overrides []Override `json:"overrides,omitempty" maxItems:"200" doc:"Who stands in when"`
	Note      string     `json:"note,omitempty" maxLength:"2000"`
}

// Rotation is how duty goes round.
type Rotation struct {
	Timezone string `json:"timezone" minLength:"1" doc:"On whose clocks duty is handed over"`
	Every    string `json:"every" enum:"day,week"`
	Weekday  string `json:"weekday,omitempty" enum:"MO,TU,WE,TH,FR,SA,SU" doc:"Of every week: the day of the hand-over; absent: MO"`
	At       string `json:"at" minLength:"1" doc:"Time of the hand-over, 08:00"`
	From     string `json:"from" minLength:"1" doc:"The day from which the first member is on duty, 2006-01-02; before it nobody is"`
}

// Override puts somebody else on duty for a while.
type Override struct {
	From   string `json:"from" minLength:"1" doc:"Wall time in the zone of the rotation, 2006-01-02T15:04"`
	To     string `json:"to" minLength:"1"`
	Person string `json:"person" minLength:"1" doc:"Id of who is on duty; need not be a member"`
}

// Called is what people call what a spec defines.
func (p PoolSpec) Called() string { return p.Name }

// Validate of a pool.
func (p PoolSpec) Validate() error {
	if err := called("name", p.Name); err != nil {
		return err
	}
	for i, m := range p.Members {
		if m == "" || slices.Contains(p.Members[:i], m) {
			return fault(fmt.Sprintf("members[%d]", i), "stands there twice, or is nobody; take it away")
		}
	}
	if p.Rotation == nil {
		if len(p.Overrides) > 0 {
			return fault("overrides", "stand in for nobody where all are told; take them away, or let duty go round")
		}
		return nil
	}
	r := *p.Rotation
	if _, err := r.Compile(); err != nil {
		return Within("rotation", err)
	}
	for i, o := range p.Overrides {
		path := fmt.Sprintf("overrides[%d]", i)
		from, err := Minute(o.From)
		if err != nil {
			return fault(path+".from", "%v", err)
		}
		to, err := Minute(o.To)
		if err != nil {
			return fault(path+".to", "%v", err)
		}
		if !from.Before(to) {
			return fault(path+".to", "%s is not after %s; give a later time", o.To, o.From)
		}
		if o.Person == "" {
			return fault(path+".person", "is missing; say who is on duty")
		}
	}
	return nil
}

// Minute reads a wall time to the minute, or to the second.
func Minute(s string) (calendar.Wall, error) {
	if w, err := calendar.ParseWall(s + ":00"); err == nil {
		return w, nil
	}
	w, err := calendar.ParseWall(s)
	if err != nil {
		return w, fmt.Errorf("%q is no time; write it as 2026-05-04T08:00", s)
	}
	return w, nil
}

// CompiledRotation is a rotation with its zone and times resolved.
type CompiledRotation struct {
	Location *time.Location
	Days     int // from one hand-over to the next
	At       int64
	First    calendar.Wall // midnight of the day of the first hand-over
}

// Compile resolves a rotation. The error is a *Fault.
func (r Rotation) Compile() (CompiledRotation, error) {
	out := CompiledRotation{Days: 1}
	var err error
	if out.Location, err = calendar.Zone(r.Timezone); err != nil {
		return out, fault("timezone", "%v", err)
	}
	if out.At, err = calendar.ParseClock(r.At, false); err != nil {
		return out, fault("at", "%v", err)
	}
	if out.First, err = calendar.ParseDate(r.From); err != nil {
		return out, fault("from", "%v", err)
	}
	switch {
	case r.Every == "day" && r.Weekday != "":
		return out, fault("weekday", "duty that goes round by the day has none; take it away")
	case r.Every == "week":
		out.Days = 7
		day := weekdays["MO"]
		if r.Weekday != "" {
			known := false
			if day, known = weekdays[r.Weekday]; !known {
				return out, fault("weekday", "%q is no day; it is one of MO, TU, WE, TH, FR, SA, SU", r.Weekday)
			}
		}
		if out.First.Weekday() != day {
			return out, fault("from", "%s is a %s; duty is handed over on a %s, so begin on one", r.From, out.First.Weekday(), day)
		}
	}
	return out, nil
}
