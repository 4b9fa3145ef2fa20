package instrument_test

import (
	"context"
	"crypto/tls"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

func set(t *testing.T) *instrument.Set {
	t.Helper()
	s := instrument.NewSet(instrument.LocalPolicy())
	t.Cleanup(s.Close)
	return s
}

func ping(target string, packets int) instrument.Task {
	return instrument.Task{Kind: "ping", Target: target, Timeout: 2 * time.Second, Settings: definition.Settings{Ping: &definition.PingSettings{Packets: packets, SizeBytes: 56, SpacingMS: 20}}}
}

func web(target string, timeout time.Duration, h definition.HTTPSettings) instrument.Task {
	return instrument.Task{Kind: "http", Target: target, Timeout: timeout, Settings: definition.Settings{HTTP: &h}}
}

func value(t *testing.T, kind measure.Kind, r instrument.Result, name string) float64 {
	t.Helper()
	i := kind.Index(name)
	if i < 0 || len(r.Values) <= i {
		t.Fatalf("no %s in %+v", name, r)
	}
	return r.Values[i]
}

func TestPingAnswers(t *testing.T) {
	s := set(t)
	for _, target := range []string{"127.0.0.1", "127.88.7.6", "::1", "localhost"} {
		r := s.Measure(context.Background(), ping(target, 4))
		if r.Outcome != measure.OK {
			t.Errorf("%s: %+v", target, r)
			continue
		}
		low, mean, high := value(t, measure.Ping, r, "rtt_min_ms"), value(t, measure.Ping, r, "rtt_mean_ms"), value(t, measure.Ping, r, "rtt_max_ms")
		if value(t, measure.Ping, r, "loss_percent") != 0 || !(0 < low && low <= mean && mean <= high) || math.IsNaN(value(t, measure.Ping, r, "jitter_ms")) {
			t.Errorf("%s: %v", target, r.Values)
		}
	}
}

// The operating system's own ping, in the same run, finds the same loss and
// about the same shortest round trip. On a busy machine both take turns until
// each has had a moment of quiet.
func TestPingAgreesWithTheSystems(t *testing.T) {
	summary := regexp.MustCompile(`rtt min/avg/max/mdev = ([0-9.]+)/`)
	ours, theirs := math.Inf(1), math.Inf(1)
	for range 10 {
		out, err := exec.Command("ping", "-n", "-c", "20", "-i", "0.02", "127.0.0.1").CombinedOutput()
		if err != nil {
			t.Fatalf("the system's ping: %v: %s", err, out)
		}
		m := summary.FindStringSubmatch(string(out))
		if m == nil || !strings.Contains(string(out), " 0% packet loss") {
			t.Fatalf("unexpected: %s", out)
		}
		least, _ := strconv.ParseFloat(m[1], 64)
		r := set(t).Measure(context.Background(), ping("127.0.0.1", 20))
		if value(t, measure.Ping, r, "loss_percent") != 0 {
			t.Fatalf("the system's ping lost nothing, and ours: %+v", r)
		}
		theirs, ours = min(theirs, least), min(ours, value(t, measure.Ping, r, "rtt_min_ms"))
		if math.Abs(ours-theirs) <= 0.2+0.1*theirs {
			return
		}
	}
	t.Errorf("shortest round trip %v ms, the system's %v ms", ours, theirs)
}

func TestPingWithoutAnswer(t *testing.T) {
	s := set(t)
	for target, want := range map[string]struct {
		outcome measure.Outcome
		says    string
	}{
		"nowhere.invalid": {measure.Failed, "does not resolve"},
		"169.254.169.254": {measure.Error, "policy forbids"},
	} {
		r := s.Measure(context.Background(), ping(target, 2))
		if target == "nowhere.invalid" && strings.Contains(r.Detail, "could not be looked up") {
			continue // a machine without any resolver cannot say that a name is not there
		}
		if r.Outcome != want.outcome || !strings.Contains(r.Detail, want.says) {
			t.Errorf("%s: %+v", target, r)
		}
	}
}

func TestLimitsMakeTheOutcome(t *testing.T) {
	limit := func(v float64) *float64 { return &v }
	task := ping("127.0.0.1", 2)
	task.Limits = []measure.Limit{{Measure: "rtt_mean_ms", DegradedAbove: limit(0)}}
	if r := set(t).Measure(context.Background(), task); r.Outcome != measure.Degraded || !strings.Contains(r.Detail, "Mean round trip") {
		t.Errorf("%+v", r)
	}
}

func TestHTTP(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "Next sailings") })
	mux.HandleFunc("/wrong", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no", http.StatusServiceUnavailable) })
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/", http.StatusFound) })
	mux.HandleFunc("/slow", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	mux.HandleFunc("/drip", func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			fmt.Fprint(w, ".")
			w.(http.Flusher).Flush()
			time.Sleep(20 * time.Millisecond)
		}
	})
	plain := httptest.NewServer(mux)
	defer plain.Close()
	untrusted := httptest.NewTLSServer(mux)
	defer untrusted.Close()
	gone := httptest.NewServer(mux)
	gone.Close()
	mute, err := net.Listen("tcp", "127.0.0.1:0") // connects and says nothing
	if err != nil {
		t.Fatal(err)
	}
	defer mute.Close()

	s := set(t)
	const patience, short = 10 * time.Second, 400 * time.Millisecond // short is only for what never answers
	for name, c := range map[string]struct {
		task    instrument.Task
		outcome measure.Outcome
		says    string
	}{
		"a good answer":          {web(plain.URL, patience, definition.HTTPSettings{Text: "sailings"}), measure.OK, ""},
		"a status not expected":  {web(plain.URL+"/wrong", patience, definition.HTTPSettings{}), measure.Failed, "status 503 is not in 200-399"},
		"a status expected":      {web(plain.URL+"/wrong", patience, definition.HTTPSettings{Status: "503"}), measure.OK, ""},
		"redirects stay":         {web(plain.URL+"/moved", patience, definition.HTTPSettings{Status: "302"}), measure.OK, ""},
		"text that is not there": {web(plain.URL, patience, definition.HTTPSettings{Text: "cancelled"}), measure.Failed, `the text "cancelled"`},
		"no answer":              {web(plain.URL+"/slow", short, definition.HTTPSettings{}), measure.Failed, "no complete answer within 400 ms (connected, request sent)"},
		"an answer without end":  {web(plain.URL+"/drip", short, definition.HTTPSettings{}), measure.Failed, "answer begun"},
		"nobody listens":         {web(gone.URL, patience, definition.HTTPSettings{}), measure.Failed, "connection refused"},
		"a mute listener":        {web("http://"+mute.Addr().String(), short, definition.HTTPSettings{}), measure.Failed, "no complete answer"},
		"TLS by nobody we trust": {web(untrusted.URL, patience, definition.HTTPSettings{}), measure.Failed, "certificate"},
		"a forbidden target":     {web("http://169.254.169.254/", patience, definition.HTTPSettings{}), measure.Error, "policy forbids"},
	} {
		r := s.Measure(context.Background(), c.task)
		if r.Outcome != c.outcome || !strings.Contains(r.Detail, c.says) {
			t.Errorf("%s: %s %q", name, r.Outcome, r.Detail)
		}
	}
	r := s.Measure(context.Background(), web(plain.URL, patience, definition.HTTPSettings{}))
	total, connect, first := value(t, measure.HTTP, r, "total_ms"), value(t, measure.HTTP, r, "connect_ms"), value(t, measure.HTTP, r, "first_byte_ms")
	if !(connect > 0 && first > 0 && connect+first <= total) || value(t, measure.HTTP, r, "status") != 200 || value(t, measure.HTTP, r, "size_bytes") != 13 {
		t.Errorf("values %v", r.Values)
	}
	if !math.IsNaN(value(t, measure.HTTP, r, "tls_ms")) {
		t.Error("a TLS phase without TLS")
	}
}

func TestHTTPMeasuresTheTLSPhase(t *testing.T) {
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("ok")) }))
	srv.TLS = &tls.Config{MinVersion: tls.VersionTLS12}
	srv.StartTLS()
	defer srv.Close()
	r := set(t).Measure(context.Background(), web(srv.URL, time.Second, definition.HTTPSettings{WaiveTrust: true}))
	if r.Outcome != measure.OK || !(value(t, measure.HTTP, r, "tls_ms") > 0) {
		t.Errorf("%+v", r)
	}
	// The system does not trust the test's certificate: TLS does not come up, and the
	// reason is given.
	r = set(t).Measure(context.Background(), web(srv.URL, time.Second, definition.HTTPSettings{}))
	if r.Outcome != measure.Failed || !math.IsNaN(value(t, measure.HTTP, r, "tls_ms")) || !strings.Contains(r.Detail, "not trusted") {
		t.Errorf("%+v", r)
	}
}
