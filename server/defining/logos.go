package defining

import (
	"context"
	"slices"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/store/gen/db"
)

// logosThere refuses specs that name logos which nobody uploaded: a report would show none.
func logosThere(ctx context.Context, q *db.Queries, steps []catalogue.Step) error {
	for i, s := range steps {
		with, is := s.Spec.(interface{ LogoDigests() []string })
		if !is {
			continue
		}
		named := with.LogoDigests()
		if len(named) == 0 {
			continue
		}
		known, err := q.KnownLogos(ctx, named)
		if err != nil {
			return err
		}
		for _, digest := range named {
			if !slices.Contains(known, digest) {
				return &catalogue.StepError{Index: i, Err: definition.Faultf("logo", "%.12s… is no logo that was uploaded; upload it first", digest)}
			}
		}
	}
	return nil
}
