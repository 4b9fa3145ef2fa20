package api

import (
	"testing"
	"time"
)

// SlowBodies lets bodies take less time than in earnest, while a test runs.
func SlowBodies(t *testing.T, grace time.Duration) {
	earnest := bodyGrace
	bodyGrace = grace
	t.Cleanup(func() { bodyGrace = earnest })
}
