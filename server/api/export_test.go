package api

import (
	"testing"
	"time"
)

// Streams are looked at more often than in earnest, so that tests wait less.
func init() { heartbeat = time.Second }

// SlowBodies lets bodies take less time than in earnest, while a test runs.
func SlowBodies(t *testing.T, grace time.Duration) {
	earnest := bodyGrace
	bodyGrace = grace
	t.Cleanup(func() { bodyGrace = earnest })
}
