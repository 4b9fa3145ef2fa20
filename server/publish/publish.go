// Package publish drafts reports and freezes them.
package publish

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/account"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/publication"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/server/closing"
	"kestite/server/defining"
	"kestite/server/history"
	"kestite/server/notifying"
	"kestite/server/report"
	"kestite/server/seals"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Desk is where reports are made.
type Desk struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Books       *history.Books
	Keys        *seals.Keys
	Shelf       *report.Shelf
	Notices     *notifying.Keeper
}

// ErrPublished is an attempt to change what is frozen.
var ErrPublished = errors.New("it is published already, and a published report is frozen; draft the next revision instead")

// ErrUnread is a draft that says something else than what was read of it.
var ErrUnread = errors.New("it says something else by now")

// ErrChanged is a draft that somebody changed while it was being published.
var ErrChanged = errors.New("its remark or what is defined was changed meanwhile; read it again and publish then")

// Draft makes a draft for a finished period, or returns the one that is open.
// The error is a *definition.Fault where agreement or period cannot be.
func (d *Desk) Draft(ctx context.Context, agreement, period, remark string, by trail.By, now time.Time) (string, error) {
	_, p, err := d.Books.Account(ctx, agreement, period, now)
	if errors.Is(err, catalogue.ErrNotFound) {
		return "", &definition.Fault{Path: "agreement", Message: "there is no agreement " + agreement}
	}
	if err != nil {
		return "", err
	}
	if !p.Bundle.Final() {
		return "", definition.Faultf("period", "%s is not over; a report is for a finished period", p.Calendar.Words())
	}
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	if promised, err := snap.Promises(agreement, p.Calendar); err != nil || !promised {
		return "", cmp.Or(err, definition.Faultf("period",
			"the agreement promises nothing in %s: it began after it, or had ended; there is nothing to report", p.Calendar.Words()))
	}
	var id string
	err = d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock(hashtext($1))", "report "+agreement+" "+period); err != nil {
			return err
		}
		open, err := q.OpenDraft(ctx, db.OpenDraftParams{Agreement: agreement, Period: period})
		if err == nil {
			id = open
			return nil
		}
		if !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		n, err := q.NextReportNumber(ctx, db.NextReportNumberParams{Agreement: agreement, Period: period})
		if err != nil {
			return err
		}
		if id, err = q.AddReport(ctx, db.AddReportParams{Agreement: agreement, Period: period, Number: n, MadeBy: by.Kept(),
			Remark: remark}); err != nil {
			return err
		}
		if err := d.askApproval(ctx, q, snap, agreement, period, id, by); err != nil {
			return err
		}
		return told(ctx, tx, q, by, "draft", agreement, period, id)
	})
	return id, err
}

// Source is what a draft is made from: an account that a close has frozen, or the
// measurements as they are now.
type Source struct {
	frozen *closing.Frozen // nil: period
	period *history.Period
}

// Inputs are those of the account, as a report keeps them; nothing of one that is published.
func (s Source) Inputs() ([]byte, error) {
	if s.frozen != nil {
		return s.frozen.Inputs, nil
	}
	if s.period == nil {
		return nil, nil
	}
	return report.Freeze(s.period)
}

// measured are all measurements that the account follows from; nil where not all were kept.
func (s Source) measured(ctx context.Context, q *db.Queries, a *account.Account) ([]byte, error) {
	if s.frozen == nil {
		return report.Measured(ctx, q, s.period, a)
	}
	if s.frozen.Measurements == "" {
		return nil, nil
	}
	packed, err := q.Blob(ctx, s.frozen.Measurements)
	if err != nil {
		return nil, err
	}
	return seals.Unpacked(packed)
}

// Content is what a report says: as published, as a close has frozen it, or made now for a
// draft, then with what it was made from.
func (d *Desk) Content(ctx context.Context, r db.Report, now time.Time) (report.Content, Source, error) {
	return d.content(ctx, r, now, false)
}

