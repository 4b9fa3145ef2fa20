package closing

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/account"
	"kestite/core/catalogue"
	"kestite/core/closing"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/server/defining"
	"kestite/server/notifying"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// mostProposed is how many adjustments of one period may wait.
const mostProposed = 200

// Would is the account of a period as it is, and as it would be with an adjustment on top.
func (d *Desk) Would(ctx context.Context, a definition.AdjustmentSpec) (before, after *account.Account, err error) {
	before, p, err := d.Books.Account(ctx, a.Agreement, a.Period, d.Now())
	if err != nil {
		return nil, nil, err
	}
	if !p.Bundle.Final() {
		return nil, nil, definition.Faultf("period", "%s is not over; a close is of a finished period", p.Calendar.Words())
	}
	if err := closing.InPeriod(a, before); err != nil {
		return nil, nil, err
	}
	entry := a.Entry("proposed")
	entry.Approved = true
	after, err = p.Evidence.With(entry).Account(before.Clauses.Agreement)
	return before, after, err
}

// Propose asks a second person for an adjustment. The error is a *definition.Fault, or ErrFrozen.
func (d *Desk) Propose(ctx context.Context, a definition.AdjustmentSpec, by trail.By) (string, error) {
	a.State, a.Decider, a.Note = definition.Proposed, nil, ""
	a.Proposer = d.signature(by)
	if _, _, err := d.Would(ctx, a); err != nil {
		return "", err
	}
	of := Period{a.Agreement, a.Period}
	ch := defining.Change{By: by, Closing: true, Also: func(ctx context.Context, tx pgx.Tx, q *db.Queries, plan *catalogue.Plan) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		waiting := 0
		for _, e := range plan.After.Adjustments {
			if spec := e.Current().Spec; spec.Agreement == a.Agreement && spec.Period == a.Period && spec.State == definition.Proposed {
				waiting++
			}
		}
		if waiting > mostProposed {
			return definition.Faultf("period", "%d adjustments of it wait already, the most; decide on some first", waiting-1)
		}
		return d.say(ctx, q, plan.After, plan.IDs[0], a, by)
	}}
	ids, err := d.Definitions.Apply(ctx, ch, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Adjustment, Name: a.Agreement + " " + a.Period, Spec: a})
	if err != nil {
		return "", err
	}
	return ids[0], nil
}

// Decide approves, refuses or withdraws an adjustment. The error is an *access.Denied, a
// *definition.Fault, ErrFrozen, or a *catalogue.Conflict where somebody decided meanwhile.
func (d *Desk) Decide(ctx context.Context, id, state, note string, by trail.By, may access.Rights) error {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	e := snap.Adjustments[id]
	if e == nil {
		return catalogue.ErrNotFound
	}
	before := e.Current()
	if state != definition.Withdrawn {
		if err := may.Over(snap, access.Approve, snap.ServiceOf(before.Spec.Agreement)); err != nil {
			return err
		}
	}
	after, err := closing.Decide(before.Spec, state, note, d.signature(by))
	if err != nil {
		return err
	}
	of := Period{after.Agreement, after.Period}
	ch := defining.Change{By: by, Reason: note, Closing: true, Also: func(ctx context.Context, tx pgx.Tx, q *db.Queries, plan *catalogue.Plan) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		return d.say(ctx, q, plan.After, id, after, by)
	}}
	_, err = d.Definitions.Apply(ctx, ch, catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Adjustment, ID: id, Expected: before.Number, Spec: after})
	return err
}

func (d *Desk) signature(by trail.By) definition.Signature {
	return definition.Signature{ID: by.Person, Name: by.Name, At: span.Of(d.Now())}
}

// say tells those who may decide, or who proposed, in their inboxes.
func (d *Desk) say(ctx context.Context, q *db.Queries, snap *catalogue.Snapshot, id string, a definition.AdjustmentSpec, by trail.By) error {
	name := snap.Named(catalogue.Agreement, a.Agreement)
	link := fmt.Sprintf("\n\n%s/close/%s?period=%s", d.Notices.URL(), a.Agreement, a.Period)
	if a.State != definition.Proposed {
		if a.State == definition.Withdrawn {
			return nil
		}
		text := fmt.Sprintf("%s has %s it.", by.Name, a.State)
		if a.Note != "" {
			text += "\n" + a.Note
		}
		return d.Notices.Say(ctx, q, []string{a.Proposer.ID}, "adjustment/"+id+"/decided", fmt.Sprintf("Adjustment %s: %s", a.State, name), text+link)
	}
	to, err := notifying.WhoMay(ctx, q, by.Person, func(_ string, rights access.Rights) bool {
		return rights.Over(snap, access.Approve, snap.ServiceOf(a.Agreement)) == nil
	})
	if err != nil {
		return err
	}
	text := fmt.Sprintf("%s proposes that %s to %s counts as %s, and it waits for a second person.\n%s", by.Name, a.From, a.To, a.Class, a.Reason)
	return d.Notices.Say(ctx, q, to, "adjustment/"+id+"/proposed", "Approve an adjustment? "+name, text+link)
}
