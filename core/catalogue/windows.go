package catalogue

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"sort"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/span"
)

// plan is what a revision of a window says of one group of services: while it is
// in force, that time is planned; what of the time beyond it announced, it had
// announced.
type plan struct {
	span.Span // when it is in force
	spec      definition.WindowSpec
	rule      calendar.Recurrence // without the occurrences that are otherwise
	changed   []span.Span         // those
	changedAt []string            // by what wall time the rule would give each
}

func (p plan) length() int64 { return p.spec.DurationS * span.Second }

// occurrences are those that touch within, in order of their starts.
func (p plan) occurrences(within span.Span) ([]span.Span, error) {
	starts, err := p.rule.Starts(within.From.Add(-p.length()+1), within.To)
	if err != nil {
		return nil, err
	}
	var out []span.Span
	for _, s := range starts {
		out = append(out, span.Span{From: s, To: s.Add(p.length())})
	}
	for _, c := range p.changed {
		if !c.Intersect(within).Empty() {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b span.Span) int { return cmp.Compare(a.From, b.From) })
	return out, nil
}

// ruleKey is all that a rule follows from.
type ruleKey struct {
	start, timezone, rule, exdates string
	length                         int64
}

type keptRule struct {
	rule calendar.Recurrence
	err  error
}

// plan resolves a revision of a window. Its starts are kept: expanding a rule
// from its first start costs more each year.
func (s *Snapshot) plan(r Revision[definition.WindowSpec]) (*plan, error) {
	spec := r.Spec
	key := ruleKey{spec.Start, spec.Timezone, spec.RRule, strings.Join(spec.Exdates, " "), spec.DurationS}
	kept, has := s.rules.Load(key)
	if !has {
		var k keptRule
		w, err := definition.CompileWindow(definition.Window{
			Start: spec.Start, Timezone: spec.Timezone, DurationS: spec.DurationS, RRule: spec.RRule, Exdates: spec.Exdates,
		})
		if k.err = err; err == nil {
			k.rule, err = w.Recurrence.Expanded(s.ahead)
			if err != nil {
				k.err = definition.Faultf("rrule", "%v", err)
			}
		}
		kept, _ = s.rules.LoadOrStore(key, k)
	}
	k := kept.(keptRule)
	if k.err != nil {
		return nil, definition.Within(fmt.Sprintf("the window %q", r.Spec.Name), k.err)
	}
	p := &plan{Span: r.During(), spec: r.Spec, rule: k.rule}
	for _, o := range r.Spec.Changes {
		start, err := calendar.ParseWall(cmp.Or(o.Start, o.At))
		if err != nil {
			continue // not saved like this
		}
		from := start.Instant(k.rule.Location, calendar.Shift)
		p.changed = append(p.changed, span.Span{From: from, To: from.Add(cmp.Or(o.DurationS, r.Spec.DurationS) * span.Second)})
		p.changedAt = append(p.changedAt, o.At)
	}
	p.rule = p.rule.Except(p.otherwise())
	return p, nil
}

// piece is planned time with the instant since which it is announced without
// interruption.
type piece struct {
	span.Span
	announced span.Instant
}

