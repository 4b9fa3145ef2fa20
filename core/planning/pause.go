package planning

import (
	"fmt"
	"slices"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
)

// Pause is a check that does not measure during a piece of planned work.
type Pause struct {
	Window, Check string
	Work          span.Span // the piece of work
	// Quiet is when it does not measure: it begins again in time for its state to be known
	// as the work ends. It is empty where the work is too short for that.
	Quiet span.Span
	// Refused says why it measures all the same; empty: it does not.
	Refused string
}

// pauseAhead is how far ahead it is looked whether checks may pause, when that is asked for, ms.
const pauseAhead = 62 * span.Day

// Pauses are the checks that pause during planned work that touches a span, as things are
// defined now: only in work that every agreement whose account follows from the check
// takes out of its base, all of it that lies in its hours.
func Pauses(snap *catalogue.Snapshot, within span.Span, now span.Instant) []Pause {
	var out []Pause
	for _, id := range catalogue.Live(snap.Windows) {
		if len(snap.Windows[id].Current().Spec.Pause) > 0 {
			out = append(out, pausesOf(snap, id, within, now)...)
		}
	}
	return out
}

func pausesOf(snap *catalogue.Snapshot, window string, within span.Span, now span.Instant) []Pause {
	list, err := snap.OccurrencesOf(window, within)
	if err != nil {
		return nil // the calendar says so; measuring goes on
	}
	var out []Pause
	rooms := roomsOf{snap: snap, now: now, known: map[string]*account.Room{}}
	for _, o := range list {
		for _, check := range o.Spec.Pause {
			e := snap.Checks[check]
			if e == nil || e.Retired {
				continue
			}
			p := Pause{Window: window, Check: check, Work: o.Planned, Refused: rooms.refuses(check, o)}
			if p.Quiet = Quiet(o.Planned, e.Current().Spec); p.Refused == "" && p.Quiet.Empty() {
				p.Refused = "it is too short: a check measures again before work ends, so that its state is known then"
			}
			out = append(out, p)
		}
	}
	return out
}

// Quiet is when a check does not measure during a piece of work: it measures often enough
// before the end for a failure to be believed by then.
func Quiet(work span.Span, c definition.CheckSpec) span.Span {
	runs := c.Confirm
	if c.Rolling != nil {
		runs = max(runs, c.Rolling.Runs)
	}
	return span.Span{From: work.From, To: work.To.Add(-(runs + 1) * c.IntervalS * span.Second)}
}

// PauseFault refuses checks that are to pause in a window and may not, in what of it is to
// come within two months. The error is a *definition.Fault.
func PauseFault(snap *catalogue.Snapshot, window string, now span.Instant) error {
	spec := snap.Windows[window].Current().Spec
	zone, err := calendar.Zone(spec.Timezone)
	if err != nil {
		return err
	}
	ahead := span.Span{From: now, To: now.Add(pauseAhead)}
	if spec.RRule == "" {
		ahead.To = span.End
	}
	for _, p := range pausesOf(snap, window, ahead, now) {
		if p.Refused != "" {
			return definition.Faultf(fmt.Sprintf("pause[%d]", slices.Index(spec.Pause, p.Check)), "%s cannot pause on %s: %s", snap.Named(catalogue.Check, p.Check),
				p.Work.From.Time().In(zone).Format("2 January 2006"), p.Refused)
		}
	}
	return nil
}

// roomsOf are the rooms that agreements leave for work, by agreement and period.
type roomsOf struct {
	snap  *catalogue.Snapshot
	now   span.Instant
	known map[string]*account.Room
}

