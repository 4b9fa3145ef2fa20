package definition

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"kestite/core/calendar"
	"kestite/core/span"
)

// Format is the name of the evidence format.
const Format = "kestite-evidence/1"

// Bundle is everything besides measurements that an account needs.
type Bundle struct {
	Note        string        `json:"note,omitempty"`
	Format      string        `json:"format" required:"true"`
	Period      Period        `json:"period" required:"true"`
	AsOf        *span.Instant `json:"as_of"`
	Services    []Service     `json:"services"`
	Windows     []Window      `json:"windows"`
	Agreements  []Agreement   `json:"agreements"`
	Adjustments []Adjustment  `json:"adjustments"`
}

// Period is [Start, End) in wall times of a zone.
type Period struct {
	Timezone string `json:"timezone" required:"true"`
	Start    string `json:"start" required:"true"`
	End      string `json:"end" required:"true"`
}

// Fault is one thing wrong with a definition: where, and what with what is allowed.
type Fault struct {
	Path    string
	Message string
}

func (f *Fault) Error() string { return f.Path + ": " + f.Message }

// Faultf makes a *Fault.
func Faultf(path, format string, args ...any) error {
	return &Fault{path, fmt.Sprintf(format, args...)}
}

// Within puts a fault's path below another; other errors stay as they are.
func Within(path string, err error) error {
	var f *Fault
	if errors.As(err, &f) {
		return &Fault{path + "." + f.Path, f.Message}
	}
	return err
}

func fault(path, format string, args ...any) error { return Faultf(path, format, args...) }

// Compiled is a bundle with its times and zones resolved.
type Compiled struct {
	Bundle
	Span    span.Span
	Windows []CompiledWindow
	Hours   map[string]calendar.Hours // by agreement id
	// Order lists services so that each comes after those it depends on.
	Order    []string
	Services map[string]*Service
	// Checks holds every check's revisions in time order, by check id.
	Checks map[string][]Check
}

// CompiledWindow is a window with its recurrence resolved.
type CompiledWindow struct {
	Window
	Recurrence calendar.Recurrence
}

// Final says whether the account covers the whole period.
func (c *Compiled) Final() bool { return c.AsOf == nil || *c.AsOf >= c.Span.To }

// Compile checks every rule that a set of definitions must keep and resolves
// times. The error is a *Fault for the first thing found wrong.
func Compile(b Bundle) (*Compiled, error) {
	c := &Compiled{
		Bundle: b, Hours: map[string]calendar.Hours{},
		Services: map[string]*Service{}, Checks: map[string][]Check{},
	}
	for _, step := range []func() error{
		c.period, c.services, c.dependencies, c.windows, c.agreements, c.adjustments,
	} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return c, nil
}

func (c *Compiled) period() error {
	if c.Format != Format {
		return fault("format", "%q is not known; it is %s", c.Format, Format)
	}
	loc, err := calendar.Zone(c.Period.Timezone)
	if err != nil {
		return fault("period.timezone", "%v", err)
	}
	start, err := calendar.ParseWall(c.Period.Start)
	if err != nil {
		return fault("period.start", "%v", err)
	}
	end, err := calendar.ParseWall(c.Period.End)
	if err != nil {
		return fault("period.end", "%v", err)
	}
	c.Span = calendar.Period{Location: loc, Start: start, End: end}.Span()
	if c.Span.Empty() {
		return fault("period.end", "%s is not after the period's start %s", c.Period.End, c.Period.Start)
	}
	if c.AsOf != nil && *c.AsOf < c.Span.From {
		return fault("as_of", "%s is before the period's start %s", *c.AsOf, c.Span.From)
	}
	return nil
}

func (c *Compiled) services() error {
	owner := map[string]string{}
	for i := range c.Bundle.Services {
		s := &c.Bundle.Services[i]
		path := fmt.Sprintf("services[%d]", i)
		if err := name(path+".id", s.ID); err != nil {
			return err
		}
		if c.Services[s.ID] != nil {
			return fault(path+".id", "two services have the id %s; ids are unique", s.ID)
		}
		c.Services[s.ID] = s
		for j, check := range s.Checks {
			path := fmt.Sprintf("%s.checks[%d]", path, j)
			if err := checkRevision(path, check); err != nil {
				return err
			}
			if o, taken := owner[check.ID]; taken && o != s.ID {
				return fault(path+".id", "%s is a check of service %s too; all revisions of a check belong to one service", check.ID, o)
			}
			owner[check.ID] = s.ID
			c.Checks[check.ID] = append(c.Checks[check.ID], check)
		}
		for j, g := range s.DependsOn {
			path := fmt.Sprintf("%s.depends_on[%d]", path, j)
			members := unique(g.Services)
			if len(members) == 0 {
				return fault(path+".services", "the group is empty; name at least one service")
			}
			if int(g.Need) > len(members) {
				return fault(path+".need", "%d is above the size of the group, which is %d", g.Need, len(members))
			}
		}
	}
	for id, revisions := range c.Checks {
		slices.SortFunc(revisions, func(a, b Check) int { return int(max(-1, min(1, Begins(a.From)-Begins(b.From)))) })
		for i := 1; i < len(revisions); i++ {
			if Begins(revisions[i].From) < Ends(revisions[i-1].Until) {
				return fault("services", "two revisions of %s overlap from %s on; give the earlier an until that is not after the later's from", id, bound(revisions[i].From))
			}
		}
	}
	return nil
}

