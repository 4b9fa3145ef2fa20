package instrument_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// ticketOffice answers in many ways.
func ticketOffice(t *testing.T) *httptest.Server {
	mux := http.NewServeMux()
	mux.HandleFunc("/echo", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%s %s host=%s desk=%s auth=%q", r.Method, body, r.Host, r.Header.Get("X-Desk"), r.Header.Get("Authorization"))
	})
	mux.HandleFunc("/bookings", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"bookings":{"last_hour":4,"open":true,"text":"7.5","grouped":"1_000","hex":"0x1p3","name":"Eider","none":null,"most":1e999},"sailings":[1,2]}`)
	})
	mux.HandleFunc("/marked", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "\xEF\xBB\xBF{\"a\": 3, \"b\": -1e400}\n") })
	mux.HandleFunc("/two", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"a": 3} {"a": 4}`) })
	mux.HandleFunc("/half", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"a": 3`) })
	mux.HandleFunc("/deep", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, strings.Repeat("[", 20_000)) })
	mux.HandleFunc("/locked", func(w http.ResponseWriter, r *http.Request) {
		_, basic, _ := r.BasicAuth()
		for _, given := range []string{basic, strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "), r.Header.Get("X-Api-Key")} {
			if given == "herring" {
				fmt.Fprint(w, "welcome")
				return
			}
		}
		w.Header().Set("X-Seen", r.Header.Get("X-Api-Key"))
		w.Header().Set("Set-Cookie", "session=secret")
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprintf(w, "no entry with %s%s", r.Header.Get("Authorization"), r.Header.Get("X-Api-Key"))
	})
	mux.HandleFunc("/old", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/older", http.StatusFound) })
	mux.HandleFunc("/older", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/bookings", http.StatusMovedPermanently)
	})
	mux.HandleFunc("/post", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/echo", http.StatusSeeOther) })
	mux.HandleFunc("/again", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/echo", http.StatusTemporaryRedirect)
	})
	mux.HandleFunc("/circle", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/circle", http.StatusFound) })
	mux.HandleFunc("/slow", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "one")
		w.(http.Flusher).Flush()
		time.Sleep(150 * time.Millisecond)
		fmt.Fprint(w, "two")
	})
	server := httptest.NewUnstartedServer(mux)
	server.EnableHTTP2 = true
	server.StartTLS()
	t.Cleanup(server.Close)
	return server
}

func TestHTTPAsksAndRates(t *testing.T) {
	server := ticketOffice(t)
	s := instrument.NewSet(instrument.LocalPolicy())
	s.Roots = server.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs
	host := strings.TrimPrefix(server.URL, "https://")
	secret := func(kind, value string) *instrument.Secret {
		return &instrument.Secret{Kind: kind, User: "desk", Header: "X-Api-Key", Value: value}
	}
	four := 5.0
	for _, c := range []struct {
		name, path string
		set        definition.HTTPSettings
		secret     *instrument.Secret
		limits     []measure.Limit
		want       measure.Outcome
		detail     string
	}{
		{"method, header and body", "/echo", definition.HTTPSettings{Method: "PUT", Body: "berth 4", Headers: []definition.Header{{Name: "X-Desk", Value: "freight"}, {Name: "Host", Value: "tickets.skerry.example"}}, Text: "PUT berth 4 host=tickets.skerry.example desk=freight"}, nil, nil, measure.OK, ""},
		{"HTTP/2", "/echo", definition.HTTPSettings{Version: "2"}, nil, nil, measure.OK, ""},
		{"HTTP/1.1", "/echo", definition.HTTPSettings{Version: "1.1"}, nil, nil, measure.OK, ""},
		{"pattern", "/bookings", definition.HTTPSettings{Pattern: `"last_hour":\d+`}, nil, nil, measure.OK, ""},
		{"pattern missing", "/bookings", definition.HTTPSettings{Pattern: `last_day`}, nil, nil, measure.Failed, `nothing matches "last_day"`},
		{"forbidden text", "/bookings", definition.HTTPSettings{ForbiddenText: "Eider"}, nil, nil, measure.Failed, "forbidden text"},
		{"forbidden pattern", "/bookings", definition.HTTPSettings{ForbiddenPattern: "Ei.er"}, nil, nil, measure.Failed, "forbidden pattern"},
		{"forbidden text absent", "/bookings", definition.HTTPSettings{ForbiddenText: "error"}, nil, nil, measure.OK, ""},
		{"value under a limit", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.last_hour"}, nil, []measure.Limit{{Measure: "value", DegradedBelow: &four}}, measure.Degraded, "Value in the answer 4"},
		{"value missing", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.last_day"}, nil, nil, measure.Failed, "selects 0 values"},
		{"several values", "/bookings", definition.HTTPSettings{JSONPath: "$.sailings[*]"}, nil, nil, measure.Failed, "selects 2 values"},
		{"no number", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.name"}, nil, nil, measure.Failed, `the text "Eider", where one number is needed`},
		{"digits in groups", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.grouped"}, nil, nil, measure.Failed, `the text "1_000", where one number is needed`},
		{"another base", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.hex"}, nil, nil, measure.Failed, `the text "0x1p3", where one number is needed`},
		{"a list", "/bookings", definition.HTTPSettings{JSONPath: "$.sailings"}, nil, nil, measure.Failed, "$.sailings selects a list of 2, where one number is needed"},
		{"an object", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings"}, nil, nil, measure.Failed, "an object of 8 members"},
		{"null", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.none"}, nil, nil, measure.Failed, "selects null"},
		{"too large", "/bookings", definition.HTTPSettings{JSONPath: "$.bookings.most"}, nil, nil, measure.Failed, "too large to be compared"},
		{"a byte order mark, and a large number elsewhere", "/marked", definition.HTTPSettings{JSONPath: "$.a"}, nil, []measure.Limit{{Measure: "value", DegradedBelow: &four}}, measure.Degraded, "Value in the answer 3"},
		{"a filter beside a large number", "/marked", definition.HTTPSettings{JSONPath: "$[?@ > 2]"}, nil, []measure.Limit{{Measure: "value", DegradedBelow: &four}}, measure.Degraded, "Value in the answer 3"},
		{"two values", "/two", definition.HTTPSettings{JSONPath: "$.a"}, nil, nil, measure.Failed, "something follows the value that ends before byte 10"},
		{"half of it", "/half", definition.HTTPSettings{JSONPath: "$.a"}, nil, nil, measure.Failed, "the answer is no JSON"},
		{"too deep", "/deep", definition.HTTPSettings{JSONPath: "$..a"}, nil, nil, measure.Failed, "more than 500 deep"},
		{"no JSON", "/echo", definition.HTTPSettings{JSONPath: "$.a"}, nil, nil, measure.Failed, "no JSON"},
		{"basic", "/locked", definition.HTTPSettings{Credential: "c"}, secret("basic", "herring"), nil, measure.OK, ""},
		{"bearer", "/locked", definition.HTTPSettings{Credential: "c"}, secret("bearer", "herring"), nil, measure.OK, ""},
		{"header", "/locked", definition.HTTPSettings{Credential: "c"}, secret("header", "herring"), nil, measure.OK, ""},
		{"wrong secret", "/locked", definition.HTTPSettings{Credential: "c"}, secret("bearer", "cod"), nil, measure.Failed, "status 401"},
		{"secret not entered", "/locked", definition.HTTPSettings{Credential: "c"}, nil, nil, measure.Error, "no secret"},
		{"redirects not followed", "/old", definition.HTTPSettings{Status: "302"}, nil, nil, measure.OK, ""},
		{"redirects followed", "/old", definition.HTTPSettings{Redirects: 2, Text: "last_hour"}, nil, nil, measure.OK, ""},
		{"too many redirects", "/old", definition.HTTPSettings{Redirects: 1}, nil, nil, measure.Failed, "more than 1 redirects"},
		{"a circle", "/circle", definition.HTTPSettings{Redirects: 5}, nil, nil, measure.Failed, "in a circle"},
		{"see other is fetched", "/post", definition.HTTPSettings{Method: "POST", Body: "x", Redirects: 1, Text: "GET  host"}, nil, nil, measure.OK, ""},
		{"a temporary one is asked again", "/again", definition.HTTPSettings{Method: "POST", Body: "x", Redirects: 1, Text: "POST x host"}, nil, nil, measure.OK, ""},
	} {
		r := s.Measure(context.Background(), instrument.Task{Kind: "http", Target: server.URL + c.path, Timeout: 5 * time.Second, Limits: c.limits, Settings: definition.Settings{HTTP: &c.set}, Secret: c.secret})
		if r.Outcome != c.want || !strings.Contains(r.Detail, c.detail) {
			t.Errorf("%s: %v %q, want %v %q", c.name, r.Outcome, r.Detail, c.want, c.detail)
		}
		if kept := r.Findings != nil && r.Findings.Response != nil; kept != (c.want == measure.Failed && !strings.Contains(c.detail, "nowhere")) {
			t.Errorf("%s: the answer is kept: %v, of one that %v", c.name, kept, c.want)
		}
		if c.want == measure.OK && (r.Findings.Remote != "127.0.0.1" || r.Measures("http")["certificate_days_left"] < 1) {
			t.Errorf("%s: from %q, measures %v", c.name, r.Findings.Remote, r.Measures("http"))
		}
	}
	// What a server repeats of a secret is masked, and the body is waited for.
	for _, kind := range []string{"basic", "bearer", "header"} {
		r := s.Measure(context.Background(), instrument.Task{Kind: "http", Target: server.URL + "/locked", Timeout: 5 * time.Second, Settings: definition.Settings{HTTP: &definition.HTTPSettings{Credential: "c"}}, Secret: secret(kind, "stockfish")})
		text := fmt.Sprint(r.Findings.Response)
		if strings.Contains(text, "stockfish") || strings.Contains(text, "ZGVzazpzdG9ja2Zpc2g") || strings.Contains(text, "session=") || !strings.Contains(text, "no entry with") {
			t.Errorf("%s: kept of the answer: %s", kind, text)
		}
	}
	slow := s.Measure(context.Background(), instrument.Task{Kind: "http", Target: server.URL + "/slow", Timeout: 5 * time.Second}).Measures("http")
	if slow["body_ms"] < 140 || slow["size_bytes"] != 6 || slow["total_ms"] < slow["body_ms"] {
		t.Errorf("a body that takes 150 ms: %v", slow)
	}
	// A secret does not follow to another host.
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprintf(w, "got %q", r.Header.Get("Authorization")) }))
	defer other.Close()
	hop := httptest.NewServer(http.RedirectHandler(other.URL, http.StatusFound))
	defer hop.Close()
	r := s.Measure(context.Background(), instrument.Task{Kind: "http", Target: hop.URL, Timeout: 5 * time.Second, Secret: secret("bearer", "herring"), Settings: definition.Settings{HTTP: &definition.HTTPSettings{Credential: "c", Redirects: 1, Text: `got ""`}}})
	if r.Outcome != measure.OK || len(r.Findings.Visited) != 1 {
		t.Errorf("redirected from %s to another host: %+v", host, r)
	}
}

// TestHTTPIsBounded meets servers that mean no good.
func TestHTTPIsBounded(t *testing.T) {
	mux := http.NewServeMux()
	chunk := strings.Repeat("sea ", 16<<10)
	mux.HandleFunc("/huge", func(w http.ResponseWriter, _ *http.Request) {
		for range 1 << 30 / len(chunk) {
			if _, err := io.WriteString(w, chunk); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("/drip", func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			io.WriteString(w, ".")
			w.(http.Flusher).Flush()
			time.Sleep(20 * time.Millisecond)
		}
	})
	mux.HandleFunc("/headers", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("X-Long", strings.Repeat("x", 200<<10))
	})
	mux.HandleFunc("/binary", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusInternalServerError)
		w.Write([]byte{0xff, 0, 'a', 0xfe})
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	s := instrument.NewSet(instrument.LocalPolicy())
	ask := func(path string, timeout time.Duration) (instrument.Result, time.Duration) {
		began := time.Now()
		r := s.Measure(context.Background(), instrument.Task{Kind: "http", Target: server.URL + path, Timeout: timeout})
		return r, time.Since(began)
	}
	if r, _ := ask("/huge", 10*time.Second); r.Outcome != measure.Degraded || !r.Findings.Cut || r.Measures("http")["size_bytes"] != 16<<20 || !strings.Contains(r.Detail, "longer than the 16777216 bytes") {
		t.Errorf("a gigabyte: %v %q %v; want it cut at 16 MiB", r.Outcome, r.Detail, r.Measures("http"))
	}
	big := func(set definition.HTTPSettings, limits ...measure.Limit) instrument.Result {
		return s.Measure(context.Background(), instrument.Task{Kind: "http", Target: server.URL + "/huge", Timeout: 10 * time.Second, Limits: limits, Settings: definition.Settings{HTTP: &set}})
	}
	two := float64(2 << 30)
	for says, r := range map[string]instrument.Result{
		"cannot be held against its limit":       big(definition.HTTPSettings{MaxBodyBytes: 1 << 16}, measure.Limit{Measure: "size_bytes", FailedAbove: &two}),
		"nobody knows whether what is forbidden": big(definition.HTTPSettings{MaxBodyBytes: 1 << 20, ForbiddenText: "out of order"}),
		"the forbidden text":                     big(definition.HTTPSettings{MaxBodyBytes: 1 << 16, ForbiddenText: chunk[:4]}),
	} {
		if r.Outcome != measure.Failed || !strings.Contains(r.Detail, says) {
			t.Errorf("want %q: %v %q", says, r.Outcome, r.Detail)
		}
	}
	if r, took := ask("/drip", 300*time.Millisecond); r.Outcome != measure.Failed || !strings.Contains(r.Detail, "answer begun") || took > 3*time.Second {
		t.Errorf("an answer without end: %v %q after %v", r.Outcome, r.Detail, took)
	}
	if r, _ := ask("/headers", time.Second); r.Outcome != measure.Failed {
		t.Errorf("endless headers: %v %q", r.Outcome, r.Detail)
	}
	if r, _ := ask("/binary", time.Second); r.Outcome != measure.Failed || !strings.Contains(r.Findings.Response.Body, "\uFFFD") {
		t.Errorf("an answer that is no text: %+v", r.Findings.Response)
	}
}

// A page behind a redirect that sets a cookie is seen as a browser sees it: the cookie goes
// where it belongs, and is forgotten with the measurement.
func TestCookiesOfRedirects(t *testing.T) {
	other := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "cookies: %d", len(r.Cookies()))
	}))
	other.Listener.Close()
	var err error
	if other.Listener, err = net.Listen("tcp", "127.0.0.2:0"); err != nil {
		t.Fatal(err)
	}
	other.Start()
	defer other.Close()
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		if _, err := r.Cookie("visit"); err == nil {
			fmt.Fprint(w, "Book your crossing")
			return
		}
		http.SetCookie(w, &http.Cookie{Name: "visit", Value: "17"})
		http.Redirect(w, r, "/", http.StatusFound)
	})
	mux.HandleFunc("/away", func(w http.ResponseWriter, r *http.Request) {
		http.SetCookie(w, &http.Cookie{Name: "visit", Value: "17"})
		http.Redirect(w, r, other.URL, http.StatusFound)
	})
	server := httptest.NewServer(mux)
	defer server.Close()
	s := set(t)
	for path, want := range map[string]string{"/": "Book your crossing", "/away": "cookies: 0"} {
		for range 2 {
			r := s.Measure(context.Background(), instrument.Task{Kind: "http", Target: server.URL + path, Timeout: 5 * time.Second, Settings: definition.Settings{
				HTTP: &definition.HTTPSettings{Redirects: 3, Status: "200", Text: want}}})
			if r.Outcome != measure.OK || r.Measures("http")["redirects"] != 1 {
				t.Errorf("%s: %v %q %v", path, r.Outcome, r.Detail, r.Measures("http"))
			}
		}
	}
}
