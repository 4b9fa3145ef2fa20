package instrument_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// Two agents on one host that trace one target at the same time hear each
// other's answers; neither takes them for its own.
func TestNeighboursDoNotMixTheirTraces(t *testing.T) {
	sets := []*instrument.Set{instrument.NewSet(instrument.LocalPolicy()), instrument.NewSet(instrument.LocalPolicy())}
	sets[0].Flows, sets[1].Flows = "tolvik", "eskerby"
	for range 25 {
		var both sync.WaitGroup
		for _, s := range sets {
			both.Go(func() {
				r := s.Measure(context.Background(), instrument.Task{Kind: "path", Target: "127.88.7.6", Timeout: time.Second, Settings: definition.Settings{Path: &definition.PathSettings{Rounds: 5, SpacingMS: 10}}})
				if m := r.Measures("path"); r.Outcome != measure.OK || m["rtt_min_ms"] < 0 || m["loss_percent"] != 0 || m["hops"] != 1 {
					t.Errorf("%s %q: %v", r.Outcome, r.Detail, m)
				}
			})
		}
		both.Wait()
	}
	for _, s := range sets {
		s.Close()
	}
}
