package catalogue

import (
	"cmp"
	"fmt"
	"slices"
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

// ruleKey names the rule of a revision of a window.
type ruleKey struct {
	window string
	number int
}

type keptRule struct {
	rule calendar.Recurrence
	err  error
}

// plan resolves a revision of a window. Its starts are kept: expanding a rule
// from its first start costs more each year.
func (s *Snapshot) plan(id string, r Revision[definition.WindowSpec]) (*plan, error) {
	key := ruleKey{id, r.Number}
	kept, has := s.rules.Load(key)
	if !has {
		var k keptRule
		spec := r.Spec
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

// pieces are the time planned by a chain of revisions, oldest first, nil where one
// says nothing, of all occurrences that touch within. Planned is what the revision
// in force at an instant says of it. Announced it is since the earliest of the
// revisions before, one on another without a gap, that all said so
// (docs/accounting.md §2).
func pieces(chain []*plan, within span.Span) ([]piece, error) {
	var out []piece
	for n, p := range chain {
		if p == nil {
			continue
		}
		list, err := p.occurrences(p.Intersect(within))
		if err != nil {
			return nil, err
		}
		for _, o := range list {
			found, err := announced(chain, n, o.Intersect(p.Span))
			if err != nil {
				return nil, err
			}
			for _, f := range found {
				// Running while it was edited, and left alone: one piece still.
				if last := len(out) - 1; f.From == p.From && o.From < p.From && last >= 0 {
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

// announced cuts a part of what chain[n] plans by since when it is announced.
func announced(chain []*plan, n int, part span.Span) ([]piece, error) {
	if part.Empty() {
		return nil, nil
	}
	var out []piece
	add := func(set span.Set, since span.Instant) {
		for _, s := range set {
			out = append(out, piece{s, since})
		}
	}
	open, since := span.Set{part}, chain[n].From
	for k := n - 1; k >= 0 && len(open) > 0; k-- {
		before := chain[k]
		if before == nil || before.To != chain[k+1].From || before.spec.OfType() != chain[n].spec.OfType() {
			break
		}
		list, err := before.occurrences(part)
		if err != nil {
			return nil, err
		}
		too := open.Intersect(span.Union(list...))
		add(open.Without(too), since)
		open, since = too, before.From
	}
	add(open, since)
	return out, nil
}

// windows writes the planned time of services as the evidence format does: what
// recurs as a rule, what is otherwise as an exdate and entries of its own. It
// holds for occurrences that touch within.
func (s *Snapshot) windows(services []string, within span.Span) ([]definition.CompiledWindow, error) {
	known := map[string]bool{}
	for _, id := range services {
		known[id] = true
	}
	var out []definition.CompiledWindow
	for _, id := range Sorted(s.Windows) {
		list, err := s.windowOf(id, known, within)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

func (s *Snapshot) windowOf(id string, known map[string]bool, within span.Span) ([]definition.CompiledWindow, error) {
	e := s.Windows[id]
	groups := map[string][]string{} // services by the revisions that name them, 1 or 0 for each
	var order []string
	for _, service := range namedBy(e) {
		if !known[service] {
			continue
		}
		var names strings.Builder
		for _, r := range e.Revisions {
			if slices.Contains(r.Spec.Services, service) {
				names.WriteByte('1')
			} else {
				names.WriteByte('0')
			}
		}
		if groups[names.String()] == nil {
			order = append(order, names.String())
		}
		groups[names.String()] = append(groups[names.String()], service)
	}
	if len(order) == 0 {
		return nil, nil
	}
	plans := make([]*plan, len(e.Revisions))
	for n, r := range e.Revisions {
		var err error
		if plans[n], err = s.plan(id, r); err != nil {
			return nil, err
		}
	}
	var out []definition.CompiledWindow
	for _, names := range order {
		chain := make([]*plan, len(plans))
		for n, r := range e.Revisions {
			if slices.Contains(r.Spec.Services, groups[names][0]) {
				chain[n] = plans[n]
			}
		}
		list, err := entries(chain, within)
		if err != nil {
			return nil, definition.Faultf(fmt.Sprintf("the window %q, rrule", e.Current().Spec.Name), "%v", err)
		}
		for _, w := range list {
			w.ID, w.Services = id, groups[names]
			if len(out) > 0 {
				w.ID = fmt.Sprintf("%s+%d", id, len(out)) // no id that people's names give has a plus
			}
			out = append(out, w)
		}
	}
	return out, nil
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
func entries(chain []*plan, within span.Span) ([]definition.CompiledWindow, error) {
	open, err := pieces(chain, within)
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
