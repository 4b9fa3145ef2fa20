package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"kestite/standin"
)

func runTry(args ...string) (string, error) {
	var out bytes.Buffer
	root := Root()
	root.SetArgs(append([]string{"try"}, args...))
	root.SetOut(&out)
	err := root.Execute()
	return out.String(), err
}

func TestTryMeasuresEveryKind(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("Next sailings")) }))
	defer plain.Close()
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	names := &standin.Names{ID: "names", Addr: "127.78.0.42:8454", Known: map[string]string{"tickets.skerry.example": "127.77.0.12"}}
	if err := names.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	defer names.Close()
	for _, c := range []struct {
		args []string
		says []string
		ok   bool
	}{
		{[]string{"dns", "tickets.skerry.example", "--resolver", names.Addr, "--expect", "127.77.0.12"}, []string{": ok", "(ttl_s)"}, true},
		{[]string{"dns", "crew.skerry.example", "--resolver", names.Addr}, []string{": failed", "no name crew.skerry.example"}, false},
		{[]string{"ping", "127.0.0.1", "--packets", "2", "--spacing-ms", "20"}, []string{"ping 127.0.0.1: ok", "Loss", "0 %", "(rtt_mean_ms)"}, true},
		{[]string{"http", plain.URL, "--text", "sailings"}, []string{": ok", "Status", "200", "(first_byte_ms)"}, true},
		{[]string{"http", plain.URL, "--text", "ferries"}, []string{": failed", `the text "ferries"`}, false},
		{[]string{"tcp", strings.TrimPrefix(plain.URL, "http://")}, []string{": ok", "(connect_ms)"}, true},
		{[]string{"certificate", strings.TrimPrefix(secure.URL, "https://")}, []string{": failed", "not trusted"}, false},
		{[]string{"certificate", strings.TrimPrefix(secure.URL, "https://"), "--waive-trust", "--waive-name"}, []string{": ok", "(days_left)"}, true},
		{[]string{"tcp", "127.0.0.1:1"}, []string{": failed", "connection refused"}, false},
	} {
		out, err := runTry(c.args...)
		var quiet *Quiet
		if c.ok != (err == nil) || err != nil && !errors.As(err, &quiet) {
			t.Errorf("%v: %v", c.args, err)
		}
		for _, word := range c.says {
			if !strings.Contains(out, word) {
				t.Errorf("%v does not say %q:\n%s", c.args, word, out)
			}
		}
	}
	out, err := runTry("tcp", strings.TrimPrefix(plain.URL, "http://"), "--json")
	var got struct {
		Kind, Outcome string
		Measures      map[string]float64
	}
	if err != nil || json.Unmarshal([]byte(out), &got) != nil || got.Kind != "tcp" || got.Outcome != "ok" || got.Measures["connect_ms"] <= 0 {
		t.Errorf("%v %s", err, out)
	}
}

func TestTryRefuses(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"smoke", "127.0.0.1"}, "no kind of check"},
		{[]string{"tcp", "127.0.0.1"}, "no host with a port"},
		{[]string{"tcp", "127.0.0.1:70000"}, "no host with a port"},
		{[]string{"http", "127.0.0.1"}, "https://"},
		{[]string{"ping", "127.0.0.1", "--packets", "0"}, "--packets is 0; it lies between 1 and 100"},
		{[]string{"ping", "127.0.0.1", "--timeout", "5m"}, "--timeout"},
		{[]string{"http", "http://127.0.0.1/", "--status", "fine"}, "no set of status codes"},
		{[]string{"dns", "tickets.skerry.example", "--type", "AXFR"}, "no record type"},
		{[]string{"dns", "https://tickets.skerry.example"}, "no domain name"},
		{[]string{"certificate", "127.0.0.1:1", "--roots", "/nowhere"}, "/nowhere"},
	} {
		out, err := runTry(c.args...)
		var refused *Refused
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), c.says) || out != "" {
			t.Errorf("%v: %v %s", c.args, err, out)
		}
	}
}