// refuses says why a check may not pause during an occurrence; empty: it may.
func (r roomsOf) refuses(check string, o catalogue.Occurrence) string {
	for _, t := range follows(r.snap, check) {
		spec := r.snap.Agreements[t.agreement].Current().Spec
		name := spec.Name
		if whom := r.snap.Whom(spec); whom != "" && whom != name {
			name += " (" + whom + ")"
		}
		period, err := r.snap.PeriodAt(t.agreement, o.Planned.From)
		for err == nil && period.Span().From < o.Planned.To {
			var room *account.Room
			if room, err = r.room(t.agreement, period); err != nil {
				break
			}
			hours := room.Hours.Cut(o.Planned)
			switch missing := hours.Without(room.Granted); {
			case len(hours) == 0:
			case room.Agreement.Maintenance.Mode != definition.MaintenanceExclude:
				return fmt.Sprintf("%s does not take planned work out of its base (mode %s), so that what is not measured would count", name, room.Agreement.Maintenance.Mode)
			case len(missing) > 0 && t.by != "" && !slices.Contains(o.Spec.Services, spec.Service):
				return fmt.Sprintf("the account of %s follows from it, %s, and the window does not name its service", name, t.by)
			case len(missing) > 0:
				return fmt.Sprintf("%s does not grant all of it: its notice, its cap or the times agreed for work do not allow that", name)
			}
			period, err = r.snap.PeriodAt(t.agreement, period.Span().To)
		}
		if err != nil {
			return fmt.Sprintf("%s cannot be accounted: %v", name, err)
		}
	}
	return ""
}

func (r roomsOf) room(agreement string, period calendar.Period) (*account.Room, error) {
	key := agreement + " " + period.Span().From.String()
	if room := r.known[key]; room != nil {
		return room, nil
	}
	asOf := max(r.now, period.Span().From)
	bundle, err := r.snap.Bundle(period, &asOf, nil, []string{agreement}, true)
	if err != nil {
		return nil, err
	}
	room, err := account.RoomOf(bundle, bundle.Agreements[0])
	if err == nil {
		r.known[key] = room
	}
	return room, err
}

// measured says whether checks of its own decide the state of a service.
func measured(snap *catalogue.Snapshot, service string) bool {
	return slices.ContainsFunc(snap.LiveChecks(service), func(id string) bool { return snap.Checks[id].Current().Spec.Role == definition.Decides })
}

// following is an agreement whose account follows from a check, and by what beside its
// own service.
type following struct{ agreement, by string }

// follows are the agreements whose accounts follow from a check as things are defined now:
// those of the services that it decides, through groups and derived checks too, those that
// excuse one of these, and those that promise its response time.
func follows(snap *catalogue.Snapshot, check string) []following {
	checks := []string{check}
	for _, id := range catalogue.Live(snap.Checks) {
		d := snap.Checks[id].Current().Spec.Derived
		if d != nil && slices.ContainsFunc(d.Sources, func(s definition.Source) bool { return s.Check == check }) {
			checks = append(checks, id)
		}
	}
	by := map[string]string{} // of the services whose state follows
	for _, id := range checks {
		if spec := snap.Checks[id].Current().Spec; spec.Role == definition.Decides {
			by[spec.Service] = ""
		}
	}
	for again := true; again; { // modelled services, through others
		again = false
		for _, id := range catalogue.Live(snap.Services) {
			if _, known := by[id]; known || measured(snap, id) {
				continue
			}
			for _, g := range snap.Services[id].Current().Spec.DependsOn {
				for _, m := range g.Services {
					if _, is := by[m]; is && by[id] == "" {
						by[id], again = "being made of "+snap.Named(catalogue.Service, m), true
					}
				}
			}
		}
	}
	var out []following
	for _, id := range catalogue.Live(snap.Agreements) {
		spec := snap.Agreements[id].Current().Spec
		if why, is := by[spec.Service]; is {
			out = append(out, following{id, why})
			continue
		}
		if spec.Latency != nil && slices.Contains(checks, spec.Latency.Check) {
			out = append(out, following{id, ""})
			continue
		}
		if spec.Upstream == nil {
			continue
		}
		for _, excused := range spec.Upstream.Excuse {
			if _, is := by[excused]; is {
				out = append(out, following{id, "which excuses the failures of " + snap.Named(catalogue.Service, excused)})
				break
			}
		}
	}
	return out
}
