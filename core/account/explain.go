package account

import (
	"fmt"

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
}

// Rule is one rule of §7 applied to an instant: the first that holds decides.
type Rule struct {
	Number  int    `json:"number"`
	Holds   bool   `json:"holds"`
	Decides bool   `json:"decides"`
	Text    string `json:"text"`
}

// Explain says why i has its class in the account a, which e made.
func (e *Evidence) Explain(a *Account, source verdict.Source, i span.Instant) Explanation {
	c := a.Clauses
	states := e.states[a.Service]
	state := states.At(i)[verdict.Nominal]
	out := Explanation{Agreement: a.Agreement, At: i, Service: verdict.Explain(e.bundle, source, e.states, a.Service, i)}
	rule := func(holds bool, class Class, yes, no string) {
		r := Rule{Number: len(out.Rules) + 1, Holds: holds, Text: no}
		if holds {
			r.Text = yes
		}
		if decided := len(out.Rules) > 0 && out.decided(); holds && !decided {
			r.Decides = true
			out.Class = class
		}
		out.Rules = append(out.Rules, r)
	}
	rule(!c.Hours.Contains(i), Outside, "outside service hours", "within service hours")

	adjusted, text := Unmeasured, "no approved adjustment covers it"
	held := false
	for _, adj := range c.Approved {
		if (span.Span{From: adj.From, To: adj.To}).Contains(i) {
			adjusted, _ = ParseClass(adj.Class)
			held = true
			text = fmt.Sprintf("approved adjustment %s makes it %s: %s", adj.ID, adj.Class, adj.Reason)
		}
	}
	rule(held, adjusted, text, text)

	granted := c.Granted.Contains(i)
	mode := c.Agreement.Maintenance.Mode
	forgiven := mode == "forgive" && (state == verdict.Down || state == verdict.Degraded)
	switch {
	case granted && mode == "forgive" && !forgiven:
		text = "granted maintenance forgives only what is down or degraded, and the service is " + state.String()
	default:
		text = "no granted maintenance"
	}
	rule(granted && (mode == "exclude" || forgiven), Maintenance, "granted maintenance, mode "+mode, text)

	excused := c.Excused.Contains(i)
	text = "no excused upstream is down"
	if excused {
		text = "an excused upstream is down, but the service is " + state.String()
	}
	rule(excused && state == verdict.Down, Upstream, "the service is down while an excused upstream is (lead and linger included)", text)

	short := c.tolerated(states, verdict.Nominal).Contains(i)
	text = "the agreement tolerates no outage by its length"
	if c.Agreement.MinOutageS > 0 {
		text = fmt.Sprintf("not in an outage shorter than %d s", c.Agreement.MinOutageS)
	}
	rule(short, Tolerated, fmt.Sprintf("in an outage shorter than %d s", c.Agreement.MinOutageS), text)

	rule(true, ofState(state), "the service's state: "+state.String(), "")
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
