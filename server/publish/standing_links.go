package publish

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/auth"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// standingToken is how tokens begin that open a customer's Standing.
const standingToken = "kess_"

// StandingLink makes a link by which it can be read, without an account, how what was
// promised to a customer stands, and returns its token, which is kept nowhere. The error is a
// *definition.Fault, or catalogue.ErrNotFound.
func (d *Desk) StandingLink(ctx context.Context, customer, whom string, days int, by trail.By, now time.Time) (token string, err error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	if e := snap.Customers[customer]; e == nil || e.Retired {
		return "", catalogue.ErrNotFound
	}
	err = d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		list, err := q.StandingLinks(ctx, customer)
		if err != nil || len(list) >= mostLinks {
			return cmp.Or(err, definition.Faultf("whom", "the customer has %d links, the most", len(list)))
		}
		var hash []byte
		token, hash = auth.NewToken(standingToken)
		if err := q.AddStandingLink(ctx, db.AddStandingLinkParams{Hash: hash, Customer: customer, Whom: whom, MadeBy: by.Kept(), MadeAt: now, Until: now.AddDate(0, 0, days)}); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "make link", Subject: "customer " + customer, Detail: map[string]any{"whom": whom, "days": days}})
	})
	return token, err
}

// RevokeStanding ends a link to a customer's Standing. Of one that is not there, or has
// ended, it is catalogue.ErrNotFound.
func (d *Desk) RevokeStanding(ctx context.Context, customer string, link int64, by trail.By, now time.Time) error {
	return d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		who := by.Kept()
		n, err := q.RevokeStandingLink(ctx, db.RevokeStandingLinkParams{ID: link, Customer: customer, RevokedBy: &who, RevokedAt: &now})
		if err != nil || n == 0 {
			return cmp.Or(err, catalogue.ErrNotFound)
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "revoke link", Subject: "customer " + customer, Detail: map[string]int64{"link": link}})
	})
}

// CustomerByLink is whose Standing a token opens, and writes down that it did. The error is
// ErrLink.
func (d *Desk) CustomerByLink(ctx context.Context, token, source string, now time.Time) (string, error) {
	if !strings.HasPrefix(token, standingToken) {
		return "", ErrLink
	}
	l, err := d.Store.CustomerByLink(ctx, db.CustomerByLinkParams{Hash: auth.HashToken(token), Now: now})
	if errors.Is(err, pgx.ErrNoRows) {
		return "", ErrLink
	}
	if err != nil {
		return "", err
	}
	return l.Customer, d.Store.UseReportLink(ctx, db.UseReportLinkParams{Link: l.ID, HappenedAt: now, Form: "standing", Source: source})
}
