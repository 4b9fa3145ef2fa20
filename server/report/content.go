// Package report makes the published document of one agreement and period: its
// content, its PDF, and the inputs that are frozen with it.
package report

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/clauses"
	"kestite/core/closing"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/server/history"
)

// Format is the name of the report's JSON form.
const Format = "kestite-report/1"

// Content is everything a report says.
type Content struct {
	Format       string `json:"format"`
	Organisation string `json:"organisation"`
	Agreement    string `json:"agreement"`
	Name         string `json:"name"`
	Customer     string `json:"customer"`
	Service      string `json:"service"`
	ServiceName  string `json:"service_name"`
	Target       string `json:"target_percent"`
	// What the availability is computed by, beside the account's times.
	DegradedWeight string `json:"degraded_weight_percent"`
	Unmeasured     string `json:"unmeasured"`
	Maintenance    string `json:"maintenance"`
	Timezone       string `json:"timezone"`
	Period         string `json:"period"`
	Number         int    `json:"number"`
	Remark         string `json:"remark"`
	// Frozen says who froze the account in its close, and when; nil: nobody did.
	Frozen      *definition.Signature `json:"frozen,omitempty"`
	Adjustments []Adjusted            `json:"adjustments,omitempty"`
	Clauses     []string              `json:"clauses"`
	Method      []string              `json:"method"`
	Account     account.Account       `json:"account"`
	// Credit is what is owed for the period; nil: no fee was agreed.
	Credit  *credit.Owed `json:"credit,omitempty"`
	Outages []Outage     `json:"outages"`
	// Layout is what it is laid out by, and what follows is what that asks for.
	Layout         *Laid      `json:"layout,omitempty"`
	LatencyPromise *Promised  `json:"latency_promise,omitempty"`
	Work           []Worked   `json:"work,omitempty"`
	Responses      []Timed    `json:"responses,omitempty"`
	Trend          []Past     `json:"trend,omitempty"` // oldest first, this period last
	Incidents      []Happened `json:"incidents,omitempty"`
	Ledger         []Settled  `json:"ledger,omitempty"`
	Claims         []Settled  `json:"claims,omitempty"`
	// Standing says who lets a schedule publish it; nil: people published it.
	Standing *definition.Signature `json:"standing,omitempty"`
}

// Outage is a run of class down.
type Outage struct {
	From span.Instant `json:"from"`
	To   span.Instant `json:"to"`
	MS   int64        `json:"ms"`
	// Cause is what the close knows of it; empty where nothing was said.
	Cause string `json:"cause,omitempty"`
	// Incident is its number; 0: there was none.
	Incident int64 `json:"incident,omitempty"`
}

// Adjusted is an adjustment that the account counts with.
type Adjusted struct {
	definition.Adjustment
	MS int64 `json:"ms"` // of it, in service hours
}

// Explain gives the outages the causes that a close has found.
func (c *Content) Explain(questions []closing.Question) {
	for _, q := range questions {
		for i, o := range c.Outages {
			if q.Kind == closing.Outage && q.Answer != nil && o.From == q.Span.From {
				c.Outages[i].Cause = q.Answer.Text
			}
		}
	}
}

// OutagesOf are the runs of class down of an account.
func OutagesOf(a *account.Account) []Outage {
	out := []Outage{}
	for _, i := range a.Intervals {
		if i.Class == account.Down {
			out = append(out, Outage{From: i.From, To: i.To, MS: int64(i.To - i.From)})
		}
	}
	return out
}

// Seen tells what somebody has read of an account from what it says once something of it
// has changed: the first half of a SHA-256, in hexadecimal.
func Seen(of ...any) (string, error) {
	text, err := json.Marshal(of)
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:len(sum)/2]), err
}

// Inputs is what an account was made from, frozen with the report.
type Inputs struct {
	Bundle    definition.Bundle `json:"bundle"`
	Stretches []seal.Lane       `json:"stretches"`
}

// Subject names what a report is about.
type Subject struct {
	Organisation, ServiceName, Period, Remark string
	Number                                    int
	Spec                                      definition.AgreementSpec
	Direction                                 credit.Direction // empty: nobody owes anything
	Terms                                     definition.CreditTerms
	// Named gives the name of a customer, service or check by its id.
	Named func(kind, id string) string
}

