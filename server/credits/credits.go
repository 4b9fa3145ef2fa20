// Package credits keeps the ledger of credits: what published reports owe, and what was
// claimed, paid and waived of it.
package credits

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/money"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Desk is where credits are settled.
type Desk struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Now         func() time.Time
}

// Ledger is all lines, by the end of their periods.
func (d *Desk) Ledger(ctx context.Context) (*catalogue.Snapshot, []credit.Line, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
	lines, _, err := d.ledger(ctx, d.Store.Queries, snap)
	return snap, lines, err
}

// ledger is all lines, and what day it is where the organisation is.
func (d *Desk) ledger(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot) ([]credit.Line, string, error) {
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, "", err
	}
	published, err := q.PublishedCredits(ctx)
	if err != nil {
		return nil, "", err
	}
	var accounts []credit.Account
	for _, p := range published {
		if p.Credit == nil {
			continue
		}
		a, err := account(snap, p)
		if err != nil {
			return nil, "", fmt.Errorf("the credit of %s for %s: %w", p.Agreement, p.Period, err)
		}
		accounts = append(accounts, a)
	}
	rows, err := q.CreditEntries(ctx)
	if err != nil {
		return nil, "", err
	}
	entries := make([]credit.Entry, len(rows))
	for i, r := range rows {
		entries[i] = credit.Entry{ID: r.ID, Agreement: r.Agreement, Period: r.Period, Kind: credit.Kind(r.Kind), Minor: r.Minor, On: r.Happened,
			Reference: r.Reference, Note: r.Note, By: r.MadeBy, At: span.Of(r.MadeAt), TakenBack: r.TakenBackAt != nil}
	}
	today := d.Now().In(zone).Format(time.DateOnly)
	lines, err := credit.Ledger(accounts, entries, today)
	return lines, today, err
}

func account(snap *catalogue.Snapshot, p db.PublishedCreditsRow) (credit.Account, error) {
	out := credit.Account{Agreement: p.Agreement, Period: p.Period, Report: p.ID, PublishedAt: span.Of(*p.PublishedAt)}
	if err := json.Unmarshal(p.Credit, &out.Says); err != nil {
		return out, err
	}
	period, err := snap.PeriodNamed(p.Agreement, p.Period)
	if err != nil {
		return out, err
	}
	out.During = period.Span()
	spec := snap.Accounting(p.Agreement, out.During.From).Spec
	if out.Zone, err = calendar.Zone(spec.Timezone); err != nil {
		return out, err
	}
	out.Contract, out.Terms = spec.Contract, snap.TermsOf(spec.Contract, out.During.From)
	return out, nil
}

// Add enters what happened to a credit. The amount is a decimal in the currency of the
// line. The error is a *definition.Fault, or catalogue.ErrNotFound where nothing published
// owes a credit for the period.
func (d *Desk) Add(ctx context.Context, e credit.Entry, amount string, by trail.By) (int64, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	var id int64
	err = d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockCredits(ctx); err != nil {
			return err
		}
		lines, today, err := d.ledger(ctx, q, snap)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(lines, func(l credit.Line) bool { return l.Agreement == e.Agreement && l.Period == e.Period })
		if at < 0 {
			return catalogue.ErrNotFound
		}
		line := lines[at]
		if e.Minor, err = money.Parse(amount, line.Says.Currency); err != nil {
			return definition.Faultf("amount", "%v", err)
		}
		e.On = cmp.Or(e.On, today)
		if err := line.Admits(e, today); err != nil {
			return err
		}
		if id, err = q.AddCreditEntry(ctx, db.AddCreditEntryParams{Agreement: e.Agreement, Period: e.Period, Kind: string(e.Kind), Minor: e.Minor,
			Currency: line.Says.Currency, Happened: e.On, Reference: e.Reference, Note: e.Note, MadeBy: by.Kept(), MadeAt: d.Now()}); err != nil {
			return err
		}
		return told(ctx, tx, q, by, string(e.Kind), e.Agreement, map[string]string{"period": e.Period,
			"amount": money.Words(e.Minor, line.Says.Currency), "on": e.On, "reference": e.Reference, "note": e.Note})
	})
	return id, err
}

// TakeBack says of an entry that it was wrong; it stays, and counts no more. Of one that
// is not there, or was taken back already, it is catalogue.ErrNotFound.
func (d *Desk) TakeBack(ctx context.Context, agreement string, id int64, by trail.By) error {
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockCredits(ctx); err != nil {
			return err
		}
		who, at := by.Kept(), d.Now()
		n, err := q.TakeCreditEntryBack(ctx, db.TakeCreditEntryBackParams{ID: id, Agreement: agreement, TakenBackBy: &who, TakenBackAt: &at})
		if err != nil || n == 0 {
			return cmp.Or(err, catalogue.ErrNotFound)
		}
		return told(ctx, tx, q, by, "take back", agreement, map[string]string{"entry": strconv.FormatInt(id, 10)})
	})
}

func told(ctx context.Context, tx pgx.Tx, q *db.Queries, by trail.By, action, agreement string, detail map[string]string) error {
	if err := trail.Add(ctx, q, trail.Entry{By: by, Action: action, Subject: "credit " + agreement, Detail: detail}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.Event{Kind: store.OnCredit, IDs: []string{agreement}})
}
