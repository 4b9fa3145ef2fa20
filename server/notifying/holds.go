package notifying

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/server/store"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// MostHold is how long notices are held at most.
const MostHold = 7 * 24 * time.Hour

// NewHold stops the notices of a check, or of a service and its checks, until an instant.
type NewHold struct {
	About, ID, Reason string
	Until             time.Time
}

// Hold stops notices by a person's decision. The error is a *definition.Fault where it is
// theirs who asked.
func (k *Keeper) Hold(ctx context.Context, by trail.By, h NewHold) (id int64, err error) {
	now := k.Now()
	reason := strings.TrimSpace(h.Reason)
	switch {
	case reason == "":
		return 0, definition.Faultf("reason", "is missing; say why nobody is to be told")
	case !h.Until.After(now):
		return 0, definition.Faultf("until", "has passed; give a time to come")
	case h.Until.Sub(now) > MostHold:
		return 0, definition.Faultf("until", "is more than 7 days ahead; give an earlier time")
	}
	if err := definition.Named("reason", reason); err != nil {
		return 0, err
	}
	err = k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if id, err = q.AddHold(ctx, db.AddHoldParams{About: h.About, Subject: h.ID, Reason: reason, By: by.Kept(), FromAt: now, UntilAt: h.Until}); err != nil {
			return err
		}
		if err := trail.Add(ctx, q, trail.Entry{By: by, Action: "hold", Subject: h.About + " " + h.ID,
			Detail: map[string]any{"until": h.Until.UTC().Format(time.RFC3339), "reason": reason}}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnDefinition, IDs: []string{fmt.Sprintf("hold %d", id)}})
	})
	return id, err
}

// EndHold lets notices go on before the time of a hold is over.
func (k *Keeper) EndHold(ctx context.Context, by trail.By, id int64) error {
	return k.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		h, err := q.Hold(ctx, id)
		if errors.Is(err, pgx.ErrNoRows) {
			return catalogue.ErrNotFound
		}
		if err != nil {
			return err
		}
		now := k.Now()
		n, err := q.EndHold(ctx, db.EndHoldParams{ID: id, EndedAt: &now, EndedBy: by.Kept()})
		if err != nil {
			return err
		}
		if n == 0 {
			return &incident.Conflict{Why: "It has ended already."}
		}
		if err := trail.Add(ctx, q, trail.Entry{By: by, Action: "end hold", Subject: h.About + " " + h.Subject}); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.Event{Kind: store.OnDefinition, IDs: []string{fmt.Sprintf("hold %d", id)}})
	})
}
