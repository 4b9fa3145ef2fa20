package api_test

import (
	"net/http"
	"strings"
	"testing"

	"kestite/core/access"
	"kestite/server/api"
	"kestite/server/servertest"
)

// A list of outages is compared with an account in which nothing was measured: all of it
// differs; what cannot be read is told; a customer compares nothing here.
func TestTheirListIsCompared(t *testing.T) {
	f, id, month, from, _ := closeOf(t)
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	var got api.CounterView
	viewer.Must(http.MethodPost, "/agreements/"+id+"/counter", map[string]any{"period": month, "text": "from;to\n" + month + "-03 10:00;" + month + "-03 10:30;till\n" + month + "-03 10:20;" + month + "-03 10:40\nNaN;Inf"}, &got)
	if got.Listed != 2 || got.TheirsMS != 40*60_000 || got.OursMS != 0 || len(got.Differences) != 1 || got.Differences[0].Class != "unmeasured" || got.Differences[0].Text != "till" || len(got.Left) != 1 || got.Left[0].Line != 4 {
		t.Errorf("from %s: %+v", from, got)
	}
	post := func(text string) servertest.Answer {
		return viewer.Do(http.MethodPost, "/agreements/"+id+"/counter", map[string]any{"period": month, "text": text})
	}
	refused(t, "an empty list", post("from,to\n"), 422, "there is no outage in it")
	refused(t, "too many", post(strings.Repeat(month+"-03 10:00,"+month+"-03 10:30\n", 10_001)), 422, "10000 at most")
	refused(t, "a broken calendar", post("BEGIN:VCALENDAR\n\x00"), 422, "")
	refused(t, "no such period", viewer.Do(http.MethodPost, "/agreements/"+id+"/counter", map[string]any{"period": "2026-13", "text": "x"}), 422, "period")
	refused(t, "no such agreement", viewer.Do(http.MethodPost, "/agreements/nobody/counter", map[string]any{"period": month, "text": "x"}), 404, "")
}
