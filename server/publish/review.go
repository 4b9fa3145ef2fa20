package publish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/publication"
	"kestite/core/span"
	"kestite/server/notifying"
	"kestite/server/report"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// mostNotes is how much one person may say of one report.
const mostNotes = 200

// customerOf is to whom a report goes; nil where to nobody outside.
func customerOf(snap *catalogue.Snapshot, agreement, period string) (*definition.CustomerSpec, error) {
	p, err := snap.PeriodNamed(agreement, period)
	if err != nil {
		return nil, err
	}
	e := snap.Customers[snap.Accounting(agreement, p.Span().From).Spec.Customer]
	if e == nil {
		return nil, nil
	}
	spec := e.Current().Spec
	return &spec, nil
}

// NeedsApproval says whether a second person approves a report before it is published.
func (d *Desk) NeedsApproval(ctx context.Context, r db.Report) (bool, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return false, err
	}
	c, err := customerOf(snap, r.Agreement, r.Period)
	return c != nil && c.ReportApproval, err
}

func approvalOf(r db.Report) *publication.Approval {
	if r.ApprovedBy == nil || r.ApprovedSeen == nil {
		return nil
	}
	return &publication.Approval{By: *r.ApprovedBy, Seen: *r.ApprovedSeen}
}

// Approve says that a draft is right as it was read: what it says by seen. The error is an
// *access.Denied, a *definition.Fault, ErrUnread or ErrPublished.
func (d *Desk) Approve(ctx context.Context, id, seen string, by trail.By, may access.Rights, now time.Time) error {
	r, err := d.Store.Report(ctx, id)
	if err != nil {
		return err
	}
	if err := publication.Approves(r.MadeBy, by.Kept(), may); err != nil {
		return err
	}
	c, _, err := d.Content(ctx, r, now)
	if err != nil {
		return err
	}
	if says, err := report.Seen(c); err != nil || says != seen {
		return cmp.Or(err, ErrUnread)
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		who := by.Kept()
		if n, err := q.ApproveReport(ctx, db.ApproveReportParams{ID: id, ApprovedBy: &who, ApprovedAt: &now, ApprovedSeen: &seen}); err != nil || n == 0 {
			return cmp.Or[error](err, ErrPublished)
		}
		if err := d.say(ctx, q, []string{r.MadeBy}, "report/"+id+"/approved/"+seen, "Approved: "+d.title(ctx, r), by.Name+" has approved the draft.", id); err != nil {
			return err
		}
		return told(ctx, tx, q, by, "approve", r.Agreement, r.Period, id)
	})
}

// askApproval tells those who may approve a draft of it, where its customer wants that.
func (d *Desk) askApproval(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, agreement, period, id string, by trail.By) error {
	c, err := customerOf(snap, agreement, period)
	if err != nil || c == nil || !c.ReportApproval {
		return err
	}
	to, err := notifying.WhoMay(ctx, q, by.Person, func(_ string, may access.Rights) bool {
		return may.Over(snap, access.Approve, snap.ServiceOf(agreement)) == nil
	})
	if err != nil {
		return err
	}
	return d.say(ctx, q, to, "report/"+id+"/drafted", fmt.Sprintf("Approve a report? %s, %s", snap.Named(catalogue.Agreement, agreement), report.PeriodWords(period)),
		by.Name+" has drafted it, and a second person approves it before it is published.", id)
}

func (d *Desk) title(ctx context.Context, r db.Report) string {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return r.Agreement + ", " + report.PeriodWords(r.Period)
	}
	return snap.Named(catalogue.Agreement, r.Agreement) + ", " + report.PeriodWords(r.Period)
}

// say puts a message about a report into inboxes.
func (d *Desk) say(ctx context.Context, q *db.Queries, to []string, key, subject, text, id string) error {
	if d.Notices == nil {
		return nil
	}
	var people []string
	for _, p := range to {
		if len(p) == len("00000000-0000-0000-0000-000000000000") { // others are kept by name, such as the console
			people = append(people, p)
		}
	}
	return d.Notices.Say(ctx, q, people, key, subject, fmt.Sprintf("%s\n\n%s/reports/%s", text, d.Notices.URL(), id))
}

// Comment says something of a report among those who make it.
func (d *Desk) Comment(ctx context.Context, id, text string, by trail.By, now time.Time) (int64, error) {
	return d.note(ctx, db.AddReportNoteParams{Report: id, Kind: "comment", Text: text, MadeBy: by.Kept(), MadeAt: now}, by, nil)
}

