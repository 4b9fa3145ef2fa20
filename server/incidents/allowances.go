package incidents

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/accounting"
	"kestite/server/store/gen/db"
)

// Low are the agreements whose allowance goes too fast, is low, or is used up, in their
// present periods. One that cannot be accounted is not among them; its row says why.
func Low(rows []accounting.Row, now span.Instant) []Trouble {
	var out []Trouble
	for _, r := range rows {
		if r.Account == nil || r.Account.Final || r.Account.BaseMS == 0 {
			continue
		}
		state, text := AllowanceOf(r.Account, r.Period).State(now)
		if state != verdict.Up {
			out = append(out, Trouble{r.Agreement, state, now, text})
		}
	}
	return out
}

// AllowanceOf is how the allowance of an account stands, over the part of its period that
// was promised.
func AllowanceOf(a *account.Account, p calendar.Period) incident.Allowance {
	return incident.Allowance{AllowanceMS: a.AllowanceMS, LeftMS: a.AllowanceLeftMS, PeriodMS: int64(p.Span().To - a.From), Down: downtimes(a)}
}

func downtimes(a *account.Account) span.Set {
	var out []span.Span
	for _, i := range a.Intervals {
		if i.Class == account.Down {
			out = append(out, span.Span{From: i.From, To: i.To})
		}
	}
	return span.Union(out...)
}

// Rows are all agreements as they stand now.
func (k *Keeper) Rows(ctx context.Context, snap *catalogue.Snapshot) ([]accounting.Row, error) {
	loc, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	now := span.Of(k.Now())
	return k.Board.Rows(ctx, snap, now, calendar.MonthAt(now, loc), catalogue.Live(snap.Agreements))
}

// Allowances opens and ends the incidents of agreements. One server at a time does it.
func (k *Keeper) Allowances(ctx context.Context) error {
	snap, err := k.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	rows, err := k.Rows(ctx, snap)
	if err != nil {
		return fmt.Errorf("account what allowances are left: %w", err)
	}
	return k.Store.Tx(ctx, func(tx pgx.Tx, _ *db.Queries) error {
		return k.seen(ctx, tx, snap, incident.Agreement, Low(rows, span.Of(k.Now())), nil)
	})
}
