package verdict

import "kestite/core/definition"

// revisionsFor makes a check of one revision with the settings.
func revisionsFor(set Settings) Revisions {
	return Revisions{definition.Check{
		ID: "c", Kind: "http", IntervalS: 1, StaleAfterS: set.StaleAfter / 1000, Confirm: set.Confirm, Recover: set.Recover,
		Quorum: "any", Role: definition.Decides, Locations: []string{"l"},
	}}
}