// SubjectOf is what the report of an account is about.
func SubjectOf(snap *catalogue.Snapshot, agreement, period string, a *account.Account) Subject {
	spec := snap.Accounting(agreement, a.From).Spec
	return Subject{Organisation: snap.Name, ServiceName: snap.Named(catalogue.Service, a.Service), Period: period,
		Spec: spec, Direction: snap.Direction(spec), Terms: snap.TermsOf(spec.Contract, a.From), Named: snap.Named}
}

// customer is what the customer is called; empty for an internal target.
func (s Subject) customer() string {
	if s.Spec.Customer == "" {
		return ""
	}
	return s.Named("customer", s.Spec.Customer)
}

// New makes the content of a report from an account. The error is a fee or a credit that
// cannot be read.
func New(s Subject, a *account.Account) (Content, error) {
	owed, err := credit.Of(s.Spec.Fee, s.Direction, a)
	if err != nil {
		return Content{}, err
	}
	c := Content{
		Format: Format, Organisation: s.Organisation, Agreement: a.Agreement, Name: s.Spec.Name, Customer: s.customer(),
		Service: a.Service, ServiceName: s.ServiceName, Target: string(s.Spec.TargetPercent), Timezone: s.Spec.Timezone,
		DegradedWeight: string(s.Spec.DegradedWeightPercent), Unmeasured: a.Clauses.Agreement.Unmeasured, Maintenance: a.Clauses.Agreement.Maintenance.Mode,
		Period: s.Period, Number: s.Number, Remark: s.Remark, Credit: owed, Clauses: append(clauses.Sentences(s.Spec, s.Named), clauses.Terms(s.Terms)...), Account: *a, Outages: []Outage{},
		Method: []string{label("method.measured"), label("method.failure"), label("method.availability"), label("method.classes")},
	}
	c.Outages = OutagesOf(a)
	for _, adj := range a.Clauses.Approved {
		s := span.Span{From: adj.From, To: adj.To}.Intersect(span.Span{From: a.From, To: a.To})
		c.Adjustments = append(c.Adjustments, Adjusted{adj, a.Clauses.Hours.Cut(s).Length()})
	}
	return c, nil
}

// CreditWords say what is owed in one sentence; empty where no fee was agreed.
func CreditWords(c Content) string {
	o := c.Credit
	if o == nil {
		return ""
	}
	switch {
	case o.Percent == "0":
		return label("credit.none", o.Fee, o.Currency)
	case o.Direction == credit.FromSupplier:
		return label("credit.supplier", o.Percent, o.Fee, o.Currency, o.Amount, o.Currency)
	}
	return label("credit.customer", o.Percent, o.Fee, o.Currency, o.Amount, o.Currency)
}

// Freeze returns the gzipped inputs of a period.
func Freeze(p *history.Period) ([]byte, error) {
	in := Inputs{Bundle: p.Bundle.Bundle, Stretches: []seal.Lane{}}
	for _, s := range p.Bundle.Bundle.Services {
		seen := map[history.LaneKey]bool{}
		for _, c := range s.Checks {
			for _, l := range c.Assigned() {
				key := history.LaneKey{Check: c.ID, Location: l}
				if list := p.Stretches.Stretches[key]; len(list) > 0 && !seen[key] {
					in.Stretches = append(in.Stretches, seal.Lane{Check: c.ID, Location: l, Stretches: list})
				}
				seen[key] = true
			}
		}
	}
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	if err := json.NewEncoder(z).Encode(in); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

// Digest is the SHA-256 over content and inputs, in hexadecimal.
func Digest(content, inputs []byte) string {
	h := sha256.New()
	fmt.Fprintf(h, "%d\n", len(content))
	h.Write(content)
	h.Write(inputs)
	return hex.EncodeToString(h.Sum(nil))
}

// CSV writes the account's intervals, a row each, with the durations in ms.
func (c Content) CSV() ([]byte, error) {
	var buf bytes.Buffer
	w := csv.NewWriter(&buf)
	if err := w.Write([]string{"agreement", "period", "from", "to", "class", "ms"}); err != nil {
		return nil, err
	}
	for _, i := range c.Account.Intervals {
		if err := w.Write([]string{c.Agreement, c.Period, i.From.String(), i.To.String(), i.Class.String(), strconv.FormatInt(int64(i.To-i.From), 10)}); err != nil {
			return nil, err
		}
	}
	w.Flush()
	return buf.Bytes(), w.Error()
}

// PeriodWords writes the name of a period as people say it, "2026-10" as "October 2026".
func PeriodWords(name string) string {
	p, err := calendar.ParsePeriod(name, time.UTC)
	if err != nil {
		return name
	}
	return p.Words()
}
