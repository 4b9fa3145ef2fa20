package incidents_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"kestite/agent/wire"
	"kestite/core/access"
	"kestite/core/measure"
	"kestite/server/servertest"
)

// What was of another service and showed the same at its onset is like it, with what that
// is and what helped then; what shows something else is not.
func TestLikeByItsEvidence(t *testing.T) {
	t.Parallel()
	h := newHarbour(t, 0)
	operator := servertest.As(t, h.srv, h.url, access.Operator)
	token := servertest.Agent(t, h.srv, "tolvik")
	ended := func(incident int64, hop string) {
		t.Helper()
		rows, err := h.srv.API.Store.Query(ctx, "SELECT id::text FROM trial WHERE incident = $1 AND moment = 'onset' AND spec ->> 'kind' = 'path'", incident)
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for rows.Next() {
			var id string
			if err := rows.Scan(&id); err != nil {
				t.Fatal(err)
			}
			ids = append(ids, id)
		}
		rows.Close()
		if len(ids) == 0 {
			t.Fatalf("no way was asked for at the onset of incident %d", incident)
		}
		body, err := json.Marshal(wire.Result{Outcome: measure.Failed, Findings: &measure.Findings{Trace: &measure.Trace{Hops: []measure.Hop{{TTL: 1, Addrs: []string{hop}, Sent: 3, Answered: 3}}}}})
		if err != nil {
			t.Fatal(err)
		}
		for _, id := range ids {
			for range 2 { // an agent that repeats itself adds nothing
				if a := servertest.AsAgent(t, h.url, token, wire.PathTrials+"/"+id, string(body)); a.Status != http.StatusOK {
					t.Fatalf("%s", a)
				}
			}
		}
	}
	open := func(service string) int64 {
		t.Helper()
		for _, i := range h.list(operator, "open=true&all=true") {
			if i.Subject == service {
				return i.ID
			}
		}
		t.Fatalf("%s has no open incident", service)
		return 0
	}
	h.up(40 * time.Minute)
	h.measured(3*time.Minute, measure.Failed, "quay")
	first := open("quay")
	ended(first, "198.18.0.7")
	h.measured(150*time.Second, measure.OK, "quay")
	operator.Must(http.MethodPut, fmt.Sprintf("/incidents/%d/review", first), map[string]any{"class": "network", "cause": "A fuse in the mast.", "action": "A second feed."}, nil)
	h.measured(time.Minute, measure.Failed, "tickets")
	second := open("tickets")
	type alike struct {
		ID     int64
		Why    string
		Review *struct{ Cause string }
	}
	like := func() []alike {
		t.Helper()
		var view struct{ Like []alike }
		operator.Must(http.MethodGet, fmt.Sprintf("/incidents/%d", second), nil, &view)
		return view.Like
	}
	if got := like(); len(got) != 0 {
		t.Errorf("before any evidence it is like %+v", got)
	}
	ended(second, "198.18.0.9")
	if got := like(); len(got) != 0 {
		t.Errorf("by another hop it is like %+v", got)
	}
	if _, err := h.srv.API.Store.Exec(ctx, "UPDATE trial SET done_at = NULL, result = NULL WHERE incident = $1", second); err != nil {
		t.Fatal(err)
	}
	ended(second, "198.18.0.7")
	got := like()
	if len(got) != 1 || got[0].ID != first || !strings.Contains(got[0].Why, "Then too the way ended at 198.18.0.7.") || got[0].Review == nil || got[0].Review.Cause != "A fuse in the mast." {
		t.Errorf("by the same hop it is like %+v", got)
	}
}