func checkRevision(path string, check Check) error {
	if err := name(path+".id", check.ID); err != nil {
		return err
	}
	if check.Kind == "" {
		return fault(path+".kind", "is empty; name the kind of check, such as http")
	}
	if len(check.Locations) == 0 {
		return fault(path+".locations", "is empty; a check needs at least one location to measure from")
	}
	for k, l := range check.Locations {
		if err := name(fmt.Sprintf("%s.locations[%d]", path, k), l); err != nil {
			return err
		}
	}
	if check.Rolling != nil {
		if err := check.Rolling.Fits(check.IntervalS, check.Locations); err != nil {
			return Within(path, err)
		}
	}
	return order(path+".until", check.From, check.Until)
}

// dependencies fills Order and refuses circles and unknown names.
func (c *Compiled) dependencies() error {
	const (
		fresh = iota
		open
		done
	)
	mark := map[string]int{}
	var visit func(id string) error
	visit = func(id string) error {
		mark[id] = open
		for j, g := range c.Services[id].DependsOn {
			for k, member := range g.Services {
				index := slices.IndexFunc(c.Bundle.Services, func(s Service) bool { return s.ID == id })
				path := fmt.Sprintf("services[%d].depends_on[%d].services[%d]", index, j, k)
				switch {
				case c.Services[member] == nil:
					return fault(path, "%s names no service", quote(member))
				case mark[member] == open:
					return fault(path, "services depend on each other in a circle through %s and %s", id, member)
				case mark[member] == fresh:
					if err := visit(member); err != nil {
						return err
					}
				}
			}
		}
		mark[id] = done
		c.Order = append(c.Order, id)
		return nil
	}
	for _, s := range c.Bundle.Services {
		if mark[s.ID] == fresh {
			if err := visit(s.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// dependsOn says whether service a depends on b, through others too.
func (c *Compiled) dependsOn(a, b string) bool {
	seen := map[string]bool{}
	var visit func(string) bool
	visit = func(id string) bool {
		for _, g := range c.Services[id].DependsOn {
			for _, member := range g.Services {
				if member == b {
					return true
				}
				if !seen[member] {
					seen[member] = true
					if visit(member) {
						return true
					}
				}
			}
		}
		return false
	}
	return visit(a)
}

func (c *Compiled) windows() error {
	seen := map[string]bool{}
	for i, w := range c.Bundle.Windows {
		path := fmt.Sprintf("windows[%d]", i)
		if err := name(path+".id", w.ID); err != nil {
			return err
		}
		if seen[w.ID] {
			return fault(path+".id", "two windows have the id %s; ids are unique", w.ID)
		}
		seen[w.ID] = true
		for j, s := range w.Services {
			if c.Services[s] == nil {
				return fault(fmt.Sprintf("%s.services[%d]", path, j), "%s names no service", quote(s))
			}
		}
		compiled, err := CompileWindow(w)
		if err != nil {
			return Within(path, err)
		}
		// Expanding now makes a rule that cannot be computed a refusal, not a surprise.
		if _, err := compiled.Recurrence.Starts(span.Beginning, c.Span.To); err != nil {
			return fault(path+".rrule", "%v", err)
		}
		c.Windows = append(c.Windows, compiled)
	}
	return nil
}

// CompileWindow resolves the times of one window. The error is a *Fault.
func CompileWindow(w Window) (CompiledWindow, error) {
	loc, err := calendar.Zone(w.Timezone)
	if err != nil {
		return CompiledWindow{}, fault("timezone", "%v", err)
	}
	start, err := calendar.ParseWall(w.Start)
	if err != nil {
		return CompiledWindow{}, fault("start", "%v", err)
	}
	if w.DurationS < 1 {
		return CompiledWindow{}, fault("duration_s", "is %d; a window lasts at least 1 second", w.DurationS)
	}
	exdates := make([]calendar.Wall, len(w.Exdates))
	for i, s := range w.Exdates {
		if exdates[i], err = calendar.ParseWall(s); err != nil {
			return CompiledWindow{}, fault(fmt.Sprintf("exdates[%d]", i), "%v", err)
		}
	}
	rec, err := calendar.NewRecurrence(start, loc, w.RRule, exdates)
	if err != nil {
		return CompiledWindow{}, fault("rrule", "%v", err)
	}
	return CompiledWindow{w, rec}, nil
}

func (c *Compiled) agreements() error {
	for i, a := range c.Agreements {
		path := fmt.Sprintf("agreements[%d]", i)
		if err := name(path+".id", a.ID); err != nil {
			return err
		}
		if _, taken := c.Hours[a.ID]; taken {
			return fault(path+".id", "two agreements have the id %s; ids are unique", a.ID)
		}
		if c.Services[a.Service] == nil {
			return fault(path+".service", "%s names no service", quote(a.Service))
		}
		if err := order(path+".until", a.From, a.Until); err != nil {
			return err
		}
		for j, u := range a.Upstream.Excuse {
			path := fmt.Sprintf("%s.upstream.excuse[%d]", path, j)
			switch {
			case c.Services[u] == nil:
				return fault(path, "%s names no service", quote(u))
			case u == a.Service:
				return fault(path, "the agreement excuses its own service %s", u)
			case c.dependsOn(u, a.Service):
				return fault(path, "the agreement excuses %s, which depends on its own service %s", u, a.Service)
			}
		}
		if a.Latency != nil && c.Checks[a.Latency.Check] == nil {
			return fault(path+".latency.check", "%s names no check", quote(a.Latency.Check))
		}
		hours, err := CompileHours(a.ServiceHours)
		if err != nil {
			return Within(path+".service_hours", err)
		}
		c.Hours[a.ID] = hours
	}
	return nil
}

var weekdays = map[string]time.Weekday{
	"SU": time.Sunday, "MO": time.Monday, "TU": time.Tuesday, "WE": time.Wednesday,
	"TH": time.Thursday, "FR": time.Friday, "SA": time.Saturday,
}

// CompileHours resolves service hours. The error is a *Fault.
func CompileHours(h ServiceHours) (calendar.Hours, error) {
	if h.Plan == nil {
		return calendar.Hours{}, nil
	}
	loc, err := calendar.Zone(h.Plan.Timezone)
	if err != nil {
		return calendar.Hours{}, fault("timezone", "%v", err)
	}
	out := calendar.Hours{Weekly: true, Location: loc, Holidays: map[string]bool{}}
	for i, row := range h.Plan.Weekly {
		path := fmt.Sprintf("weekly[%d]", i)
		var r calendar.HoursRow
		for j, day := range row.Days {
			d, ok := weekdays[day]
			if !ok {
				return out, fault(fmt.Sprintf("%s.days[%d]", path, j), "%q is no day; it is one of MO, TU, WE, TH, FR, SA, SU", day)
			}
			r.Days[d] = true
		}
		if r.From, err = calendar.ParseClock(row.From, false); err != nil {
			return out, fault(path+".from", "%v", err)
		}
		if r.To, err = calendar.ParseClock(row.To, true); err != nil {
			return out, fault(path+".to", "%v", err)
		}
		out.Rows = append(out.Rows, r)
	}
	for i, s := range h.Plan.Holidays {
		d, err := calendar.ParseDate(s)
		if err != nil {
			return out, fault(fmt.Sprintf("holidays[%d]", i), "%v", err)
		}
		out.Holidays[d.DateString()] = true
	}
	return out, nil
}

func (c *Compiled) adjustments() error {
	seen := map[string]bool{}
	for i, a := range c.Adjustments {
		path := fmt.Sprintf("adjustments[%d]", i)
		if err := name(path+".id", a.ID); err != nil {
			return err
		}
		if seen[a.ID] {
			return fault(path+".id", "two adjustments have the id %s; ids are unique", a.ID)
		}
		seen[a.ID] = true
		if _, ok := c.Hours[a.Agreement]; !ok {
			return fault(path+".agreement", "%s names no agreement", quote(a.Agreement))
		}
		if a.To <= a.From {
			return fault(path+".to", "%s is not after from %s", a.To, a.From)
		}
	}
	return nil
}

func name(path, s string) error {
	if s == "" {
		return fault(path, "is empty; it needs a name")
	}
	return nil
}

func order(path string, from, until *span.Instant) error {
	if from != nil && until != nil && *until <= *from {
		return fault(path, "%s is not after from %s", *until, *from)
	}
	return nil
}

// Begins is the instant an optional from stands for.
func Begins(from *span.Instant) span.Instant {
	if from == nil {
		return span.Beginning
	}
	return *from
}

// Ends is the instant an optional until stands for.
func Ends(until *span.Instant) span.Instant {
	if until == nil {
		return span.End
	}
	return *until
}

func bound(i *span.Instant) string {
	if i == nil {
		return "the beginning"
	}
	return i.String()
}

func quote(s string) string { return fmt.Sprintf("%q", s) }

func unique(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return slices.Compact(out)
}

// Members returns the group's services, each once.
func (g Group) Members() []string { return unique(g.Services) }

// Assigned returns the check's locations, each once.
func (c Check) Assigned() []string { return unique(c.Locations) }
