// Package standing says how agreements stand while their periods run: at which pace
// an allowance is used up, and which agreement needs somebody first.
package standing

import (
	"strings"

	"kestite/core/account"
	"kestite/core/span"
)

// recent is the time whose pace says how it goes now, in ms.
const recent = 7 * span.Day

// What a forecast goes by.
const (
	ByWeek  = "week"
	BySoFar = "so_far"
)

// Outlook is the forecast of an account at the pace of the last seven days and of the
// period so far.
type Outlook struct {
	AtRisk     bool          `json:"at_risk" doc:"It is on track, and would be missed at one of the paces"`
	Week       *account.Pace `json:"week"`
	SoFar      *account.Pace `json:"so_far"`
	RunsOutAt  *span.Instant `json:"runs_out_at" doc:"The earlier of the two"`
	RunsOutWhy string        `json:"runs_out_why" enum:"week,so_far,"`
	// CoverageLost says that too little was measured already for a verdict at its end.
	CoverageLost bool `json:"coverage_lost,omitempty" doc:"Too little was measured already: whatever comes, it ends without a verdict"`
}

// OutlookOf is the outlook of an account; nil where it is final.
func OutlookOf(a *account.Account) *Outlook {
	if a.Final {
		return nil
	}
	out := &Outlook{Week: a.Forecast(a.To.Add(-recent)), SoFar: a.Forecast(a.From)}
	take := func(why string, p *account.Pace) {
		if p.RunsOutAt != nil && (out.RunsOutAt == nil || *p.RunsOutAt < *out.RunsOutAt) {
			out.RunsOutAt, out.RunsOutWhy = p.RunsOutAt, why
		}
	}
	take(ByWeek, out.Week) // which of two that are equal speaks
	take(BySoFar, out.SoFar)
	out.CoverageLost = a.CoverageLost()
	out.AtRisk = a.Verdict == account.OnTrack && out.RunsOutAt != nil
	return out
}

// Row is what the order of agreements follows.
type Row struct {
	Name        string
	Faulty      bool // it cannot be accounted
	Nothing     bool // no time of it counts so far: nothing was measured
	Verdict     account.Verdict
	Outlook     *Outlook
	LeftMS      int64
	AllowanceMS int64
}

// Compare puts the more urgent first: what cannot be accounted, what is missed by how
// far beyond, what runs out by when, then by the share of the allowance that is left.
func Compare(a, b Row) int {
	ra, rb := a.rank(), b.rank()
	switch {
	case ra != rb:
		return ra - rb
	case ra == runsOut && *a.Outlook.RunsOutAt != *b.Outlook.RunsOutAt:
		return order(*a.Outlook.RunsOutAt < *b.Outlook.RunsOutAt)
	case a.share() != b.share():
		return order(a.share() < b.share())
	case a.Name != b.Name:
		return order(a.Name < b.Name)
	}
	return 0
}

func order(first bool) int {
	if first {
		return -1
	}
	return 1
}

// Ranks, the most urgent first.
const (
	faulty = iota
	missed
	runsOut
	calm
)

func (r Row) rank() int {
	switch {
	case r.Faulty:
		return faulty
	case r.Verdict == account.Missed:
		return missed
	case r.Outlook != nil && r.Outlook.RunsOutAt != nil:
		return runsOut
	}
	return calm
}

func (r Row) share() float64 { return float64(r.LeftMS) / float64(max(1, r.AllowanceMS)) }

// Word is how an agreement stands, in a word.
func (r Row) Word() string {
	switch {
	case r.Faulty:
		return "unknown"
	case r.Verdict == account.OnTrack && r.Nothing:
		return "not measured" // which is never good
	case r.Verdict == account.OnTrack && r.Outlook != nil && r.Outlook.AtRisk:
		return "at risk"
	}
	return strings.ReplaceAll(string(r.Verdict), "-", " ")
}

// Counts says how many agreements there are, and how many of them stand how; the others
// are those of which too little is known.
type Counts struct {
	Agreements int `json:"agreements"`
	Met        int `json:"met"`
	Missed     int `json:"missed" doc:"Of those that run: they cannot be met any more"`
	AtRisk     int `json:"at_risk" doc:"They would be missed at one of their paces"`
	OnTrack    int `json:"on_track"`
}

// Summary is how all agreements stand together.
type Summary struct {
	Over    Counts `json:"over" doc:"Those whose period is over"`
	Running Counts `json:"running"`
	Faulty  int    `json:"faulty" doc:"Those that cannot be accounted"`
	Next    *Next  `json:"next,omitempty" doc:"Whose allowance runs out next"`
}

// Next is the agreement whose allowance runs out next at its pace.
type Next struct {
	Name string       `json:"name"`
	At   span.Instant `json:"at"`
	Why  string       `json:"why" enum:"week,so_far"`
}

// Add counts one more agreement.
func (s *Summary) Add(r Row, final bool) {
	if r.Faulty {
		s.Faulty++
		return
	}
	c := &s.Running
	if final {
		c = &s.Over
	}
	c.Agreements++
	switch r.Word() {
	case "met":
		c.Met++
	case "missed":
		c.Missed++
	case "at risk":
		c.AtRisk++
		if at := *r.Outlook.RunsOutAt; s.Next == nil || at < s.Next.At || at == s.Next.At && r.Name < s.Next.Name {
			s.Next = &Next{r.Name, at, r.Outlook.RunsOutWhy}
		}
	case "on track":
		c.OnTrack++
	}
}
