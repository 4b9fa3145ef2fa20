package verdict

import (
	"fmt"

	"kestite/core/definition"
	"kestite/core/span"
)

// ServiceReason says why a service is in its state at an instant, down to the
// measurements.
type ServiceReason struct {
	Service string        `json:"service"`
	At      span.Instant  `json:"at"`
	State   State         `json:"state"`
	Text    string        `json:"text"`
	Checks  []CheckReason `json:"checks"`
	Groups  []GroupReason `json:"groups"`
}

// CheckReason says what a check contributes.
type CheckReason struct {
	Check     string           `json:"check"`
	State     State            `json:"state"`
	Decides   bool             `json:"decides"`
	Text      string           `json:"text"`
	Locations []LocationReason `json:"locations"`
}

// LocationReason says what a location contributes, and by which measurement.
type LocationReason struct {
	Location string        `json:"location"`
	State    State         `json:"state"`
	Text     string        `json:"text"`
	First    *span.Instant `json:"first_at,omitempty"` // of the stretch that speaks
	Last     *span.Instant `json:"last_at,omitempty"`
	Count    int64         `json:"count,omitempty"`
	// Because are the measurements that made it so: those that confirmed a failure
	// or a recovery, or let a rolling rule believe one.
	Because []Because `json:"because,omitempty"`
}

// Because is the first Count measurements of a location within a time, both ends
// included, that failed or did not.
type Because struct {
	Location string       `json:"location"`
	From     span.Instant `json:"from"`
	To       span.Instant `json:"to"`
	Count    int64        `json:"count"`
	Failed   bool         `json:"failed"`
	Role     string       `json:"role"`
}

// Roles of measurements that made a state.
const (
	ConfirmsFailure  = "confirms the failure"
	ConfirmsRecovery = "confirms the recovery"
	LetsBelieve      = "lets the rolling rule believe it"
)

// Sources are where an explanation finds stretches: as judged, and as they were
// before a rolling rule judged them.
type Sources struct{ Judged, Raw Source }

// GroupReason says what a dependency group contributes.
type GroupReason struct {
	Services []string `json:"services"`
	States   []State  `json:"states"`
	Need     int      `json:"need"`
	State    State    `json:"state"`
	Text     string   `json:"text"`
}

// Explain says why a service of the bundle is in its state at i. states are
// those of all services, as Services returns them.
func Explain(c *definition.Compiled, source Sources, states map[string]span.Timeline[Views], id string, i span.Instant) ServiceReason {
	s := c.Services[id].InForce(i)
	out := ServiceReason{Service: id, At: i, State: states[id].At(i)[Nominal], Checks: []CheckReason{}, Groups: []GroupReason{}}
	if s == nil {
		out.Text = "no revision of the service is in force: unmeasured"
		return out
	}
	seen := map[string]bool{}
	deciding := 0
	for _, check := range c.Services[id].Checks() {
		if seen[check.ID] {
			continue
		}
		seen[check.ID] = true
		revisions := Revisions(c.Checks[check.ID])
		valid := revisions.Valid(i)
		if valid == nil {
			continue
		}
		reason := explainCheck(*valid, revisions, source, i)
		if reason.Decides {
			deciding++
		}
		out.Checks = append(out.Checks, reason)
	}
	if deciding == 1 {
		out.Text = "that of its one deciding check"
		return out
	}
	if deciding > 0 {
		out.Text = fmt.Sprintf("%s of its %s", map[string]string{definition.Best: "the best", definition.Worst: "the worst"}[s.Combine], plural(deciding, "deciding check"))
		if s.Combine == definition.Best {
			out.Text += "; one that is not measured leaves it unmeasured unless another is up"
		} else {
			out.Text += "; one that is not measured leaves it unmeasured unless another is down"
		}
		return out
	}
	for _, g := range s.DependsOn {
		out.Groups = append(out.Groups, explainGroup(g, states, i))
	}
	out.Text = "no deciding check is in force, so its dependencies decide: the worst of the groups"
	if len(out.Groups) == 0 {
		out.Text = "no deciding check is in force and it depends on nothing: unmeasured"
	}
	return out
}

func explainCheck(r definition.Check, revisions Revisions, source Sources, i span.Instant) CheckReason {
	out := CheckReason{Check: r.ID, Decides: r.Role == definition.Decides}
	locations := r.Assigned()
	states := make([]State, len(locations))
	for n, l := range locations {
		reason := explainLocation(l, source.Judged(r.ID, l), revisions, i)
		if r.Rolling != nil && reason.State == Down {
			reason.Because = revisions.believers(r, l, source.Raw, i)
		}
		states[n] = reason.State
		out.Locations = append(out.Locations, reason)
	}
	k := r.Quorum.K(len(locations))
	out.State = Quorum(states, k)
	measured := 0
	for _, s := range states {
		if s != Unmeasured {
			measured++
		}
	}
	out.Text = fmt.Sprintf("quorum %s: %d of %s must agree, %d measured; the %s speaks", r.Quorum, k, plural(len(locations), "location"), measured, worst(k))
	if measured < k {
		out.Text = fmt.Sprintf("quorum %s: %d of %s must agree and only %d measured", r.Quorum, k, plural(len(locations), "location"), measured)
	}
	if r.Rolling != nil {
		out.Text += "; failures are believed when " + r.Rolling.String()
	}
	if !out.Decides {
		out.Text += "; it informs and does not decide"
	}
	return out
}

