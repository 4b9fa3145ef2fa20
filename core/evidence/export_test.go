package evidence

import "testing"

// SetMostSorted changes how many rows are sorted at once, for one test.
func SetMostSorted(t testing.TB, n int64) {
	old := mostSorted
	mostSorted = n
	t.Cleanup(func() { mostSorted = old })
}
