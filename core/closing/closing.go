// Package closing holds the rules of the close: what is to be asked of the account of a
// finished period before it is frozen, what counts as an answer, who may decide on an
// adjustment, and what differs between a frozen account and what it would be today.
package closing

import (
	"cmp"
	"fmt"
	"slices"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// Kind is what a question is about.
type Kind string

// The kinds, in the order in which they are asked.
const (
	Waiting    Kind = "adjustment" // an adjustment that nobody has decided on
	Coverage   Kind = "coverage"   // below the agreement's clause: the verdict is insufficient
	Unmeasured Kind = "unmeasured" // agreed time of which nothing is known
	Outage     Kind = "outage"     // downtime that counts, without a cause
	Lost       Kind = "work"       // planned work that lost its notice or its cap
	Edited     Kind = "edited"     // a definition that was edited within the period
	Incident   Kind = "incident"   // one that was not reviewed
	Late       Kind = "late"       // measurements that came long after they were made
	Clock      Kind = "clock"      // measurements whose instants are unsure
	Objection  Kind = "objection"  // what a customer objects to, in a report of the agreement
	Claim      Kind = "claim"      // what a supplier owes for the period, of a service that this one needs
)

// Kinds are all of them, in order.
var Kinds = []Kind{Waiting, Coverage, Unmeasured, Outage, Lost, Edited, Incident, Late, Clock, Objection, Claim}

// ShortMS is the length below which gaps of measuring are asked about together, ms.
const ShortMS = span.Minute

// Question is one thing to look at before a period is frozen.
type Question struct {
	Kind Kind
	// Key is the same for the same question as long as what it asks about is the same.
	Key     string
	Span    span.Span // when it was; empty where it is about no time
	MS      int64     // how much of the account it is about
	Count   int       // of what is asked about together
	Subject string    // id of the window, definition, incident or adjustment
	Of      string    // what Subject is the id of
	Why     string
	Answer  *Answer // nil: it is open
}

// Open says whether a question is not answered.
func (q Question) Open() bool { return q.Answer == nil }

// Answerable says whether words answer it; an adjustment that waits is decided on.
func (q Question) Answerable() bool { return q.Kind != Waiting }

// Answer is what somebody said to a question.
type Answer struct {
	Key   string                `json:"key"`
	Cause string                `json:"cause,omitempty"`
	Text  string                `json:"text"`
	By    *definition.Signature `json:"by,omitempty"` // nil: what is known besides answers it
}

// Edit is a definition that was edited within a period.
type Edit struct {
	Kind, ID string
	Times    int
	Last     span.Instant
}

// Review is an incident of the service that overlaps the period.
type Review struct {
	ID       int64
	Span     span.Span
	Reviewed bool
	Cause    string // what the review says caused it; empty: nothing
}

// Bounds beyond which a measurement is asked about, ms.
const (
	LateMS   = span.Hour   // stored so long after it was made
	UnsureMS = span.Second // its instant may be wrong by so much
)

// Doubted is what of the measurements from a location came late or is unsure.
type Doubted struct {
	Location string
	Span     span.Span // from the first to the last hour with some
	Late     int64
	Unsure   int64
	WorstMS  int64 // by how much an instant may be wrong at most
}

// Objected is an objection that nobody has answered.
type Objected struct {
	ID     int64
	Report string // id
	Period string // of the report, in words
	By     string
	At     span.Instant
}

// Owes is what a supplier owes, and has not settled.
type Owes struct {
	Agreement string
	Period    string // in words
	Open      string // amount and currency
	Claimed   bool
}

// Facts are what the questions of a period follow from.
type Facts struct {
	Account   *account.Account
	Lost      []account.Lost
	Edits     []Edit
	Incidents []Review
	Doubts    []Doubted
	Objected  []Objected
	Owes      []Owes
	Proposed  map[string]definition.AdjustmentSpec // that nobody has decided on, by id
	Answers   []Answer
}

// Questions are all that is to be asked of a period, in order of kind and time, each with
// its answer. Downtime with a reviewed incident that names a cause, and time that an
// adjustment covers, are answered by these.
func Questions(f Facts) []Question {
	var out []Question
	a := f.Account
	for _, id := range sorted(f.Proposed) {
		p := f.Proposed[id]
		out = append(out, Question{Kind: Waiting, Key: key(Waiting, id), Span: span.Span{From: p.From, To: p.To}, MS: int64(p.To - p.From), Count: 1,
			Subject: id, Of: "adjustment", Why: fmt.Sprintf("proposed by %s to count as %s: %s", p.Proposer.Name, p.Class, p.Reason)})
	}
	if a.Verdict == account.Insufficient {
		out = append(out, Question{Kind: Coverage, Key: key(Coverage, a.CoveragePercent), MS: a.TotalMS.Unmeasured, Count: 1,
			Why: fmt.Sprintf("%s %% of the time was measured, less than the agreement asks for: the verdict is insufficient", a.CoveragePercent)})
	}
	out = append(out, gaps(a.Intervals)...)
	for _, i := range a.Intervals {
		if i.Class != account.Down {
			continue
		}
		s := span.Span{From: i.From, To: i.To}
		q := Question{Kind: Outage, Key: key(Outage, s), Span: s, MS: s.Length(), Count: 1, Why: "there is no incident of it"}
		for _, r := range f.Incidents {
			if q.Answer != nil || r.Span.Intersect(s).Empty() {
				continue
			}
			q.Subject, q.Of, q.Why = fmt.Sprint(r.ID), "incident", "its incident was not reviewed"
			if r.Reviewed {
				q.Why = "the review of its incident says no cause"
			}
			if r.Reviewed && r.Cause != "" {
				q.Why = "the review of its incident says the cause"
				q.Answer = &Answer{Key: q.Key, Text: r.Cause}
			}
		}
		out = append(out, q)
	}
	for _, l := range f.Lost {
		ms, why := int64(0), ""
		for _, r := range l.Refused {
			ms += r.MS
			why = cmp.Or(why, lostWords[r.Why])
		}
		out = append(out, Question{Kind: Lost, Key: key(Lost, l.Window, l.Planned), Span: l.Planned, MS: ms, Count: 1, Subject: l.Window, Of: "window", Why: why})
	}
	for _, e := range f.Edits {
		out = append(out, Question{Kind: Edited, Key: key(Edited, e.Kind, e.ID, e.Last), Span: span.Span{From: e.Last, To: e.Last + 1}, Count: e.Times,
			Subject: e.ID, Of: e.Kind, Why: "what was measured before and after was judged by different definitions"})
	}
	for _, r := range f.Incidents {
		if !r.Reviewed {
			out = append(out, Question{Kind: Incident, Key: key(Incident, r.ID), Span: r.Span, MS: r.Span.Length(), Count: 1, Subject: fmt.Sprint(r.ID), Of: "incident",
				Why: "it was not reviewed"})
		}
	}
	out = append(out, doubts(f.Doubts)...)
	for _, o := range f.Objected {
		out = append(out, Question{Kind: Objection, Key: key(Objection, o.ID), Span: span.Span{From: o.At, To: o.At + 1}, Count: 1, Subject: o.Report, Of: "report",
			Why: fmt.Sprintf("%s objects to the report of %s, and nobody has answered", o.By, o.Period)})
	}
	for _, o := range f.Owes {
		how := "nobody has claimed it"
		if o.Claimed {
			how = "it was claimed and is not settled"
		}
		out = append(out, Question{Kind: Claim, Key: key(Claim, o.Agreement, o.Period, o.Open, o.Claimed), Count: 1, Subject: o.Agreement, Of: "agreement",
			Why: fmt.Sprintf("%s are owed for %s, and %s", o.Open, o.Period, how)})
	}
	answered := map[string]*Answer{}
	for i := range f.Answers {
		answered[f.Answers[i].Key] = &f.Answers[i]
	}
	for i, q := range out {
		if said := answered[q.Key]; said != nil && q.Answerable() {
			out[i].Answer = said
		}
	}
	slices.SortStableFunc(out, func(x, y Question) int {
		return cmp.Or(cmp.Compare(slices.Index(Kinds, x.Kind), slices.Index(Kinds, y.Kind)), cmp.Compare(x.Span.From, y.Span.From))
	})
	return out
}

var lostWords = map[string]string{
	account.NotEmergency: "the agreement grants no emergency work",
	account.LateNotice:   "it was announced later than the agreement asks for",
	account.NotWithin:    "it lay outside the times agreed for maintenance",
	account.CapUsed:      "the cap of granted maintenance was used up",
}

// gaps are the questions about time that was not measured: one for each that is long, and
// one for all that are short.
func gaps(intervals []account.Interval) []Question {
	var out []Question
	short := Question{Kind: Unmeasured, Why: "gaps shorter than a minute, together"}
	for _, i := range intervals {
		s := span.Span{From: i.From, To: i.To}
		switch {
		case i.Class != account.Unmeasured:
		case s.Length() < ShortMS:
			short.Count++
			short.MS += s.Length()
			if short.Count == 1 {
				short.Span.From = s.From
			}
			short.Span.To = s.To
		default:
			out = append(out, Question{Kind: Unmeasured, Key: key(Unmeasured, s), Span: s, MS: s.Length(), Count: 1, Why: "nothing was measured"})
		}
	}
	if short.Count > 0 {
		short.Key = key(Unmeasured, "short", short.Count, short.MS)
		out = append(out, short)
	}
	return out
}

// doubts are the questions about measurements that came late or are unsure, by location.
func doubts(list []Doubted) []Question {
	var out []Question
	for _, d := range list {
		if d.Late > 0 {
			out = append(out, Question{Kind: Late, Key: key(Late, d.Location, d.Late, d.Span), Span: d.Span, Count: int(d.Late), Subject: d.Location, Of: "location",
				Why: "they were stored more than an hour after they were made: nobody saw them as they happened, and what was told meanwhile knew nothing of them"})
		}
		if d.Unsure > 0 {
			out = append(out, Question{Kind: Clock, Key: key(Clock, d.Location, d.Unsure, d.WorstMS, d.Span), Span: d.Span, MS: d.WorstMS, Count: int(d.Unsure), Subject: d.Location, Of: "location",
				Why: "when they were made is not known to the second, by the clock of who made them"})
		}
	}
	return out
}

// WaitingKey is the key of the question about an adjustment that waits.
func WaitingKey(adjustment string) string { return key(Waiting, adjustment) }

func key(k Kind, of ...any) string {
	out := string(k)
	for _, o := range of {
		if s, is := o.(span.Span); is {
			out += fmt.Sprintf(" %s/%s", s.From, s.To)
			continue
		}
		out += fmt.Sprintf(" %v", o)
	}
	return out
}

func sorted(m map[string]definition.AdjustmentSpec) []string {
	var out []string
	for id := range m {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// Left counts the open questions of each kind, and all of them.
func Left(list []Question) (by map[Kind]int, all int) {
	by = map[Kind]int{}
	for _, q := range list {
		if q.Open() {
			by[q.Kind]++
			all++
		}
	}
	return by, all
}

// Decide is an adjustment as somebody decides on it: approved or refused by another than
// who proposed it, withdrawn by who did. The error is a *definition.Fault.
func Decide(a definition.AdjustmentSpec, state, note string, by definition.Signature) (definition.AdjustmentSpec, error) {
	mine := a.Proposer.ID == by.ID
	switch {
	case a.State != definition.Proposed:
		return a, definition.Faultf("state", "it is %s by %s already; propose another where that was wrong", a.State, decider(a))
	case state == definition.Withdrawn && !mine:
		return a, definition.Faultf("state", "%s proposed it, and alone can withdraw it; refuse it, and say why", a.Proposer.Name)
	case state != definition.Withdrawn && mine:
		return a, definition.Faultf("state", "you proposed it: somebody else has to decide; you can withdraw it")
	case state == definition.Refused && note == "":
		return a, definition.Faultf("note", "is missing; say why it is refused")
	case !slices.Contains([]string{definition.Approved, definition.Refused, definition.Withdrawn}, state):
		return a, definition.Faultf("state", "%q is no decision; it is approved, refused or withdrawn", state)
	}
	a.State, a.Decider, a.Note = state, &by, note
	return a, nil
}

func decider(a definition.AdjustmentSpec) string {
	if a.Decider == nil {
		return "somebody"
	}
	return a.Decider.Name
}

// InPeriod says what is wrong with where an adjustment lies: it is inside its period, and
// touches time that was agreed. The error is a *definition.Fault.
func InPeriod(a definition.AdjustmentSpec, of *account.Account) error {
	s := span.Span{From: a.From, To: a.To}
	switch period := of.Clauses.Period; {
	case a.From < period.From:
		return definition.Faultf("from", "is before the period, which starts at %s; take a time inside it", period.From)
	case a.To > period.To:
		return definition.Faultf("to", "is after the period, which ends at %s; take a time inside it", period.To)
	case of.Clauses.Hours.Cut(s).Length() == 0:
		return definition.Faultf("from", "no service hours lie in it: it would change nothing")
	}
	return nil
}