// Object objects to a line of a published report. The error is a *definition.Fault where
// it cannot be, or is too late.
func (d *Desk) Object(ctx context.Context, r db.Report, about, text string, by trail.By, now time.Time) (int64, error) {
	if r.State != "published" {
		return 0, definition.Faultf("report", "it is a draft; say it in a comment")
	}
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	days := 0
	if c, err := customerOf(snap, r.Agreement, r.Period); err != nil {
		return 0, err
	} else if c != nil {
		days = c.ObjectionDays
	}
	if err := publication.Objects(text, span.Of(*r.PublishedAt), span.Of(now), days); err != nil {
		return 0, err
	}
	row := db.AddReportNoteParams{Report: r.ID, Kind: "objection", About: about, Text: text, MadeBy: by.Kept(), MadeAt: now, State: string(publication.Open)}
	return d.note(ctx, row, by, func(q *db.Queries, id int64) error {
		to, err := notifying.WhoMay(ctx, q, by.Person, func(_ string, may access.Rights) bool {
			return may.Over(snap, access.Publish, snap.ServiceOf(r.Agreement)) == nil
		})
		if err != nil {
			return err
		}
		return d.say(ctx, q, to, fmt.Sprintf("objection/%d", id), "An objection: "+d.title(ctx, r), by.Name+" objects: "+text, r.ID)
	})
}

func (d *Desk) note(ctx context.Context, row db.AddReportNoteParams, by trail.By, also func(*db.Queries, int64) error) (id int64, err error) {
	err = d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		r, err := q.ReportForUpdate(ctx, row.Report)
		if err != nil {
			return err
		}
		n, err := q.CountReportNotes(ctx, db.CountReportNotesParams{Report: row.Report, MadeBy: row.MadeBy})
		if err != nil {
			return err
		}
		if n >= mostNotes {
			return definition.Faultf("text", "you have said %d things of it, the most; talk to each other", n)
		}
		if id, err = q.AddReportNote(ctx, row); err != nil {
			return err
		}
		if also != nil {
			if err := also(q, id); err != nil {
				return err
			}
		}
		return told(ctx, tx, q, by, map[string]string{"comment": "comment", "objection": "object"}[row.Kind], r.Agreement, r.Period, r.ID)
	})
	return id, err
}

// End ends an objection: the report stands, a revision is drafted, or who objected takes
// it back. It returns the draft of the revision. The error is a *definition.Fault, or
// catalogue.ErrNotFound.
func (d *Desk) End(ctx context.Context, r db.Report, note int64, to publication.State, answer string, by trail.By, now time.Time) (revision string, err error) {
	if to == publication.Revised {
		notes, err := d.Store.ReportNotes(ctx, r.ID)
		if err != nil {
			return "", err
		}
		at := slices.IndexFunc(notes, func(n db.ReportNotesRow) bool { return n.ID == note && n.Kind == "objection" })
		if at < 0 {
			return "", catalogue.ErrNotFound
		}
		if err := publication.Ends(publication.State(notes[at].State), to, answer); err != nil {
			return "", err
		}
		if revision, err = d.Draft(ctx, r.Agreement, r.Period, "", by, now); err != nil {
			return "", err
		}
	}
	err = d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		n, err := q.ReportNoteForUpdate(ctx, db.ReportNoteForUpdateParams{ID: note, Report: r.ID})
		if errors.Is(err, pgx.ErrNoRows) || err == nil && n.Kind != "objection" {
			return catalogue.ErrNotFound
		}
		if err != nil {
			return err
		}
		if to == publication.Withdrawn && n.MadeBy != by.Kept() {
			return definition.Faultf("state", "only who objected takes it back; answer it")
		}
		if err := publication.Ends(publication.State(n.State), to, answer); err != nil {
			return err
		}
		who := by.Kept()
		end := db.EndObjectionParams{ID: note, State: string(to), Answer: answer, AnsweredBy: &who, AnsweredAt: &now}
		if revision != "" {
			end.Revision = &revision
		}
		if err := q.EndObjection(ctx, end); err != nil {
			return err
		}
		words := map[publication.State]string{publication.Stands: "The report stands as it is.", publication.Revised: "The report is revised."}[to]
		if words != "" {
			if err := d.say(ctx, q, []string{n.MadeBy}, fmt.Sprintf("objection/%d/answered", note), "Your objection: "+d.title(ctx, r), words+"\n"+answer, r.ID); err != nil {
				return err
			}
		}
		if err := trail.Add(ctx, q, trail.Entry{By: by, Action: "answer objection", Subject: "report " + r.ID, Detail: map[string]string{"state": string(to), "answer": answer}}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnReport, IDs: []string{r.ID}})
	})
	return revision, err
}
