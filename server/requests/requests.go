// Package requests keeps planned work that waits for a second person: it becomes a
// window, and counts as announced, once somebody else has approved it.
package requests

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/notifying"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Desk is safe for concurrent use, and any number of servers may have one.
type Desk struct {
	Store       *store.Store
	Definitions *defining.Definitions
	Notices     *notifying.Keeper
	Now         func() time.Time
}

// States of a request.
const (
	Open      = "open"
	Approved  = "approved"
	Refused   = "refused"
	Withdrawn = "withdrawn"
)

// mostOpen is how many requests of one person may be open.
const mostOpen = 100

// ErrDecided is a decision on what was decided before.
var ErrDecided = errors.New("it was decided meanwhile; look at it again")

// ErrUnreadable is a request whose window cannot be read.
var ErrUnreadable = errors.New("what it asks for cannot be read")

// Step is the change that a request asks for.
func Step(r db.WorkRequestRow) (catalogue.Step, error) {
	var spec definition.WindowSpec
	if err := json.Unmarshal(r.Spec, &spec); err != nil {
		return catalogue.Step{}, fmt.Errorf("request %d: %w: %w", r.ID, ErrUnreadable, err)
	}
	step := catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window, Spec: spec, Reason: r.Reason}
	if r.Revision > 0 {
		step.Does, step.ID, step.Expected = catalogue.Rewrite, r.Work, int(r.Revision)
	}
	return step, nil
}

// Ask keeps a step that plans work until a second person decides. It is looked at as if
// it were made now: what could not be done cannot be asked for either.
func (d *Desk) Ask(ctx context.Context, ch defining.Change, step catalogue.Step) (int64, error) {
	ch.Approved = true
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return 0, err
	}
	if _, err := d.Definitions.Preview(ctx, ch, func(*catalogue.Snapshot) ([]catalogue.Step, error) { return []catalogue.Step{step}, nil }); err != nil {
		return 0, err
	}
	spec, _ := step.Spec.(definition.WindowSpec)
	asks, err := snap.Unapproved(step.ID, spec, span.Of(d.Now()))
	if err != nil {
		return 0, err
	}
	if asks == nil {
		return 0, definition.Faultf("services", "none of them asks a second person; plan it right away")
	}
	body, err := json.Marshal(spec)
	if err != nil {
		return 0, err
	}
	var id int64
	err = d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		n, err := q.CountOpenWorkRequests(ctx, ch.By.Person)
		if err != nil {
			return err
		}
		if n >= mostOpen {
			return definition.Faultf("reason", "%d requests of yours are open, the most; withdraw some first", n)
		}
		row := db.AddWorkRequestParams{Work: step.ID, Revision: int32(step.Expected), Spec: body, Reason: ch.Reason, By: ch.By.Person, AskedAt: d.Now()}
		if id, err = q.AddWorkRequest(ctx, row); err != nil {
			return err
		}
		if err := trail.Add(ctx, q, trail.Entry{By: ch.By, Action: "ask for work", Subject: fmt.Sprintf("work-request %d", id), Detail: spec}); err != nil {
			return err
		}
		asked := db.WorkRequestRow{By: ch.By.Person}
		to, err := notifying.WhoMay(ctx, q, ch.By.Person, func(person string, rights access.Rights) bool {
			return may(snap, asked, spec, Decision{By: trail.By{Person: person}, May: rights}) == nil
		})
		if err != nil {
			return err
		}
		text := fmt.Sprintf("%s asks for it, and it waits for a second person.", ch.By.Name)
		if ch.Reason != "" {
			text += "\n" + ch.Reason
		}
		return d.say(ctx, tx, q, to, fmt.Sprintf("work-request/%d/asked", id), "Approve planned work? "+spec.Name, text, id)
	})
	return id, err
}

// say puts a message about a request into the inboxes of some people.
func (d *Desk) say(ctx context.Context, tx pgx.Tx, q *db.Queries, to []string, key, subject, text string, id int64) error {
	if err := store.Notify(ctx, tx, store.Event{Kind: store.OnDefinition, IDs: []string{fmt.Sprintf("work-request %d", id)}}); err != nil {
		return err
	}
	return d.Notices.Say(ctx, q, to, key, subject, text+fmt.Sprintf("\n\n%s/calendar?request=%d", d.Notices.URL(), id))
}

