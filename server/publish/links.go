package publish

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/seal"
	"kestite/server/auth"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Limits of links.
const (
	LinkDays  = 90  // for how long a link that a message has is good
	mostLinks = 200 // of one report
)

// ErrLink is a link that is not good: revoked, expired, or never made.
var ErrLink = errors.New("the link is not good any more")

// Link makes a link by which a published report can be read without an account, and returns
// its token, which is kept nowhere. The error is a *definition.Fault.
func (d *Desk) Link(ctx context.Context, r db.Report, whom string, days int, by trail.By, now time.Time) (token string, err error) {
	if r.State != "published" {
		return "", definition.Faultf("report", "it is a draft; publish it first")
	}
	err = d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if token, err = d.link(ctx, q, r.ID, whom, days, by, now); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "make link", Subject: "report " + r.ID, Detail: map[string]any{"whom": whom, "days": days}})
	})
	return token, err
}

func (d *Desk) link(ctx context.Context, q *db.Queries, id, whom string, days int, by trail.By, now time.Time) (string, error) {
	if n, err := q.CountReportLinks(ctx, id); err != nil || n >= mostLinks {
		return "", cmp.Or(err, definition.Faultf("whom", "it has %d links, the most", n))
	}
	token, hash := auth.NewToken("kesr_")
	_, err := q.AddReportLink(ctx, db.AddReportLinkParams{Hash: hash, Report: id, Whom: whom, MadeBy: by.Kept(), MadeAt: now, Until: now.AddDate(0, 0, days)})
	return token, err
}

// Revoke ends a link. Of one that is not there, or has ended, it is catalogue.ErrNotFound.
func (d *Desk) Revoke(ctx context.Context, r db.Report, link int64, by trail.By, now time.Time) error {
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		who := by.Kept()
		n, err := q.RevokeReportLink(ctx, db.RevokeReportLinkParams{ID: link, Report: r.ID, RevokedBy: &who, RevokedAt: &now})
		if err != nil || n == 0 {
			return cmp.Or(err, catalogue.ErrNotFound)
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "revoke link", Subject: "report " + r.ID, Detail: map[string]int64{"link": link}})
	})
}

// ByLink is the report that a token opens, and for whom the link was made; it writes down
// that it was opened: form says what is taken, source from which address. The error is ErrLink.
func (d *Desk) ByLink(ctx context.Context, token, form, source string, now time.Time) (r db.Report, whom string, err error) {
	if !strings.HasPrefix(token, "kesr_") {
		return r, "", ErrLink
	}
	l, err := d.Store.ReportByLink(ctx, db.ReportByLinkParams{Hash: auth.HashToken(token), Now: now})
	if errors.Is(err, pgx.ErrNoRows) {
		return r, "", ErrLink
	}
	if err != nil {
		return r, "", err
	}
	if err := d.Store.UseReportLink(ctx, db.UseReportLinkParams{Link: l.ID, HappenedAt: now, Form: form, Source: source}); err != nil {
		return r, "", err
	}
	r, err = d.Store.Report(ctx, l.Report)
	return r, l.Whom, err
}

// send sends a report that is being published to those whom its customer names, in the
// publishing transaction: a report is sent once, or was not published.
func (d *Desk) send(ctx context.Context, q *db.Queries, r db.Report, frozen db.PublishReportParams, by trail.By, now time.Time) error {
	if d.Notices == nil {
		return nil
	}
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	customer, err := customerOf(snap, r.Agreement, r.Period)
	if err != nil || customer == nil || len(customer.Tell) == 0 {
		return err
	}
	var c report.Content
	if err := json.Unmarshal(frozen.Content, &c); err != nil {
		return err
	}
	m, err := seal.Decode(frozen.Manifest)
	if err != nil {
		return err
	}
	token, err := d.link(ctx, q, r.ID, customer.Name, LinkDays, by, now)
	if err != nil {
		return err
	}
	subject := fmt.Sprintf("Report %d: %s, %s", m.Number, c.Name, report.PeriodWords(c.Period))
	text := fmt.Sprintf("%s\n\nRead it within %d days, and take it as PDF, page, workbook or evidence archive: %s/shared#%s\n\nIt is number %d of your reports. Keep its code, %s: with it nobody can tell another history of what was published up to it.",
		report.VerdictSentence(c), LinkDays, d.Notices.URL(), token, m.Number, m.Link(frozen.Manifest).Code())
	if r.Number > 1 {
		text = "It takes the place of an earlier report of the period.\n" + text
	}
	var attached *string
	if customer.Attach {
		attached = &r.ID
	}
	return d.Notices.SayTo(ctx, q, snap, customer.Tell, "report/"+r.ID+"/published", subject, text, attached)
}