func worst(k int) string {
	switch k {
	case 1:
		return "worst"
	case 2:
		return "second worst"
	case 3:
		return "third worst"
	}
	return fmt.Sprintf("%dth worst", k)
}

func explainLocation(location string, stretches []Stretch, revisions Revisions, i span.Instant) LocationReason {
	out := LocationReason{Location: location, Text: "nothing was measured before"}
	for n := len(stretches) - 1; n >= 0; n-- {
		s := stretches[n]
		if s.First > i {
			continue
		}
		out.First, out.Last, out.Count = &s.First, &s.Last, s.Count
		set, _ := revisions.Settings(s.Last)
		stale := s.Last.Add(set.StaleAfter)
		switch {
		case s.State == Unmeasured:
			out.Text = fmt.Sprintf("%s failed%s", plural(int(s.Count), "measurement"), revisions.undecided(stretches, n))
		case i >= stale:
			out.Text = fmt.Sprintf("silent: the last measurement, at %s, holds for %d s only", s.Last, set.StaleAfter/span.Second)
		default:
			out.State = s.State
			out.Text = revisions.outcomeText(s)
			out.Because = revisions.because(location, stretches, n)
		}
		break
	}
	return out
}

// follows says whether a stretch comes after the one before it without a gap.
func (r Revisions) follows(list []Stretch, n int) bool {
	if n <= 0 || n >= len(list) {
		return false
	}
	set, _ := r.Settings(list[n-1].Last)
	return list[n].First <= list[n-1].Last.Add(set.StaleAfter)
}

// undecided is why failures have no state.
func (r Revisions) undecided(list []Stretch, n int) string {
	c := r.Valid(list[n].Last)
	few := fmt.Sprintf(", fewer than the %d in a row that confirm it", c.Confirm)
	if c.Rolling != nil {
		few = ", which the rolling rule does not believe (" + c.Rolling.String() + ")"
	}
	for r.follows(list, n+1) && list[n+1].State == Unmeasured {
		n++
	}
	switch {
	case n == len(list)-1:
		return few + ", when the data end: unmeasured"
	case !r.follows(list, n+1):
		return few + ", before it fell silent: unmeasured"
	}
	return few + ", and there was no state before: unmeasured"
}

// because are the measurements that confirmed the state of a stretch.
func (r Revisions) because(location string, list []Stretch, n int) []Because {
	down := list[n].State == Down
	k := n // where that state began
	for r.follows(list, k) && (list[k-1].State == Down) == down && list[k-1].State != Unmeasured {
		k--
	}
	c := r.Valid(list[k].First)
	if c == nil || c.Rolling != nil {
		return nil
	}
	need, role := c.Confirm, ConfirmsFailure
	if !down {
		if !r.follows(list, k) || list[k-1].State != Down {
			return nil // it was never otherwise
		}
		need, role = c.Recover, ConfirmsRecovery
	}
	var out []Because
	for ; k < len(list) && need > 0 && (list[k].Own == Down) == down; k++ {
		s := list[k]
		out = append(out, Because{location, s.First, s.Last, min(need, s.Count), down, role})
		need -= s.Count
	}
	return out
}

func (r Revisions) outcomeText(s Stretch) string {
	c := r.Valid(s.Last)
	own := map[State]string{Up: "ok", Degraded: "degraded", Down: "failed"}[s.Own]
	text := fmt.Sprintf("%s %s", plural(int(s.Count), "measurement"), own)
	switch {
	case s.State == Down && s.Own != Down:
		text += fmt.Sprintf(", a recovery not confirmed (by %d in a row): still down", c.Recover)
	case s.State != Down && s.Own == Down && c.Rolling != nil:
		text += ", a failure that the rolling rule does not believe (" + c.Rolling.String() + "): still " + s.State.String()
	case s.State != Down && s.Own == Down:
		text += fmt.Sprintf(", a failure not confirmed (by %d in a row): still %s", c.Confirm, s.State)
	}
	return text
}

func explainGroup(g definition.Group, states map[string]span.Timeline[Views], i span.Instant) GroupReason {
	out := GroupReason{Services: g.Members(), Need: int(g.Need)}
	if out.Need == 0 {
		out.Need = len(out.Services)
	}
	for _, m := range out.Services {
		out.States = append(out.States, states[m].At(i)[Nominal])
	}
	out.State = Group(out.States, out.Need)
	out.Text = fmt.Sprintf("%d of %s must be up", out.Need, plural(len(out.Services), "service"))
	return out
}

func plural(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
