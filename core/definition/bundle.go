package definition

import (
	"cmp"
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

// Instead says a fault of another field; other errors stay as they are.
func Instead(path string, err error) error {
	var f *Fault
	if errors.As(err, &f) {
		return &Fault{path, f.Message}
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
	// Epochs cut time, in order, so that in each the services have one order.
	Epochs []Epoch
	// Services holds every service's revisions in time order, by id.
	Services map[string]Services
	// Checks holds every check's revisions in time order, by check id.
	Checks map[string][]Check

	window func(Window) (CompiledWindow, error)
}

// Services are the revisions of a service in time order, disjoint.
type Services []Service

// InForce is the revision in force at i; nil when there is none.
func (s Services) InForce(i span.Instant) *Service {
	for n := range s {
		if Begins(s[n].From) <= i && i < Ends(s[n].Until) {
			return &s[n]
		}
	}
	return nil
}

// Checks are all the checks' revisions that stand in any of the service's: they
// count by their own times.
func (s Services) Checks() []Check {
	var out []Check
	for _, r := range s {
		out = append(out, r.Checks...)
	}
	return out
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
func Compile(b Bundle) (*Compiled, error) { return CompileWith(b, CompileWindow) }

// CompileWith is Compile with another way to resolve a window, such as from what
// was resolved before.
func CompileWith(b Bundle, window func(Window) (CompiledWindow, error)) (*Compiled, error) {
	c := &Compiled{
		Bundle: b, window: window, Hours: map[string]calendar.Hours{},
		Services: map[string]Services{}, Checks: map[string][]Check{},
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
		if err := order(path+".until", s.From, s.Until); err != nil {
			return err
		}
		c.Services[s.ID] = append(c.Services[s.ID], *s)
		for j, check := range s.Checks {
			path := fmt.Sprintf("%s.checks[%d]", path, j)
			if err := checkRevision(path, check); err != nil {
				return err
			}
			if o, taken := owner[check.ID]; taken && o != s.ID {
				return fault(path+".id",
					"%s is a check of the services %s and %s; all revisions of a check belong to one", check.ID, o, s.ID)
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
		if err := disjoint("services", id, revisions, func(r Check) validity { return validity{r.From, r.Until} }); err != nil {
			return err
		}
	}
	for id, revisions := range c.Services {
		if err := disjoint("services", "the service "+id, revisions, func(r Service) validity { return validity{r.From, r.Until} }); err != nil {
			return err
		}
	}
	return nil
}

// validity is when a revision is in force.
type validity struct{ from, until *span.Instant }

// disjoint puts revisions in order of time and refuses those that overlap.
func disjoint[R any](path, of string, revisions []R, valid func(R) validity) error {
	slices.SortStableFunc(revisions, func(a, b R) int { return cmp.Compare(Begins(valid(a).from), Begins(valid(b).from)) })
	for i := 1; i < len(revisions); i++ {
		if from := valid(revisions[i]).from; Begins(from) < Ends(valid(revisions[i-1]).until) {
			return fault(path,
				"two revisions of %s overlap from %s on; give the earlier an until that is not after the later's from", of, bound(from))
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

func (c *Compiled) windows() error {
	revisions := map[string][]Window{}
	for i, w := range c.Bundle.Windows {
		path := fmt.Sprintf("windows[%d]", i)
		if err := name(path+".id", w.ID); err != nil {
			return err
		}
		if err := order(path+".until", w.From, w.Until); err != nil {
			return err
		}
		revisions[w.ID] = append(revisions[w.ID], w)
		for j, s := range w.Services {
			if c.Services[s] == nil {
				return fault(fmt.Sprintf("%s.services[%d]", path, j), "%s names no service", quote(s))
			}
		}
		compiled, err := c.window(w)
		if err != nil {
			return Within(path, err)
		}
		// Expanding now makes a rule that cannot be computed a refusal, not a surprise.
		if _, err := compiled.Recurrence.Starts(span.Beginning, c.Span.To); err != nil {
			return fault(path+".rrule", "%v", err)
		}
		c.Windows = append(c.Windows, compiled)
	}
	for id, list := range revisions {
		if err := disjoint("windows", "the window "+id, list, func(w Window) validity { return validity{w.From, w.Until} }); err != nil {
			return err
		}
	}
	return nil
}

// Starts are the starts in [from, to) that this revision decides on, in order.
func (w CompiledWindow) Starts(from, to span.Instant) ([]span.Instant, error) {
	return w.Recurrence.Starts(max(from, Begins(w.From)), min(to, Ends(w.Until)))
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
	if w.DurationS > MostWindowS {
		return CompiledWindow{}, fault("duration_s", "is %d; a window lasts at most 31 days, %d seconds", w.DurationS, MostWindowS)
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
	if n := rec.MostStartsADay(); n > MostStartsADay {
		return CompiledWindow{}, fault("rrule",
			"%q can start %d times a day; a window starts at most %d times: take a coarser FREQ, or fewer hours, minutes and seconds",
			w.RRule, n, MostStartsADay)
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
			}
			if since, depends := c.dependsOn(u, a.Service); depends {
				when := ""
				if since != span.Beginning {
					when = " from " + since.String() + " on"
				}
				return fault(path, "the agreement excuses %s, which depends on its own service %s%s", u, a.Service, when)
			}
		}
		if err := a.Maintenance.check(); err != nil {
			return Within(path+".maintenance", err)
		}
		if within := a.Maintenance.Within; within != nil && within.Plan != nil {
			if _, err := CompileHours(*within); err != nil {
				return Within(path+".maintenance.within", err)
			}
		}
		if a.Latency != nil && c.Checks[a.Latency.Check] == nil {
			return fault(path+".latency.check", "%s names no check", quote(a.Latency.Check))
		}
		for field, v := range map[string]int64{
			"min_outage_s": a.MinOutageS, "upstream.lead_s": a.Upstream.LeadS, "upstream.linger_s": a.Upstream.LingerS,
		} {
			if v > MostClauseS {
				return fault(path+"."+field, "is %d; it is at most a day, %d seconds", v, MostClauseS)
			}
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

// check says what contradicts itself in the clause.
func (m Maintenance) check() error {
	if m.Emergency != nil && (m.Mode == MaintenanceIgnore || m.Mode == "") {
		return fault("emergency", "stands beside mode ignore, which grants nothing; take it away, or choose exclude or forgive")
	}
	return nil
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
		if len(row.Days) == 0 {
			return out, fault(path+".days", "is empty; a row needs at least one day")
		}
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