// content is Content; fresh: nothing of a draft is as it was a while ago.
func (d *Desk) content(ctx context.Context, r db.Report, now time.Time, fresh bool) (report.Content, Source, error) {
	var c report.Content
	if r.State == "published" {
		return c, Source{}, json.Unmarshal(r.Content, &c)
	}
	frozen, err := closing.FrozenOf(ctx, d.Store.Queries, closing.Period{Agreement: r.Agreement, Name: r.Period})
	if err != nil {
		return c, Source{}, err
	}
	if frozen != nil {
		c = frozen.Content
		c.Number, c.Remark = int(r.Number), r.Remark
		return c, Source{frozen: frozen}, nil
	}
	a, p, err := d.Books.Account(ctx, r.Agreement, r.Period, now)
	if err != nil {
		return c, Source{}, err
	}
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return c, Source{}, err
	}
	about := report.SubjectOf(snap, r.Agreement, r.Period, a)
	about.Number, about.Remark = int(r.Number), r.Remark
	if c, err = report.New(about, a); err != nil {
		return c, Source{}, err
	}
	return c, Source{period: p}, d.Shelf.Fill(ctx, snap, p, a, &c, fresh)
}

// same says whether what a draft was made from is still that which the draft would be
// made from: it is asked while definitions and the close are locked.
func (s Source) same(ctx context.Context, q *db.Queries, of closing.Period) error {
	frozen, err := closing.FrozenOf(ctx, q, of)
	if err != nil {
		return err
	}
	switch {
	case (frozen == nil) != (s.frozen == nil), frozen != nil && frozen.ID != s.frozen.ID:
		return ErrChanged
	case frozen != nil:
		return nil
	}
	if m, err := q.DefinitionMark(ctx); err != nil || strconv.FormatInt(m.Number, 10) != s.period.Mark {
		return cmp.Or(err, ErrChanged)
	}
	return nil
}

// Publish freezes a draft with its content, its inputs and its PDF. They are
// made first; a draft that was changed or published meanwhile is left alone. seen is
// that of the content that by has read, and ErrUnread is what else it says by now;
// empty: whatever it says.
func (d *Desk) Publish(ctx context.Context, id, seen string, by trail.By, now time.Time) error {
	return d.publish(ctx, id, seen, nil, by, now)
}

// publish is Publish; standing is who let a schedule do it at once, nil: people do.
func (d *Desk) publish(ctx context.Context, id, seen string, standing *definition.Signature, by trail.By, now time.Time) error {
	r, err := d.Store.Report(ctx, id)
	if err != nil {
		return err
	}
	if r.State == "published" {
		return ErrPublished
	}
	frozen, files, from, says, err := d.freeze(ctx, r, seen, standing, by.Kept(), now)
	if err != nil {
		return err
	}
	approval, err := d.NeedsApproval(ctx, r)
	if err != nil {
		return err
	}
	packed, err := seals.PackFiles(files)
	if err != nil {
		return err
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := q.LockDefinitions(ctx); err != nil {
			return err
		}
		of := closing.Period{Agreement: r.Agreement, Name: r.Period}
		if err := closing.Lock(ctx, tx, of); err != nil {
			return err
		}
		if err := from.same(ctx, q, of); err != nil {
			return err
		}
		locked, err := q.ReportForUpdate(ctx, id)
		if err != nil {
			return err
		}
		if locked.State == "published" {
			return ErrPublished
		}
		if locked.Remark != r.Remark {
			return ErrChanged
		}
		approved := approvalOf(locked)
		if standing != nil {
			approved = &publication.Approval{By: standing.ID, Seen: says}
		}
		if err := publication.Publishable(approval, approved, locked.MadeBy, by.Kept(), says); err != nil {
			return err
		}
		manifest, err := d.manifest(ctx, r, by, files, *frozen.PublishedAt)
		if err != nil {
			return err
		}
		sealed, err := d.Keys.Seal(ctx, tx, q, manifest, files, by)
		if err != nil {
			return err
		}
		frozen.Chain, frozen.Serial, frozen.Ledger, frozen.Entry = &sealed.Chain, &sealed.Serial, &sealed.Ledger, &sealed.Entry
		frozen.Manifest, frozen.Signature = sealed.Manifest, sealed.Signature
		if err := q.PublishReport(ctx, frozen); err != nil {
			return err
		}
		if err := seals.KeepFiles(ctx, q, r.ID, packed); err != nil {
			return err
		}
		if err := d.send(ctx, q, r, frozen, by, now); err != nil {
			return err
		}
		return told(ctx, tx, q, by, "publish", r.Agreement, r.Period, r.ID)
	})
}

