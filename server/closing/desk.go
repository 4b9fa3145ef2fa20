// Package closing keeps the close of periods: what was answered, which adjustments were
// proposed and decided on, and which accounts are frozen.
package closing

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/account"
	"kestite/core/catalogue"
	"kestite/core/closing"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/server/accounting"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/notifying"
	"kestite/server/report"
	"kestite/server/seals"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Desk is safe for concurrent use, and any number of servers may have one.
type Desk struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Books       *history.Books
	Board       *accounting.Board
	Shelf       *report.Shelf
	Notices     *notifying.Keeper
	Now         func() time.Time
}

// Why something of a close cannot be done.
var (
	ErrFrozen    = errors.New("its account is frozen; unfreeze it first, and say why")
	ErrNotFrozen = errors.New("its account is not frozen")
	ErrMoved     = errors.New("something of it has changed meanwhile; look at it again")
)

// OpenError is a freeze while questions are open.
type OpenError struct{ Left int }

func (e *OpenError) Error() string {
	if e.Left == 1 {
		return "one question is open; answer it first"
	}
	return fmt.Sprintf("%d questions are open; answer them first", e.Left)
}

// Period names the account that a close is of.
type Period struct{ Agreement, Name string }

// Close is the close of one period.
type Close struct {
	Snap      *catalogue.Snapshot
	Period    *history.Period
	Account   *account.Account // as it is today
	Questions []closing.Question
	// Adjustments are all of the period, by id, whatever became of them.
	Adjustments map[string]definition.AdjustmentSpec
	Frozen      *Frozen // nil: it is not
	Unfrozen    []db.UnfrozenRow
	Published   *db.ReportsAmongRow
	Owner       *Owner // nil: nobody
	Files       []db.CloseFilesRow

	answers []closing.Answer
}

// Frozen is an account that was frozen.
type Frozen struct {
	ID      int64
	By      string
	At      time.Time
	Content report.Content
	Inputs  []byte
	// Measurements is the digest of all measurements; empty: not all were kept.
	Measurements string
}

// Look reads the close of a period that is over. The error is a *definition.Fault of period
// where there is no such period, or it is not over.
func (d *Desk) Look(ctx context.Context, of Period) (*Close, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	a, p, err := d.Books.Account(ctx, of.Agreement, of.Name, d.Now())
	if err != nil {
		return nil, err
	}
	if !p.Bundle.Final() {
		return nil, definition.Faultf("period", "%s is not over; a close is of a finished period", p.Calendar.Words())
	}
	out := &Close{Snap: snap, Period: p, Account: a, Adjustments: map[string]definition.AdjustmentSpec{}}
	facts := closing.Facts{Account: a, Proposed: map[string]definition.AdjustmentSpec{}}
	if facts.Lost, err = p.Evidence.Lost(a.Clauses.Agreement, a); err != nil {
		return nil, err
	}
	for id, e := range snap.Adjustments {
		spec := e.Current().Spec
		if spec.Agreement != of.Agreement || spec.Period != of.Name {
			continue
		}
		out.Adjustments[id] = spec
		if spec.State == definition.Proposed {
			facts.Proposed[id] = spec
		}
	}
	for _, e := range snap.Edits(a.Service, p.Bundle.Span) {
		facts.Edits = append(facts.Edits, closing.Edit(e))
	}
	if facts.Incidents, err = d.incidents(ctx, a.Service, p.Bundle.Span); err != nil {
		return nil, err
	}
	if facts.Answers, err = answers(ctx, d.Store.Queries, of); err != nil {
		return nil, err
	}
	out.answers = facts.Answers
	more, err := d.beside(ctx, snap, map[span.Span][]string{p.Bundle.Span: {a.Service}})
	if err != nil {
		return nil, err
	}
	more.fill(&facts, of.Agreement, a.Service, p.Bundle.Span)
	if out.Owner, err = d.owner(ctx, of); err != nil {
		return nil, err
	}
	if out.Files, err = d.Store.CloseFiles(ctx, db.CloseFilesParams{Agreement: of.Agreement, Period: of.Name}); err != nil {
		return nil, err
	}
	out.Questions = closing.Questions(facts)
	if out.Frozen, err = FrozenOf(ctx, d.Store.Queries, of); err != nil {
		return nil, err
	}
	if out.Unfrozen, err = d.Store.Unfrozen(ctx, db.UnfrozenParams{Agreement: of.Agreement, Period: of.Name}); err != nil {
		return nil, err
	}
	published, err := d.Store.ReportsAmong(ctx, db.ReportsAmongParams{Agreements: []string{of.Agreement}, Periods: []string{of.Name}})
	if len(published) > 0 {
		out.Published = &published[0]
	}
	return out, err
}

