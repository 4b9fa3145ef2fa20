package definition

import (
	"fmt"
	"slices"
)

// MostWindow is the longest window of a rolling rule, s: within what is read
// around a period (docs/accounting.md §3).
const MostWindow = 86_400

// Rolling is how a check believes failures in place of confirm and recover:
// when so many runs failed, from so many locations, within a window of time.
type Rolling struct {
	Runs      int64 `json:"runs" required:"true" min:"1" minimum:"1" maximum:"10000" doc:"Failed runs within the window, of all locations together"`
	Locations int64 `json:"locations" required:"true" min:"1" minimum:"1" maximum:"1000" doc:"Locations that these must come from, at least"`
	WindowS   int64 `json:"window_s" required:"true" min:"1" minimum:"1" maximum:"86400"`
}

// String is the rule in words.
func (r Rolling) String() string {
	return fmt.Sprintf("%d runs failed from at least %d locations within %d s", r.Runs, r.Locations, r.WindowS)
}

// Fits says what is wrong with the rule for a check that runs every interval of
// so many seconds from the locations: a window that never holds enough runs
// would believe no failure at all.
func (r Rolling) Fits(intervalS int64, locations []string) error {
	places := slices.Clone(locations)
	slices.Sort(places)
	n := int64(len(slices.Compact(places)))
	each := r.WindowS / intervalS
	switch {
	case r.Runs < 1 || r.Locations < 1:
		return fault("rolling.runs", "%d failed runs from %d locations is no rule; both are at least 1", r.Runs, r.Locations)
	case r.WindowS > MostWindow:
		return fault("rolling.window_s", "%d s is longer than a day; take at most %d s", r.WindowS, MostWindow)
	case r.Locations > n:
		return fault("rolling.locations", "%d locations can never agree: the check measures from %d; name more locations or ask for fewer", r.Locations, n)
	case r.Locations > r.Runs:
		return fault("rolling.locations", "%d runs cannot come from %d locations; ask for at least %d runs", r.Runs, r.Locations, r.Locations)
	case each*n < r.Runs:
		return fault("rolling.window_s", "a window of %d s holds too few samples: %d s / %d s = %d a location, × %d locations = %d, and %d must fail; take at least %d s",
			r.WindowS, r.WindowS, intervalS, each, n, each*n, r.Runs, (r.Runs+n-1)/n*intervalS)
	}
	return nil
}
