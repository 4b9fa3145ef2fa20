package closing

import (
	"context"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/closing"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/accounting"
	"kestite/server/store/gen/db"
)

// Line is the close of one period in a list.
type Line struct {
	accounting.Row
	Open      map[closing.Kind]int // questions that are open
	Left, All int
	FrozenBy  string
	FrozenAt  *time.Time // nil: it is not frozen
	Published *db.ReportsAmongRow
	Owner     string // what they are called; empty: nobody
}

// List reads the closes of agreements in the periods that a band shows, as far as these
// are over. An account that cannot be made has no questions, and says why.
func (d *Desk) List(ctx context.Context, snap *catalogue.Snapshot, band calendar.Period, ids []string) ([]Line, error) {
	rows, err := d.Board.Rows(ctx, snap, span.Of(d.Now()), band, ids)
	if err != nil {
		return nil, err
	}
	var out []Line
	var agreements, periods, services []string
	var within span.Span
	for _, r := range rows {
		if r.Account != nil && !r.Account.Final {
			continue
		}
		if promised, err := snap.Promises(r.Agreement, r.Period); err == nil && !promised {
			continue
		}
		out = append(out, Line{Row: r})
		if r.Account == nil {
			continue
		}
		agreements, periods = append(agreements, r.Agreement), append(periods, r.Period.Name())
		services = append(services, r.Account.Service)
		s := r.Period.Span()
		if len(agreements) == 1 {
			within = s
		}
		within = span.Span{From: min(within.From, s.From), To: max(within.To, s.To)}
	}
	if len(agreements) == 0 {
		return out, nil
	}
	known, err := d.known(ctx, snap, agreements, periods, services, within)
	if err != nil {
		return nil, err
	}
	spans := map[span.Span][]string{}
	for _, l := range out {
		if l.Account != nil {
			spans[l.Period.Span()] = append(spans[l.Period.Span()], l.Account.Service)
		}
	}
	if known.beside, err = d.beside(ctx, snap, spans); err != nil {
		return nil, err
	}
	for i := range out {
		if out[i].Account != nil {
			known.fill(snap, &out[i])
		}
	}
	return out, nil
}

// known is what is kept of many closes.
type known struct {
	answers   map[Period][]closing.Answer
	incidents map[string][]closing.Review // by service
	proposed  map[Period]map[string]definition.AdjustmentSpec
	frozen    map[Period]db.FrozenAmongRow
	published map[Period]db.ReportsAmongRow
	edits     map[string][]catalogue.Edited // by service and period
	owners    map[Period]string
	beside    *beside
}

func (d *Desk) known(ctx context.Context, snap *catalogue.Snapshot, agreements, periods, services []string, within span.Span) (*known, error) {
	k := &known{map[Period][]closing.Answer{}, map[string][]closing.Review{}, map[Period]map[string]definition.AdjustmentSpec{},
		map[Period]db.FrozenAmongRow{}, map[Period]db.ReportsAmongRow{}, map[string][]catalogue.Edited{}, map[Period]string{}, nil}
	answers, err := d.Store.CloseAnswers(ctx, db.CloseAnswersParams{Agreements: agreements, Periods: periods})
	if err != nil {
		return nil, err
	}
	for _, r := range answers {
		of := Period{r.Agreement, r.Period}
		k.answers[of] = append(k.answers[of], closing.Answer{Key: r.Key, Text: r.Text})
	}
	incidents, err := d.Store.IncidentsOver(ctx, db.IncidentsOverParams{Services: services, FromAt: within.From.Time(), UntilAt: within.To.Time()})
	if err != nil {
		return nil, err
	}
	for _, r := range incidents {
		k.incidents[r.Subject] = append(k.incidents[r.Subject], reviewOf(r))
	}
	for id, e := range snap.Adjustments {
		spec := e.Current().Spec
		if of := (Period{spec.Agreement, spec.Period}); spec.State == definition.Proposed {
			if k.proposed[of] == nil {
				k.proposed[of] = map[string]definition.AdjustmentSpec{}
			}
			k.proposed[of][id] = spec
		}
	}
	owners, err := d.Store.CloseOwners(ctx, db.CloseOwnersParams{Agreements: agreements, Periods: periods})
	if err != nil {
		return nil, err
	}
	for _, o := range owners {
		k.owners[Period{o.Agreement, o.Period}] = o.Name
	}
	frozen, err := d.Store.FrozenAmong(ctx, db.FrozenAmongParams{Agreements: agreements, Periods: periods})
	if err != nil {
		return nil, err
	}
	for _, r := range frozen {
		k.frozen[Period{r.Agreement, r.Period}] = r
	}
	published, err := d.Store.ReportsAmong(ctx, db.ReportsAmongParams{Agreements: agreements, Periods: periods})
	for _, r := range published {
		k.published[Period{r.Agreement, r.Period}] = r
	}
	return k, err
}

func (k *known) fill(snap *catalogue.Snapshot, l *Line) {
	of := Period{l.Agreement, l.Period.Name()}
	when := l.Period.Span()
	facts := closing.Facts{Account: l.Account, Lost: l.Lost, Proposed: k.proposed[of], Answers: k.answers[of]}
	edits := l.Account.Service + " " + of.Name + " " + l.Period.Location.String()
	if _, has := k.edits[edits]; !has {
		k.edits[edits] = snap.Edits(l.Account.Service, when)
	}
	for _, e := range k.edits[edits] {
		facts.Edits = append(facts.Edits, closing.Edit(e))
	}
	for _, r := range k.incidents[l.Account.Service] {
		if !r.Span.Intersect(when).Empty() {
			facts.Incidents = append(facts.Incidents, r)
		}
	}
	k.beside.fill(&facts, l.Agreement, l.Account.Service, when)
	l.Owner = k.owners[of]
	list := closing.Questions(facts)
	l.Open, l.Left = closing.Left(list)
	l.All = len(list)
	if f, has := k.frozen[of]; has {
		l.FrozenBy, l.FrozenAt = f.Name, &f.FrozenAt
	}
	if p, has := k.published[of]; has {
		l.Published = &p
	}
}

// Verdict is that of the account; empty where there is none.
func (l Line) Verdict() account.Verdict {
	if l.Account == nil {
		return ""
	}
	return l.Account.Verdict
}
