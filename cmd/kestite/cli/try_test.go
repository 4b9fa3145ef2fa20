package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

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
