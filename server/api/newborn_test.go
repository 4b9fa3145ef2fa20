package api_test

import (
	"context"
	"net/http"
	"slices"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/store/storetest"
)

// A service awaits its first measurement, and one that was never good is
// flagged without alarm, until it is good for the first time.
func TestServiceThatWasNeverGood(t *testing.T) {
	f := setUp(t)
	ctx := context.Background()
	at := span.Of(storetest.Now()).Add(5) // after the definitions
	judged := func() api.StateView {
		t.Helper()
		if err := f.srv.Judge.Services(ctx, []string{f.service}); err != nil {
			t.Fatal(err)
		}
		var out struct{ Items []api.StateView }
		f.manager.Must(http.MethodGet, "/states", nil, &out)
		return out.Items[0]
	}
	needs := func() []string {
		t.Helper()
		var out api.Standing
		f.manager.Must(http.MethodGet, "/standing", nil, &out)
		var kinds []string
		for _, n := range out.Needs {
			if n.Service == f.service {
				kinds = append(kinds, n.Kind+": "+n.Text)
			}
		}
		return kinds
	}
	deliver := func(outcome measure.Outcome) {
		t.Helper()
		for range 2 { // as many as it takes to believe it
			for _, l := range []string{"tolvik", "eskerby"} {
				list := []wire.Measurement{{Check: f.check, At: at, Outcome: outcome}}
				if r, err := f.srv.API.Ingest.Batch(ctx, l, "", list); err != nil || r.Stored != 1 {
					t.Fatal(r, err)
				}
			}
			at = at.Add(2)
		}
		time.Sleep(at.Time().Sub(storetest.Now()))
	}
	if v := judged(); !v.Awaiting || v.NeverGood || !slices.Equal(needs(), []string{"unmeasured: awaiting its first measurement"}) {
		t.Errorf("before the first measurement: %+v, %v", v, needs())
	}
	deliver(measure.Failed)
	if v := judged(); v.State != "down" || v.Awaiting || !v.NeverGood || !slices.Equal(needs(), []string{"never-good: was never good; is its target right?"}) {
		t.Errorf("failed from the start: %+v, %v", v, needs())
	}
	deliver(measure.OK)
	if v := judged(); v.State != "up" || v.NeverGood || len(needs()) != 0 {
		t.Errorf("good at last: %+v, %v", v, needs())
	}
	deliver(measure.Failed)
	if v := judged(); v.State != "down" || v.NeverGood || !slices.Equal(needs(), []string{"down: down"}) {
		t.Errorf("failed again: %+v, %v", v, needs())
	}
}
