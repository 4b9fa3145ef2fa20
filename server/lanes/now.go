package lanes

import (
	"context"

	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/server/store/gen/db"
)

// Now are the states of the lanes of checks at an instant, by check and location. A
// lane whose state cannot be read is unmeasured; the judge says of it why.
func Now(ctx context.Context, q *db.Queries, checks []string, now span.Instant) (map[string]map[string]Present, error) {
	rows, err := q.LanesOfChecks(ctx, checks)
	if err != nil {
		return nil, err
	}
	out := map[string]map[string]Present{}
	for _, r := range rows {
		kept, err := Of(r)
		if err != nil {
			kept = Kept{}
		}
		if out[r.CheckID] == nil {
			out[r.CheckID] = map[string]Present{}
		}
		out[r.CheckID][r.Location] = kept.Present(now)
	}
	return out, nil
}

// Judged is what the quorum of a check makes of the states of its lanes, by location.
func Judged(c definition.Check, seen map[string]Present) verdict.State {
	return verdict.Judged(c, func(location string) span.Timeline[verdict.Views] {
		return span.Constant(verdict.Same(seen[location].State))
	}).At(0)[verdict.Nominal]
}
