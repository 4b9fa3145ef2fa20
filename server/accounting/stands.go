package accounting

import (
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"strconv"

	lru "github.com/hashicorp/golang-lru/v2"

	"kestite/core/account"
	"kestite/core/closing"
	"kestite/core/span"
	"kestite/server/store/gen/db"
)

// Stands is the account of a period that was published, or frozen and not published yet: it
// stands, whatever measurements and definitions say of the period today.
type Stands struct {
	Report  string       // of the latest published one; empty: it is frozen alone
	Number  int          // of that report
	At      span.Instant // when it was published or frozen
	Account *account.Account
}

// How says by what it stands.
func (s Stands) How() string {
	if s.Report != "" {
		return "published"
	}
	return "frozen"
}

// Differs says in words how the account of today is otherwise; nothing where it is not.
func (s Stands) Differs(today *account.Account) []string {
	if today == nil {
		return []string{"Today it cannot be accounted."}
	}
	return closing.Differ(s.Account, today).Words
}

// Of names a period of an agreement.
type Of struct{ Agreement, Period string }

// Kept reads what stands. What was published or frozen never changes, so that each is read
// once. It is safe for concurrent use.
type Kept struct {
	queries *db.Queries
	read    *lru.Cache[string, *account.Account]
}

// mostStanding is how many accounts that stand are remembered.
const mostStanding = 5_000

// NewKept returns a Kept that has read nothing yet.
func NewKept(q *db.Queries) *Kept {
	read, _ := lru.New[string, *account.Account](mostStanding) // its only error is a size below 1
	return &Kept{q, read}
}

// Among returns what stands of some periods.
func (k *Kept) Among(ctx context.Context, of []Of) (map[Of]Stands, error) {
	out := map[Of]Stands{}
	if len(of) == 0 {
		return out, nil
	}
	var agreements, periods []string
	for _, o := range of {
		agreements, periods = append(agreements, o.Agreement), append(periods, o.Period)
	}
	frozen, err := k.queries.FrozenKept(ctx, db.FrozenKeptParams{Agreements: agreements, Periods: periods})
	if err != nil {
		return nil, err
	}
	published, err := k.queries.PublishedKept(ctx, db.PublishedKeptParams{Agreements: agreements, Periods: periods})
	if err != nil {
		return nil, err
	}
	for _, r := range published {
		out[Of{r.Agreement, r.Period}] = Stands{Report: r.ID, Number: int(r.Number), At: span.Of(*r.PublishedAt)}
	}
	freezes := map[Of]int64{}
	for _, r := range frozen {
		if o := (Of{r.Agreement, r.Period}); out[o].Report == "" {
			out[o], freezes[o] = Stands{At: span.Of(r.FrozenAt)}, r.ID
		}
	}
	return out, k.fill(ctx, out, freezes)
}

// fill reads the accounts that were not read yet.
func (k *Kept) fill(ctx context.Context, out map[Of]Stands, freezes map[Of]int64) error {
	name := func(o Of) string {
		if id := out[o].Report; id != "" {
			return id
		}
		return strconv.FormatInt(freezes[o], 10)
	}
	have := map[string]*account.Account{}
	var reports []string
	var frozen []int64
	for o, s := range out {
		if a, is := k.read.Get(name(o)); is {
			have[name(o)] = a
		} else if s.Report != "" {
			reports = append(reports, s.Report)
		} else {
			frozen = append(frozen, freezes[o])
		}
	}
	keep := func(id string, text []byte) error {
		a := new(account.Account)
		if err := json.Unmarshal(text, a); err != nil {
			return fmt.Errorf("the account that stands as %s: %w", id, err)
		}
		if a.AvailabilityPercent != nil { // what is kept is what was shown
			a.Exact.Availability, _ = new(big.Rat).SetString(*a.AvailabilityPercent)
		}
		k.read.Add(id, a)
		have[id] = a
		return nil
	}
	if len(reports) > 0 {
		rows, err := k.queries.PublishedAccounts(ctx, reports)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if err := keep(r.ID, r.Account); err != nil {
				return err
			}
		}
	}
	if len(frozen) > 0 {
		rows, err := k.queries.FrozenAccounts(ctx, frozen)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if err := keep(strconv.FormatInt(r.ID, 10), r.Account); err != nil {
				return err
			}
		}
	}
	for o, s := range out {
		if s.Account = have[name(o)]; s.Account == nil {
			delete(out, o)
			continue
		}
		out[o] = s
	}
	return nil
}

// Stand puts what stands in the place of accounts made today: rows that have it say so.
func (k *Kept) Stand(ctx context.Context, rows []Row) ([]Row, error) {
	var of []Of
	for _, r := range rows {
		if r.Final() || r.Account == nil {
			of = append(of, Of{r.Agreement, r.Period.Name()})
		}
	}
	stand, err := k.Among(ctx, of)
	if err != nil {
		return nil, err
	}
	out := make([]Row, len(rows))
	for i, r := range rows {
		if s, is := stand[Of{r.Agreement, r.Period.Name()}]; is {
			r.Today, r.Account, r.Stands = r.Account, s.Account, &s
		}
		out[i] = r
	}
	return out, nil
}