// Decision is what somebody decides on a request.
type Decision struct {
	By    trail.By
	May   access.Rights
	State string // Approved, Refused or Withdrawn
	Note  string
}

// Decide approves, refuses or withdraws a request. What is approved is planned, and counts
// as announced, from now on, by who approved it. The error is an *access.Denied where it
// is not theirs to decide, ErrDecided where somebody did, a *catalogue.Conflict where
// the window was edited since.
func (d *Desk) Decide(ctx context.Context, id int64, by Decision) error {
	row, err := d.Store.WorkRequest(ctx, id)
	if err != nil {
		return err
	}
	step, err := Step(row)
	if err != nil && by.State == Approved {
		return err
	}
	spec, _ := step.Spec.(definition.WindowSpec)
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	if err := may(snap, row, spec, by); err != nil {
		return err
	}
	if by.State == Refused && by.Note == "" {
		return definition.Faultf("note", "is missing; say why, so that they can ask for something else")
	}
	if by.State == Approved {
		reason := fmt.Sprintf("asked for by %s", row.AskedBy)
		if row.Reason != "" {
			reason = row.Reason + " (" + reason + ")"
		}
		step.Reason = ""
		ch := defining.Change{By: by.By, Reason: reason, Approved: true,
			May: func(_, _ *catalogue.Snapshot, w catalogue.Write) error {
				return notifying.Unknown(ctx, d.Store.Queries, w.Spec)
			},
			Also: func(ctx context.Context, tx pgx.Tx, q *db.Queries, plan *catalogue.Plan) error {
				return d.decided(ctx, tx, q, row, spec, by, plan.IDs[0])
			}}
		_, err := d.Definitions.Apply(ctx, ch, step)
		return err
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error { return d.decided(ctx, tx, q, row, spec, by, row.Work) })
}

// may refuses a decision that is not somebody's to make.
func may(snap *catalogue.Snapshot, row db.WorkRequestRow, spec definition.WindowSpec, by Decision) error {
	if by.State == Withdrawn {
		if by.By.Person != row.By {
			return &access.Denied{Why: row.AskedBy + " asked for it, and alone can withdraw it; refuse it, and say why."}
		}
		return nil
	}
	if by.By.Person == row.By {
		return &access.Denied{Why: "You asked for it: somebody else has to decide. You can withdraw it."}
	}
	for _, service := range spec.Services {
		if err := by.May.Over(snap, access.Approve, service); err != nil {
			return err
		}
	}
	return nil
}

// decided notes a decision, once, and tells who asked.
func (d *Desk) decided(ctx context.Context, tx pgx.Tx, q *db.Queries, row db.WorkRequestRow, spec definition.WindowSpec, by Decision, work string) error {
	now := d.Now()
	n, err := q.DecideWorkRequest(ctx, db.DecideWorkRequestParams{ID: row.ID, State: by.State, DecidedBy: &by.By.Person, DecidedAt: &now, Note: by.Note, Work: work})
	if err != nil {
		return err
	}
	if n == 0 {
		return ErrDecided
	}
	did := map[string]string{Approved: "approve work", Refused: "refuse work", Withdrawn: "withdraw work"}[by.State]
	if err := trail.Add(ctx, q, trail.Entry{By: by.By, Action: did, Subject: fmt.Sprintf("work-request %d", row.ID), Detail: map[string]string{"note": by.Note, "work": work}}); err != nil {
		return err
	}
	to := []string{row.By}
	if by.State == Withdrawn {
		to = nil
	}
	text := by.By.Name + " has approved it: it is planned, and announced from now on."
	if by.State == Refused {
		text = by.By.Name + " has refused it: " + by.Note
	} else if by.Note != "" {
		text += "\n" + by.Note
	}
	return d.say(ctx, tx, q, to, fmt.Sprintf("work-request/%d/decided", row.ID), map[string]string{Approved: "Approved: ", Refused: "Refused: "}[by.State]+spec.Name, text, row.ID)
}
