package account

import (
	"fmt"
	"slices"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Explanation says, rule by rule of docs/accounting.md §7, why an instant has
// its class.
type Explanation struct {
	Agreement string                `json:"agreement"`
	At        span.Instant          `json:"at"`
	Class     Class                 `json:"class"`
	Rules     []Rule                `json:"rules"`
	Service   verdict.ServiceReason `json:"service"`
	// Behind explains the other services that had a part in it: those it depends
	// on, where they decide its state, and excused ones that were down.
	Behind []verdict.ServiceReason `json:"behind"`
}

// Rule is one rule of §7 applied to an instant: the first that holds decides.
type Rule struct {
	Number  int    `json:"number"`
	Holds   bool   `json:"holds"`
	Decides bool   `json:"decides"`
	Text    string `json:"text"`
}

// Explain says why i has its class in the account a, which e made.
func (e *Evidence) Explain(a *Account, source verdict.Sources, i span.Instant) Explanation {
	c := a.Clauses
	states := e.states[a.Service]
	state := states.At(i)[verdict.Nominal]
	out := Explanation{Agreement: a.Agreement, At: i, Service: verdict.Explain(e.bundle, source, e.states, a.Service, i), Behind: []verdict.ServiceReason{}}
	rule := func(holds bool, class Class, text string) {
		r := Rule{Number: len(out.Rules) + 1, Holds: holds, Text: text}
		if holds && !out.decided() {
			r.Decides = true
			out.Class = class
		}
		out.Rules = append(out.Rules, r)
	}
	outside := !c.Hours.Contains(i)
	rule(outside, Outside, map[bool]string{true: "outside service hours", false: "within service hours"}[outside])
	class, held, text := c.adjusted(i)
	rule(held, class, text)
	held, text = e.maintained(c, state, i)
	rule(held, Maintenance, text)
	held, text, excusing := e.excused(c, state, i)
	rule(held, Upstream, text)
	held, text = c.short(states, i)
	rule(held, Tolerated, text)
	rule(true, ofState(state), "the service's state: "+state.String())
	e.behind(&out, source, excusing)
	return out
}

func (x *Explanation) decided() bool {
	for _, r := range x.Rules {
		if r.Decides {
			return true
		}
	}
	return false
}

// adjusted applies rule 2: the last approved adjustment that covers i.
func (c *Clauses) adjusted(i span.Instant) (class Class, held bool, text string) {
	class, text = Unmeasured, "no approved adjustment covers it"
	for _, adj := range c.Approved {
		if (span.Span{From: adj.From, To: adj.To}).Contains(i) {
			class, _ = ParseClass(adj.Class)
			held = true
			text = fmt.Sprintf("approved adjustment %s makes it %s: %s", adj.ID, adj.Class, adj.Reason)
		}
	}
	return class, held, text
}

// maintained applies rule 3 and names the window, or why it is not granted.
func (e *Evidence) maintained(c *Clauses, state verdict.State, i span.Instant) (bool, string) {
	m := c.Agreement.Maintenance
	found, late := e.covering(c, i)
	granted := c.Granted.Contains(i)
	switch {
	case found == nil:
		return false, "no maintenance window covers it"
	case m.Mode == "ignore" || m.Mode == "":
		return false, found.text + " covers it, but the agreement grants no maintenance"
	case granted && m.Mode == "forgive" && state != verdict.Down && state != verdict.Degraded:
		return false, found.text + " is granted, but forgives only what is down or degraded, and the service is " + state.String()
	case granted:
		return true, found.text + " is granted, mode " + m.Mode
	case found.kind == definition.Emergency && m.Emergency == nil:
		return false, found.text + " covers it, but the agreement grants no emergency work"
	case late != "":
		return false, late
	case found.kind == definition.Planned && !c.within(i):
		return false, found.text + " covers it, but lies outside the times agreed for maintenance"
	}
	work := map[string]string{definition.Planned: "maintenance", definition.Emergency: "emergency work"}[found.kind]
	return false, found.text + " covers it, but the cap of granted " + work + " was used up before"
}

// occurrence is one of a window that covers an instant.
type occurrence struct{ text, kind string }

// covering finds the occurrence that covers an instant, one that was announced
// in time before others; late says that none was, and how.
func (e *Evidence) covering(c *Clauses, i span.Instant) (found *occurrence, late string) {
	m := c.Agreement.Maintenance
	for _, w := range e.bundle.Windows {
		length := w.DurationS * span.Second
		starts, err := w.Starts(i.Add(-length+1), i.Add(1))
		if err != nil || len(starts) == 0 || !slices.Contains(w.Services, c.Agreement.Service) {
			continue
		}
		notice := m.NoticeS
		if w.OfType() == definition.Emergency && m.Emergency != nil {
			notice = m.Emergency.NoticeS
		}
		for _, start := range starts {
			called := map[string]string{definition.Planned: "window", definition.Emergency: "emergency window"}[w.OfType()]
			o := &occurrence{fmt.Sprintf("%s %s from %s to %s", called, w.ID, start, start.Add(length)), w.OfType()}
			if w.AnnouncedAt <= start.Add(-notice*span.Second) {
				return o, ""
			}
			found, late = o, fmt.Sprintf("%s was announced at %s, and the agreement asks for %s of notice",
				o.text, w.AnnouncedAt, seconds(notice))
		}
	}
	return found, late
}

// within says whether maintenance was agreed for an instant.
func (c *Clauses) within(i span.Instant) bool {
	w := c.Agreement.Maintenance.Within
	if w == nil || w.Plan == nil {
		return true
	}
	hours, err := definition.CompileHours(*w)
	return err == nil && hours.Within(c.Period).Contains(i)
}

// excusing is an outage of an upstream service that excuses an instant.
type excusing struct {
	service string
	outage  span.Span
}

// excused applies rule 4 and names the upstream services.
func (e *Evidence) excused(c *Clauses, state verdict.State, i span.Instant) (held bool, text string, found []excusing) {
	u := c.Agreement.Upstream
	for _, id := range u.Excuse {
		for _, s := range e.states[id].Where(span.All, isDown(verdict.Nominal)) {
			if (span.Span{From: s.From.Add(-u.LeadS * span.Second), To: s.To.Add(u.LingerS * span.Second)}).Contains(i) {
				found = append(found, excusing{id, s})
				text += fmt.Sprintf("excused upstream %s was down from %s to %s (lead %s, linger %s); ", id, s.From, end(s.To), seconds(u.LeadS), seconds(u.LingerS))
			}
		}
	}
	switch {
	case len(u.Excuse) == 0:
		return false, "the agreement excuses no upstream", nil
	case len(found) == 0:
		return false, "no excused upstream is down", nil
	case state == verdict.Down:
		return true, text + "the service is down", found
	}
	return false, text + "but the service is " + state.String(), found
}

// short applies rule 5 and gives the outage's length.
func (c *Clauses) short(states span.Timeline[verdict.Views], i span.Instant) (bool, string) {
	least := c.Agreement.MinOutageS
	if least == 0 {
		return false, "the agreement tolerates no outage by its length"
	}
	known := span.All
	if !c.Final {
		known.To = c.Covered.To
	}
	for _, s := range states.Where(known, isDown(verdict.Nominal)) {
		if !s.Contains(i) {
			continue
		}
		text := fmt.Sprintf("the outage from %s to %s lasts %s", s.From, end(s.To), span.Words(s.Length()))
		if s.Length() < least*span.Second {
			return true, fmt.Sprintf("%s, shorter than %s", text, seconds(least))
		}
		return false, fmt.Sprintf("%s, not shorter than %s", text, seconds(least))
	}
	return false, "the service is in no outage"
}

// behind adds the services that had a part in it.
func (e *Evidence) behind(out *Explanation, source verdict.Sources, excusing []excusing) {
	seen := map[string]bool{out.Service.Service: true}
	var below func(verdict.ServiceReason)
	below = func(r verdict.ServiceReason) {
		for _, g := range r.Groups {
			for _, id := range g.Services {
				if seen[id] {
					continue
				}
				seen[id] = true
				reason := verdict.Explain(e.bundle, source, e.states, id, out.At)
				out.Behind = append(out.Behind, reason)
				below(reason)
			}
		}
	}
	below(out.Service)
	for _, x := range excusing {
		if !seen[x.service] {
			seen[x.service] = true
			// Within lead or linger it is not down itself: the nearest instant of its outage says why it excuses.
			at := max(x.outage.From, min(out.At, x.outage.To-1))
			out.Behind = append(out.Behind, verdict.Explain(e.bundle, source, e.states, x.service, at))
		}
	}
}

func seconds(n int64) string { return span.Words(n * span.Second) }

// end writes the end of an outage that may still last.
func end(i span.Instant) string {
	if i == span.End {
		return "now"
	}
	return i.String()
}