// incidents are those of a service over a time.
func (d *Desk) incidents(ctx context.Context, service string, within span.Span) ([]closing.Review, error) {
	rows, err := d.Store.IncidentsOver(ctx, db.IncidentsOverParams{Services: []string{service}, UntilAt: within.To.Time(), FromAt: within.From.Time()})
	if err != nil {
		return nil, err
	}
	out := make([]closing.Review, len(rows))
	for i, r := range rows {
		out[i] = reviewOf(r)
	}
	return out, nil
}

func reviewOf(r db.IncidentsOverRow) closing.Review {
	out := closing.Review{ID: r.ID, Span: span.Span{From: span.Of(r.BeganAt), To: span.End}}
	if r.EndedAt != nil {
		out.Span.To = span.Of(*r.EndedAt)
	}
	for _, text := range []json.RawMessage{r.Review, r.CauseReview} { // its own first
		var review incident.Review
		if len(text) == 0 || json.Unmarshal(text, &review) != nil || out.Reviewed {
			continue
		}
		out.Reviewed, out.Cause = true, review.Cause
	}
	return out
}

func answers(ctx context.Context, q *db.Queries, of Period) ([]closing.Answer, error) {
	rows, err := q.CloseAnswers(ctx, db.CloseAnswersParams{Agreements: []string{of.Agreement}, Periods: []string{of.Name}})
	if err != nil {
		return nil, err
	}
	out := make([]closing.Answer, len(rows))
	for i, r := range rows {
		out[i] = closing.Answer{Key: r.Key, Cause: r.Cause, Text: r.Text, By: &definition.Signature{ID: r.Person, Name: r.Name, At: span.Of(r.At)}}
	}
	return out, nil
}

// FrozenOf is the frozen account of a period; nil where it is not frozen.
func FrozenOf(ctx context.Context, q *db.Queries, of Period) (*Frozen, error) {
	row, err := q.Frozen(ctx, db.FrozenParams{Agreement: of.Agreement, Period: of.Name})
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &Frozen{ID: row.ID, By: row.Name, At: row.FrozenAt, Inputs: row.Inputs}
	if row.Measurements != nil {
		out.Measurements = *row.Measurements
	}
	return out, json.Unmarshal(row.Content, &out.Content)
}

// Saying is what somebody answers to questions of a close.
type Saying struct {
	Keys  []string
	Cause string
	Text  string
	// Seen is when the answer was given that is changed, for one key; nil: there was none.
	Seen *time.Time
}

// Answer answers open questions, or changes an answer. The error is a *definition.Fault,
// ErrFrozen, or ErrMoved where somebody else answered meanwhile or it is not asked any more.
func (d *Desk) Answer(ctx context.Context, of Period, say Saying, by trail.By) error {
	if strings.TrimSpace(say.Text) == "" {
		return definition.Faultf("text", "is missing; say what is known of it, for whoever asks later")
	}
	c, err := d.Look(ctx, of)
	if err != nil {
		return err
	}
	asked := map[string]bool{}
	for _, q := range c.Questions {
		asked[q.Key] = q.Answerable()
	}
	for _, k := range say.Keys {
		if !asked[k] {
			return ErrMoved
		}
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		for _, k := range say.Keys {
			n, err := q.AnswerClose(ctx, db.AnswerCloseParams{Agreement: of.Agreement, Period: of.Name, Key: k, Cause: say.Cause, Text: say.Text,
				By: by.Person, At: d.Now().Truncate(time.Millisecond), Seen: say.Seen})
			if err != nil {
				return err
			}
			if n == 0 {
				return ErrMoved
			}
		}
		return d.told(ctx, tx, q, by, "answer close", of, map[string]any{"keys": say.Keys, "cause": say.Cause, "text": say.Text})
	})
}

// TakeBack takes an answer back that was given at an instant.
func (d *Desk) TakeBack(ctx context.Context, of Period, key string, seen time.Time, by trail.By) error {
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		n, err := q.TakeBackAnswer(ctx, db.TakeBackAnswerParams{Agreement: of.Agreement, Period: of.Name, Key: key, Seen: seen})
		if err != nil {
			return err
		}
		if n == 0 {
			return ErrMoved
		}
		return d.told(ctx, tx, q, by, "take answer back", of, map[string]any{"key": key})
	})
}

