package api_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"kestite/server/api"
)

// What is supposed is refused where it names nothing, or is too far ahead; what lies in
// the past begins now; and nothing of it is done.
func TestSuppositions(t *testing.T) {
	f := setUp(t)
	for query, says := range map[string]string{
		"services=nothing":                                     "names no service in force",
		"services=" + f.service + "&from=soon":                 "from",
		"services=" + f.service + "&from=2126-01-01T00:00:00Z": "400 days",
		"services=" + f.service + "&lasts_s=1":                 "lasts_s",
		"lasts_s=3600":                                         "services",
	} {
		if a := f.manager.Do(http.MethodGet, "/supposition?"+query, nil); a.Status != http.StatusUnprocessableEntity || !strings.Contains(string(a.Body), says) {
			t.Errorf("%s: %s", query, a)
		}
	}
	var s api.Supposition
	f.manager.Must(http.MethodGet, "/supposition?services="+f.service+"&from=2001-01-01T00:00:00Z&lasts_s=7200", nil, &s)
	if s.From.Time().Before(time.Now().Add(-time.Minute)) || s.To.Time().Sub(s.From.Time()) != 2*time.Hour {
		t.Errorf("what is supposed of the past is from %s to %s", s.From, s.To)
	}
	if len(s.Effects) != 1 || !s.Effects[0].First || s.Words == "" {
		t.Errorf("it does %+v: %s", s.Effects, s.Words)
	}
	var open struct{ Items []any }
	f.manager.Must(http.MethodGet, "/incidents?open=true", nil, &open)
	if len(open.Items) != 0 {
		t.Errorf("%d incidents were opened", len(open.Items))
	}
}