// Remark changes the remark of a draft; of a published report it is ErrPublished. was is
// the remark that the change was made on; where another stands there by now, it is
// ErrUnread.
func (d *Desk) Remark(ctx context.Context, id, remark, was string, by trail.By) error {
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		r, err := q.ReportForUpdate(ctx, id)
		if err != nil {
			return err
		}
		if r.State == "draft" && r.Remark != was {
			return ErrUnread
		}
		if n, err := q.SetRemark(ctx, db.SetRemarkParams{ID: id, Remark: remark}); err != nil || n == 0 {
			return cmp.Or[error](err, ErrPublished)
		}
		err = trail.Add(ctx, q, trail.Entry{
			By: by, Action: "remark", Subject: "report " + id, Before: map[string]string{"remark": r.Remark},
			Detail: map[string]string{"remark": remark},
		})
		if err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnReport, IDs: []string{id}})
	})
}

// Drop throws a draft away; of a published report it is ErrPublished.
func (d *Desk) Drop(ctx context.Context, id string, by trail.By) error {
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		r, err := q.ReportForUpdate(ctx, id)
		if err != nil {
			return err
		}
		if n, err := q.DropDraft(ctx, id); err != nil || n == 0 {
			return cmp.Or[error](err, ErrPublished)
		}
		return told(ctx, tx, q, by, "drop", r.Agreement, r.Period, id)
	})
}

// freeze makes everything that publishing a draft stores, and says what it was made from.
func (d *Desk) freeze(ctx context.Context, r db.Report, seen string, standing *definition.Signature, by string, now time.Time) (out db.PublishReportParams, files map[string][]byte,
	from Source, says string, err error) {
	c, from, err := d.content(ctx, r, now, true)
	if err != nil {
		return out, nil, from, "", err
	}
	c.Standing = standing
	if says, err = report.Seen(c); err != nil || seen != "" && says != seen {
		return out, nil, from, says, cmp.Or(err, ErrUnread)
	}
	content, err := json.Marshal(c)
	if err != nil {
		return out, nil, from, says, err
	}
	var owed []byte
	if c.Credit != nil {
		if owed, err = json.Marshal(c.Credit); err != nil {
			return out, nil, from, says, err
		}
	}
	inputs, err := from.Inputs()
	if err != nil {
		return out, nil, from, says, err
	}
	measured, err := from.measured(ctx, d.Store.Queries, &c.Account)
	if err != nil {
		return out, nil, from, says, err
	}
	at := now.UTC().Truncate(time.Second)
	digest := report.Digest(content, inputs)
	logos, err := c.Logos(ctx, d.Store.Queries)
	if err != nil {
		return out, nil, from, says, err
	}
	document, err := report.PDF(c, at, digest, logos)
	if err != nil {
		return out, nil, from, says, err
	}
	files, err = report.Files(c, at, digest, content, document, inputs, measured, logos)
	return db.PublishReportParams{
		ID: r.ID, PublishedAt: &at, PublishedBy: &by, Content: content, Inputs: inputs, Document: document, Digest: &digest, Credit: owed,
	}, files, from, says, err
}

// manifest says whose report it is, and what it is made of.
func (d *Desk) manifest(ctx context.Context, r db.Report, by trail.By, files map[string][]byte, at time.Time) (seal.Manifest, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return seal.Manifest{}, err
	}
	period, err := snap.PeriodNamed(r.Agreement, r.Period)
	if err != nil {
		return seal.Manifest{}, err
	}
	spec := snap.Accounting(r.Agreement, period.Span().From).Spec
	m := seal.Manifest{Organisation: snap.Name, Customer: spec.Customer, CustomerName: snap.Whom(spec), Agreement: r.Agreement, Name: spec.Name, Period: r.Period,
		Report: int(r.Number), PublishedAt: span.Of(at), PublishedBy: by.Name, Evidence: seal.ByStretches}
	if files[seal.MeasurementsName] != nil {
		m.Evidence = seal.ByMeasurements
	}
	return m, nil
}

func told(ctx context.Context, tx pgx.Tx, q *db.Queries, by trail.By, action, agreement, period, id string) error {
	if err := trail.Add(ctx, q, trail.Entry{By: by, Action: action, Subject: "report " + id,
		Detail: map[string]string{"agreement": agreement, "period": period}}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.Event{Kind: store.OnReport, IDs: []string{id}})
}
