package report

import (
	"context"
	"encoding/json"
	"math"
	"slices"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/core/money"
	"kestite/core/response"
	"kestite/core/span"
	"kestite/server/accounting"
	"kestite/server/credits"
	"kestite/server/history"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// Past is how an agreement stood in a period, in a row of them.
type Past struct {
	Period       string          `json:"period"`
	Report       int             `json:"report,omitempty"` // number in its period; 0: not published, and as it was computed then
	Target       string          `json:"target_percent"`
	Verdict      account.Verdict `json:"verdict"`
	Availability string          `json:"availability_percent,omitempty"`
	Low          string          `json:"low_percent,omitempty"`
	High         string          `json:"high_percent,omitempty"`
	DowntimeMS   int64           `json:"downtime_ms"`
}

// Timed is how long the answers of a check to a location took.
type Timed struct {
	response.Summary
	Name  string `json:"name"`  // of the check
	Place string `json:"place"` // of the location
	// Thinned are the measurements that are kept of those made in the period, where they
	// are fewer: the percentiles are of these.
	Thinned *Thinned `json:"thinned,omitempty"`
}

// Thinned says how many measurements are kept of how many.
type Thinned struct {
	Kept int64 `json:"kept"`
	Made int64 `json:"made"`
}

// Happened is an incident of the service that touches the period.
type Happened struct {
	ID    int64         `json:"id"`
	From  span.Instant  `json:"from"`
	To    *span.Instant `json:"to"`              // null: it is not over
	Cause string        `json:"cause,omitempty"` // what its review says
}

// Worked is an occurrence of work on the service.
type Worked struct {
	Window    string            `json:"window"`
	Name      string            `json:"name"`
	Type      string            `json:"type"`
	From      span.Instant      `json:"from"`
	To        span.Instant      `json:"to"`
	ServiceMS int64             `json:"service_ms"`
	GrantedMS int64             `json:"granted_ms"`
	Refused   []account.Refusal `json:"refused,omitempty"`
}

// Settled is a line of the ledger of credits, as it stood. Amounts are decimals.
type Settled struct {
	Agreement string `json:"agreement"`
	Name      string `json:"name"`
	Period    string `json:"period"`
	Currency  string `json:"currency"`
	Owed      string `json:"owed"`
	Capped    string `json:"capped"`
	Why       string `json:"why,omitempty"` // which limit of the contract took it
	Due       string `json:"due"`
	Claimed   string `json:"claimed"`
	Paid      string `json:"paid"` // and waived
	Open      string `json:"open"`
	State     string `json:"state"`
}

// Promised is a promise of response times.
type Promised struct {
	Check         string `json:"check"`
	Name          string `json:"name"`
	LimitUS       int64  `json:"limit_us"`
	TargetPercent string `json:"target_percent"`
}

// trendPeriods is how many periods a trend shows, the report's own among them.
const trendPeriods = 13

// Shelf is where what stands beside an account in a report is looked up.
type Shelf struct {
	Store   *store.Store
	Board   *accounting.Board
	Credits *credits.Desk
	timed   *expirable.LRU[string, []Timed]
}

// Response times of a draft that somebody looks at are kept so long: a month of them is read
// from hundreds of thousands of measurements. What is frozen or published is always read anew.
const (
	timedFor  = time.Minute
	mostTimed = 500
)

// NewShelf returns a Shelf that keeps nothing yet.
func NewShelf(s *store.Store, board *accounting.Board, owed *credits.Desk) *Shelf {
	return &Shelf{s, board, owed, expirable.NewLRU[string, []Timed](mostTimed, nil, timedFor)}
}

// timings are Timings, kept for a while unless they have to be fresh.
func (s *Shelf) timings(ctx context.Context, snap *catalogue.Snapshot, p *history.Period, a *account.Account, fresh bool) ([]Timed, error) {
	key := snap.Mark + " " + a.Agreement + " " + p.Calendar.Name()
	if list, has := s.timed.Get(key); has && !fresh {
		return list, nil
	}
	list, err := Timings(ctx, s.Store.Queries, snap, p, a)
	if err == nil {
		s.timed.Add(key, list)
	}
	return list, err
}

// Fill adds to a report what its layout asks for beside the account: only that is looked up,
// and what is costly only where it has to be fresh.
func (s *Shelf) Fill(ctx context.Context, snap *catalogue.Snapshot, p *history.Period, a *account.Account, c *Content, fresh bool) error {
	return s.FillAs(ctx, snap, p, a, c, fresh, LaidBy(snap, snap.Accounting(a.Agreement, a.From).Spec))
}

// FillAs is Fill for another layout than that of the agreement's audience.
func (s *Shelf) FillAs(ctx context.Context, snap *catalogue.Snapshot, p *history.Period, a *account.Account, c *Content, fresh bool, laid Laid) error {
	c.Layout = &laid
	if l := a.Clauses.Agreement.Latency; l != nil {
		c.LatencyPromise = &Promised{l.Check, snap.Named(catalogue.Check, l.Check), l.Limit(), string(l.TargetPercent)}
	}
	for _, key := range laid.Sections {
		var err error
		switch key {
		case definition.SectionMaintenance:
			err = worked(snap, p, a, c)
		case definition.SectionResponse:
			c.Responses, err = s.timings(ctx, snap, p, a, fresh)
		case definition.SectionTrend:
			c.Trend, err = s.trend(ctx, snap, p.Calendar, a)
		case definition.SectionIncidents, definition.SectionOutages:
			err = s.incidents(ctx, a, c, key == definition.SectionIncidents)
		case definition.SectionCredits, definition.SectionClaims:
			err = s.settled(ctx, snap, a, c, key)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func worked(snap *catalogue.Snapshot, p *history.Period, a *account.Account, c *Content) error {
	list, err := p.Evidence.Done(a.Clauses.Agreement, a)
	for _, d := range list {
		c.Work = append(c.Work, Worked{d.Window, snap.Named(catalogue.Window, d.Window), d.Type, d.Planned.From, d.Planned.To, d.ServiceMS, d.GrantedMS, d.Refused})
	}
	return err
}

// Timings sum up how long the answers of the checks of an account's service took, by what
// is kept of them.
func Timings(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, p *history.Period, a *account.Account) ([]Timed, error) {
	within := span.Span{From: a.From, To: a.To}
	times := response.Times{Hours: span.Set{within}.Intersect(a.Clauses.Hours)}
	var checks []string
	kinds := map[string]string{}
	for _, check := range p.Bundle.Services[a.Service].Checks() {
		if _, _, is := response.Measure(check.Kind); is && kinds[check.ID] == "" {
			kinds[check.ID] = check.Kind
			checks = append(checks, check.ID)
		}
	}
	if len(checks) == 0 {
		return nil, nil
	}
	lanes, err := q.LanesOfChecks(ctx, checks)
	if err != nil {
		return nil, err
	}
	thin := map[response.Key]*Thinned{}
	for _, l := range lanes {
		name, index, _ := response.Measure(kinds[l.CheckID])
		rows, err := raw.During(ctx, q, l.ID, within.From, within.To)
		if err != nil {
			return nil, err
		}
		key := response.Key{Check: l.CheckID, Location: l.Location}
		if thin[key], err = thinned(ctx, q, l.ID, within, rows); err != nil {
			return nil, err
		}
		for _, r := range rows {
			if v := r.Value(index); response.Answered(r.Outcome) && !math.IsNaN(v) {
				times.Add(key, name, r.At, measure.Thousandths(v))
			}
		}
	}
	var out []Timed
	for _, t := range times.Summaries() {
		key := response.Key{Check: t.Check, Location: t.Location}
		out = append(out, Timed{t, snap.Named(catalogue.Check, t.Check), snap.Named(catalogue.Location, t.Location), thin[key]})
	}
	return out, nil
}

// thinned says how many of a lane's measurements are kept, where the summaries of the whole
// hours of a time count more; nil: all of them.
func thinned(ctx context.Context, q *db.Queries, lane int32, within span.Span, rows []raw.Row) (*Thinned, error) {
	from, to := within.From.Time().Add(time.Hour-1).Truncate(time.Hour), within.To.Time().Truncate(time.Hour)
	made, err := q.MeasuredIn(ctx, db.MeasuredInParams{Lane: lane, Since: from, Before: to})
	if err != nil {
		return nil, err
	}
	kept := int64(0)
	for _, r := range rows {
		if at := r.At.Time(); !at.Before(from) && at.Before(to) {
			kept++
		}
	}
	if kept >= made {
		return nil, nil
	}
	return &Thinned{kept, made}, nil
}

// trend is how the agreement stood in the periods up to this one: as published, else as it
// is computed now.
func (s *Shelf) trend(ctx context.Context, snap *catalogue.Snapshot, last calendar.Period, a *account.Account) ([]Past, error) {
	of := pastOf(a, last.Name(), string(snap.Accounting(a.Agreement, a.From).Spec.TargetPercent))
	out := []Past{of}
	var periods []calendar.Period
	at := last
	for range trendPeriods - 1 {
		before, err := snap.PeriodBefore(a.Agreement, at)
		if err != nil {
			return nil, err
		}
		if promised, err := snap.Promises(a.Agreement, before); err != nil || !promised {
			break
		}
		periods = append(periods, before)
		at = before
	}
	names := make([]string, len(periods))
	for i, p := range periods {
		names[i] = p.Name()
	}
	rows, err := s.Store.PublishedFigures(ctx, db.PublishedFiguresParams{Agreement: a.Agreement, Periods: names})
	if err != nil {
		return nil, err
	}
	published := map[string]Past{}
	for _, r := range rows {
		published[r.Period] = Past{r.Period, int(r.Number), r.Target, account.Verdict(r.Verdict), r.Availability, r.Low, r.High, r.DowntimeMs}
	}
	for i, p := range periods {
		past, has := published[names[i]]
		if !has {
			rows, err := s.Board.Rows(ctx, snap, span.Of(s.Store.Now()), p, []string{a.Agreement})
			if err != nil {
				return nil, err
			}
			at := slices.IndexFunc(rows, func(r accounting.Row) bool { return r.Account != nil && r.Period.Name() == names[i] })
			if at < 0 {
				continue // it cannot be computed; Standing says why
			}
			past = pastOf(rows[at].Account, names[i], string(snap.Accounting(a.Agreement, p.Span().From).Spec.TargetPercent))
		}
		out = append(out, past)
	}
	slices.Reverse(out)
	return out, nil
}

func pastOf(a *account.Account, period, target string) Past {
	text := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	return Past{Period: period, Target: target, Verdict: a.Verdict, Availability: text(a.AvailabilityPercent), Low: text(a.AvailabilityLowPercent),
		High: text(a.AvailabilityHighPercent), DowntimeMS: a.DowntimeMS}
}

// incidents names the incident of each outage, and lists them all where they are asked for.
func (s *Shelf) incidents(ctx context.Context, a *account.Account, c *Content, all bool) error {
	rows, err := s.Store.IncidentsOver(ctx, db.IncidentsOverParams{Services: []string{a.Service}, FromAt: a.From.Time(), UntilAt: a.To.Time()})
	if err != nil {
		return err
	}
	for _, r := range rows {
		h := Happened{ID: r.ID, From: span.Of(r.BeganAt), Cause: causeOf(r)}
		during := span.Span{From: h.From, To: span.End}
		if r.EndedAt != nil {
			to := span.Of(*r.EndedAt)
			h.To, during.To = &to, to
		}
		if all {
			c.Incidents = append(c.Incidents, h)
			continue
		}
		for i, o := range c.Outages {
			if o.Incident == 0 && !during.Intersect(span.Span{From: o.From, To: o.To}).Empty() {
				c.Outages[i].Incident = h.ID
			}
		}
	}
	return nil
}

// causeOf is what the review of an incident, or of the one that it follows from, says.
func causeOf(r db.IncidentsOverRow) string {
	for _, text := range []json.RawMessage{r.Review, r.CauseReview} {
		var review incident.Review
		if len(text) > 0 && json.Unmarshal(text, &review) == nil && review.Cause != "" {
			return review.Cause
		}
	}
	return ""
}

// settled are the lines of the ledger that a report shows: those of its agreement up to its
// period; or what suppliers owe for services that its own one needs, while it lasted.
func (s *Shelf) settled(ctx context.Context, snap *catalogue.Snapshot, a *account.Account, c *Content, key string) error {
	if s.Credits == nil {
		return nil
	}
	_, lines, err := s.Credits.Ledger(ctx)
	if err != nil {
		return err
	}
	needed := snap.Needed(span.Span{From: a.From, To: a.To}, a.Service)
	for _, l := range lines {
		line := settledOf(snap, l)
		switch own := l.Agreement == a.Agreement; {
		case key == definition.SectionCredits && own && l.During.To <= a.To:
			c.Ledger = append(c.Ledger, line)
		case key == definition.SectionClaims && !own && l.Says.Direction == credit.FromSupplier && slices.Contains(needed, snap.ServiceOf(l.Agreement)) &&
			l.During.From < a.To && a.From < l.During.To:
			c.Claims = append(c.Claims, line)
		}
	}
	return nil
}

func settledOf(snap *catalogue.Snapshot, l credit.Line) Settled {
	say := func(minor int64) string { return money.Write(minor, l.Says.Currency) }
	return Settled{Agreement: l.Agreement, Name: snap.Named(catalogue.Agreement, l.Agreement), Period: l.Period, Currency: l.Says.Currency, Owed: say(l.Owed), Capped: say(l.Capped),
		Why: l.Why, Due: say(l.Due), Claimed: say(l.Claimed), Paid: say(l.Paid + l.Waived), Open: say(l.Open), State: string(l.State)}
}
