package definition

// Bounds that hold at every door, from docs/accounting.md §2.
const (
	// MostWindowS is the longest window, s: 31 days.
	MostWindowS = 31 * 86_400
	// MostStartsADay is how often a window may start in a day.
	MostStartsADay = 24
	// MostClauseS bounds lead, linger and the shortest outage that counts, s: a day.
	MostClauseS = 86_400
)