// What the server would measure is tried from here as well: a value derived of
// measurements made now, and a report that comes in.
func TestTryDerived(t *testing.T) {
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(`{"bookings": 30, "refused": 6}`)) }))
	defer plain.Close()
	size := "http " + plain.URL + " size_bytes"
	for _, c := range []struct {
		args []string
		says []string
		ok   bool
	}{
		{[]string{"derived", "sum", "--of", size, "--of", size}, []string{"derived sum: ok", "Value", "60", "(sources)", size + " = 30"}, true},
		{[]string{"derived", "share", "--of", size, "--of", "ping 127.0.0.1 loss_percent"}, []string{": error", "the share of nothing"}, false},
		{[]string{"derived", "mean", "--of", size, "--of", "tcp 127.0.0.1:1 connect_ms"}, []string{": error", "tcp 127.0.0.1:1 has no connect_ms", "refused"}, false},
	} {
		out, err := runTry(c.args...)
		if c.ok != (err == nil) {
			t.Errorf("%v: %v", c.args, err)
		}
		for _, word := range c.says {
			if !strings.Contains(out, word) {
				t.Errorf("%v does not say %q:\n%s", c.args, word, out)
			}
		}
	}
	for want, args := range map[string][]string{
		"is not known":        {"derived", "product", "--of", size},
		"at least one":        {"derived", "sum"},
		"at least two":        {"derived", "difference", "--of", size},
		"is no source":        {"derived", "sum", "--of", "ping 127.0.0.1"},
		"is no measure of":    {"derived", "sum", "--of", "ping 127.0.0.1 mos"},
		"a derived value is":  {"derived", "sum", "--of", "derived sum value"},
		"has at most 4":       {"report-in", "127.0.0.1:0", "--number", "a", "--number", "b", "--number", "c", "--number", "d", "--number", "e"},
		"listen at 127.0.0.1": {"report-in", "127.0.0.1:99999"},
	} {
		var refused *Refused
		if _, err := runTry(args...); !errors.As(err, &refused) || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q: %v", args, want, err)
		}
	}
}

func TestTryReportIn(t *testing.T) {
	const address = "127.78.0.43:8455"
	report := func(query string) (string, int) {
		for range 200 {
			resp, err := http.Get("http://" + address + "/" + query)
			if err != nil { // it does not listen yet
				time.Sleep(20 * time.Millisecond)
				continue
			}
			defer resp.Body.Close()
			body, _ := io.ReadAll(resp.Body)
			return string(body), resp.StatusCode
		}
		return "nobody listens", 0
	}
	type answer struct {
		text string
		code int
	}
	said := make(chan answer, 2)
	go func() {
		for _, query := range []string{"?bookings=many", "?outcome=failed&detail=disk+full&bookings=4"} {
			text, code := report(query)
			said <- answer{text, code}
		}
	}()
	out, err := runTry("report-in", address, "--number", "bookings", "--timeout", "20s")
	var quiet *Quiet
	if !errors.As(err, &quiet) || !strings.Contains(out, ": failed") || !strings.Contains(out, "disk full") || !strings.Contains(out, "First number  4") {
		t.Errorf("%v\n%s", err, out)
	}
	if a := <-said; a.code != http.StatusUnprocessableEntity || !strings.Contains(a.text, "is no number") {
		t.Errorf("a report that cannot be read: %d %s", a.code, a.text)
	}
	if a := <-said; a.code != http.StatusOK {
		t.Errorf("a good report: %d %s", a.code, a.text)
	}
	if out, err := runTry("report-in", "127.0.0.1:0", "--timeout", "200ms"); !errors.As(err, &quiet) || !strings.Contains(out, "no report within 200ms") {
		t.Errorf("silence: %v\n%s", err, out)
	}
}