// pieces are the time planned for a service by the revisions of one window, oldest
// first, nil where one does not name it, of all occurrences that touch within. Planned
// is what the revision in force at an instant says of it. all are the revisions of any
// window that name the service.
func pieces(chain, all []*plan, within span.Span) ([]piece, error) {
	var out []piece
	for _, p := range chain {
		if p == nil {
			continue
		}
		list, err := p.occurrences(p.Intersect(within))
		if err != nil {
			return nil, err
		}
		parts := make([]span.Span, len(list))
		for i, o := range list {
			parts[i] = o.Intersect(p.Span)
		}
		known, err := announced(p, all, span.Union(parts...))
		if err != nil {
			return nil, err
		}
		for i, o := range list {
			first := sort.Search(len(known), func(n int) bool { return known[n].To > parts[i].From })
			for _, k := range known[first:] {
				f := piece{k.Intersect(parts[i]), k.announced}
				if f.Empty() {
					break
				}
				// Running while it was edited, and left alone: one piece still.
				if f.From == p.From && o.From < p.From {
					at := slices.IndexFunc(out, func(x piece) bool { return x.To == f.From && x.announced == f.announced })
					if at >= 0 {
						out[at].To = f.To
						continue
					}
				}
				out = append(out, f)
			}
		}
	}
	slices.SortFunc(out, func(a, b piece) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	return out, nil
}

// announced cuts time that p plans by since when it is announced: the earliest instant
// from which on, without a break, some revision of the same type in force then had it
// in its plan (docs/accounting.md §2). The pieces are in order and apart.
func announced(p *plan, all []*plan, time span.Set) ([]piece, error) {
	if len(time) == 0 {
		return nil, nil
	}
	hull := span.Span{From: time[0].From, To: time[len(time)-1].To}
	type cover struct {
		*plan
		time span.Set
	}
	var covers []cover
	for _, q := range all {
		if q.From >= p.From || q.spec.OfType() != p.spec.OfType() {
			continue
		}
		list, err := q.occurrences(hull)
		if err != nil {
			return nil, err
		}
		if too := span.Union(list...).Intersect(time); len(too) > 0 {
			covers = append(covers, cover{q, too})
		}
	}
	slices.SortStableFunc(covers, func(a, b cover) int { return cmp.Compare(a.From, b.From) })
	var out []piece
	var extend func(open span.Set, since span.Instant)
	extend = func(open span.Set, since span.Instant) {
		for _, c := range covers { // those that lead farthest back come first
			if len(open) == 0 {
				return
			}
			if c.From >= since || c.To < since {
				continue
			}
			extend(open.Intersect(c.time), c.From)
			open = open.Without(c.time)
		}
		for _, s := range open {
			out = append(out, piece{s, since})
		}
	}
	extend(time, p.From)
	slices.SortFunc(out, func(a, b piece) int { return cmp.Compare(a.From, b.From) })
	whole := out[:1] // what lies beside one another and is announced alike is one
	for _, x := range out[1:] {
		if last := &whole[len(whole)-1]; last.To == x.From && last.announced == x.announced {
			last.To = x.To
		} else {
			whole = append(whole, x)
		}
	}
	return whole, nil
}

// windows writes the planned time of services as the evidence format does: what
// recurs as a rule, what is otherwise as an exdate and entries of its own. It
// holds for occurrences that touch within.
func (s *Snapshot) windows(services []string, within span.Span) ([]definition.CompiledWindow, error) {
	all := map[string][]*plan{}     // by service
	plans := map[string][]*plan{}   // by window, of each revision
	names := map[string]*[]string{} // services by their plans, as one text
	known := map[string]bool{}
	for _, id := range services {
		known[id] = true
	}
	ids := slices.DeleteFunc(Sorted(s.Windows), func(id string) bool {
		return !slices.ContainsFunc(namedBy(s.Windows[id]), func(service string) bool { return known[service] })
	})
	for _, id := range ids {
		for _, r := range s.Windows[id].Revisions {
			p, err := s.plan(r)
			if err != nil {
				return nil, err
			}
			plans[id] = append(plans[id], p)
			for _, service := range r.Spec.Services {
				if list := all[service]; known[service] && (len(list) == 0 || list[len(list)-1] != p) {
					all[service] = append(list, p)
				}
			}
		}
	}
	var order []string // those of which everything is said alike are written together
	for _, service := range slices.Sorted(maps.Keys(all)) {
		key := fmt.Sprint(all[service])
		if names[key] == nil {
			names[key] = new([]string)
			order = append(order, service)
		}
		*names[key] = append(*names[key], service)
	}
	var out []definition.CompiledWindow
	for _, id := range ids {
		var of []written
		for _, service := range order {
			chain := slices.Clone(plans[id])
			for n, p := range chain {
				if !slices.Contains(all[service], p) {
					chain[n] = nil
				}
			}
			list, err := entries(chain, all[service], within)
			if err != nil {
				return nil, definition.Faultf(fmt.Sprintf("the window %q, rrule", s.Windows[id].Current().Spec.Name), "%v", err)
			}
			of = join(of, written{list, *names[fmt.Sprint(all[service])]})
		}
		n := 0
		for _, w := range of {
			slices.Sort(w.services)
			for _, entry := range w.entries {
				entry.ID, entry.Services = id, w.services
				if n > 0 {
					entry.ID = fmt.Sprintf("%s+%d", id, n) // no id that people's names give has a plus
				}
				n++
				out = append(out, entry)
			}
		}
	}
	return out, nil
}

// written are the entries of a window for some services.
type written struct {
	entries  []definition.CompiledWindow
	services []string
}

// join adds entries, to others that are the same but for their services where there are such.
func join(list []written, w written) []written {
	if len(w.entries) == 0 {
		return list
	}
	same := func(a, b definition.CompiledWindow) bool { return reflect.DeepEqual(a.Window, b.Window) }
	for i := range list {
		if slices.EqualFunc(list[i].entries, w.entries, same) {
			list[i].services = append(list[i].services, w.services...)
			return list
		}
	}
	return append(list, w)
}

// namedBy are the services that any revision of a window names, each once, in order.
func namedBy(e *Entry[definition.WindowSpec]) []string {
	var out []string
	for _, r := range e.Revisions {
		out = append(out, r.Spec.Services...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// entries writes the pieces of a chain, of all occurrences that touch within.
func entries(chain, all []*plan, within span.Span) ([]definition.CompiledWindow, error) {
	open, err := pieces(chain, all, within)
	if err != nil {
		return nil, err
	}
	var out []definition.CompiledWindow
	for from := 0; from < len(chain); {
		to := from + 1
		for to < len(chain) && sameRule(chain[to-1], chain[to]) {
			to++
		}
		if p := chain[to-1]; p != nil && p.spec.RRule != "" {
			w, rest, err := asRule(p, span.Span{From: chain[from].From, To: p.To}, within, open)
			if err != nil {
				return nil, err
			}
			if w != nil {
				out, open = append(out, *w), rest
			}
		}
		from = to
	}
	for _, p := range open {
		if p.Length() < span.Second {
			continue // windows of the evidence format last whole seconds
		}
		start := calendar.WallAt(p.From, time.UTC) // which has no wall time twice
		w, err := definition.CompileWindow(definition.Window{
			Type: typeAt(chain, p.From), Start: start.String(), Timezone: "UTC", DurationS: p.Length() / span.Second,
			Exdates: []string{}, AnnouncedAt: p.announced,
		})
		if err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// sameRule says whether two revisions, the second right after the first, plan by
// the same rule, whatever they say of single occurrences.
func sameRule(a, b *plan) bool {
	return a != nil && b != nil && a.To == b.From && a.spec.RRule != "" && a.spec.Start == b.spec.Start &&
		a.spec.Timezone == b.spec.Timezone && a.spec.RRule == b.spec.RRule && a.spec.DurationS == b.spec.DurationS &&
		a.spec.OfType() == b.spec.OfType()
}

// typeAt is the type of what is planned at an instant.
func typeAt(chain []*plan, i span.Instant) string {
	for _, p := range chain {
		if p != nil && p.Contains(i) && p.spec.OfType() == definition.Emergency {
			return definition.Emergency
		}
	}
	return definition.Planned
}

// asRule takes out of the pieces those that are as p's rule gives them and were
// announced together, and writes them as one entry; nil where that are fewer than two.
func asRule(p *plan, during, within span.Span, open []piece) (*definition.CompiledWindow, []piece, error) {
	from, to := max(during.From, within.From.Add(-p.length()+1)), min(during.To, within.To)
	starts, err := p.rule.Starts(from, to)
	if err != nil {
		return nil, nil, err
	}
	at := map[span.Span][]span.Instant{} // since when pieces are announced, by where they lie
	for _, x := range open {
		at[x.Span] = append(at[x.Span], x.announced)
	}
	whole := func(start span.Instant) span.Span { return span.Span{From: start, To: start.Add(p.length())} }
	votes, best := map[span.Instant]int{}, span.Instant(0)
	for _, start := range starts {
		for _, since := range at[whole(start)] {
			votes[since]++
			if votes[since] > votes[best] || votes[since] == votes[best] && since < best {
				best = since
			}
		}
	}
	if votes[best] < 2 {
		return nil, nil, nil
	}
	taken, others := map[span.Span]bool{}, map[span.Instant]bool{}
	for _, start := range starts {
		if o := whole(start); slices.Contains(at[o], best) {
			taken[o] = true
		} else {
			others[start] = true
		}
	}
	rest := slices.DeleteFunc(slices.Clone(open), func(x piece) bool { return x.announced == best && taken[x.Span] })
	except := p.otherwise()
	if len(others) > 0 {
		walls, err := p.rule.Walls(from, to)
		if err != nil {
			return nil, nil, err
		}
		for _, w := range walls {
			if others[w.Instant(p.rule.Location, calendar.Shift)] {
				except = append(except, w)
			}
		}
	}
	w := definition.CompiledWindow{Window: definition.Window{
		Type: p.spec.OfType(), Start: p.spec.Start, Timezone: p.spec.Timezone, DurationS: p.spec.DurationS, RRule: p.spec.RRule,
		Exdates: append([]string{}, p.spec.Exdates...), AnnouncedAt: best, From: &during.From,
	}, Recurrence: p.rule.Except(except)}
	for _, x := range except {
		w.Exdates = append(w.Exdates, x.String())
	}
	if during.To != span.End {
		w.Until = &during.To
	}
	return &w, rest, nil
}

// otherwise are the starts by the rule of the occurrences that are otherwise.
func (p *plan) otherwise() []calendar.Wall {
	var out []calendar.Wall
	for _, o := range p.spec.Changes {
		if w, err := calendar.ParseWall(o.At); err == nil {
			out = append(out, w)
		}
	}
	return out
}

// PlannedAt is the planned work on a service at an instant: by which window, and until
// when, the latest end of several; false where there is none, or it cannot be told.
func (s *Snapshot) PlannedAt(service string, at span.Instant) (window string, until span.Instant, is bool) {
	list, err := s.windows([]string{service}, span.Span{From: at, To: at + 1})
	if err != nil {
		return "", 0, false
	}
	for _, w := range list {
		length := w.DurationS * span.Second
		starts, err := w.Starts(at.Add(-length), at+1)
		if err != nil {
			continue
		}
		for _, from := range starts {
			if to := from.Add(length); from <= at && at < to && to > until {
				window, until, is = w.ID, to, true
			}
		}
	}
	window, _, _ = strings.Cut(window, "+") // of the entries that it is written as
	return window, until, is
}