// unsettled locks a period against freezing, and refuses one that is frozen.
func (d *Desk) unsettled(ctx context.Context, tx pgx.Tx, q *db.Queries, of Period) error {
	if err := Lock(ctx, tx, of); err != nil {
		return err
	}
	names, err := q.FrozenPeriods(ctx, of.Agreement)
	if err != nil {
		return err
	}
	for _, name := range names {
		if name == of.Name {
			return ErrFrozen
		}
	}
	return nil
}

// Lock holds the close of a period for a transaction: what freezes, unfreezes or publishes it waits.
func Lock(ctx context.Context, tx pgx.Tx, of Period) error {
	_, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext($1))", "close "+of.Agreement+" "+of.Name)
	return err
}

func (d *Desk) told(ctx context.Context, tx pgx.Tx, q *db.Queries, by trail.By, action string, of Period, detail map[string]any) error {
	detail["period"] = of.Name
	if err := trail.Add(ctx, q, trail.Entry{By: by, Action: action, Subject: "agreement " + of.Agreement, Detail: detail}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.Event{Kind: store.OnReport, IDs: []string{of.Agreement}})
}

// Freeze fixes the account of a period with what it was made from, once every question is
// answered. seen is that of the account that by has looked at: ErrMoved is another by now.
func (d *Desk) Freeze(ctx context.Context, of Period, seen string, by trail.By) error {
	c, err := d.Look(ctx, of)
	if err != nil {
		return err
	}
	if c.Frozen != nil {
		return ErrFrozen
	}
	if _, left := closing.Left(c.Questions); left > 0 {
		return &OpenError{left}
	}
	if says, err := c.Seen(); err != nil || seen != says {
		return cmp.Or(err, ErrMoved)
	}
	content, err := report.New(report.SubjectOf(c.Snap, of.Agreement, of.Name, c.Account), c.Account)
	if err != nil {
		return err
	}
	if err := d.Shelf.Fill(ctx, c.Snap, c.Period, c.Account, &content, true); err != nil {
		return err
	}
	content.Explain(c.Questions)
	content.Frozen = &definition.Signature{ID: by.Person, Name: by.Name, At: span.Of(d.Now())}
	text, err := json.Marshal(content)
	if err != nil {
		return err
	}
	inputs, err := report.Freeze(c.Period)
	if err != nil {
		return err
	}
	measured, err := report.Measured(ctx, d.Store.Queries, c.Period, c.Account)
	if err != nil {
		return err
	}
	packed, err := seals.Pack(measured)
	if err != nil {
		return err
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockDefinitions(ctx); err != nil {
			return err
		}
		if m, err := q.DefinitionMark(ctx); err != nil || fmt.Sprint(m.Number) != c.Period.Mark {
			return cmp.Or(err, ErrMoved)
		}
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		// What was answered is answered still.
		if answers, err := answers(ctx, q, of); err != nil || !reflect.DeepEqual(answers, c.answers) {
			return cmp.Or(err, ErrMoved)
		}
		var digest *string
		if measured != nil {
			if err := packed.Keep(ctx, q); err != nil {
				return err
			}
			digest = &packed.Digest
		}
		if _, err := q.FreezePeriod(ctx, db.FreezePeriodParams{Agreement: of.Agreement, Period: of.Name, FrozenAt: d.Now(), FrozenBy: by.Person, Content: text, Inputs: inputs, Measurements: digest}); err != nil {
			return err
		}
		return d.told(ctx, tx, q, by, "freeze", of, map[string]any{})
	})
}

// Unfreeze lets the account of a period follow its measurements again: before it is published, or
// for a revision of the report.
func (d *Desk) Unfreeze(ctx context.Context, of Period, reason string, by trail.By) error {
	if strings.TrimSpace(reason) == "" {
		return definition.Faultf("reason", "is missing; say why, for it stays on record")
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := Lock(ctx, tx, of); err != nil {
			return err
		}
		now := d.Now()
		n, err := q.Unfreeze(ctx, db.UnfreezeParams{Agreement: of.Agreement, Period: of.Name, UnfrozenAt: &now, UnfrozenBy: &by.Person, Reason: reason})
		if err != nil {
			return err
		}
		if n == 0 {
			return ErrNotFrozen
		}
		return d.told(ctx, tx, q, by, "unfreeze", of, map[string]any{"reason": reason})
	})
}

// Seen tells what a close shows from what it shows once something of it has changed.
func (c *Close) Seen() (string, error) { return report.Seen(c.Account, c.Questions) }

// Differs says how a frozen account differs from today's; nil where it is not frozen.
func (c *Close) Differs() *closing.Difference {
	if c.Frozen == nil {
		return nil
	}
	d := closing.Differ(&c.Frozen.Content.Account, c.Account)
	return &d
}
