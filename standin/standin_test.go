package standin_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
	"kestite/standin"
)

func TestWebModes(t *testing.T) {
	w := &standin.Web{ID: "kiosk", Name: "Pier kiosk", Addr: "127.78.0.21:8479", Text: "Kiosk open"}
	if err := w.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.Set(standin.Refused) })
	client := &http.Client{Timeout: 700 * time.Millisecond, Transport: &http.Transport{DisableKeepAlives: true}}
	get := func() (int, string, error) {
		resp, err := client.Get(w.URL())
		if err != nil {
			return 0, "", err
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		return resp.StatusCode, string(body), err
	}
	if status, body, err := get(); status != 200 || !strings.Contains(body, "Kiosk open") {
		t.Errorf("ok: %d %s %v", status, body, err)
	}
	for mode, works := range map[string]func(int, error) bool{
		standin.Wrong:   func(status int, err error) bool { return status == 500 },
		standin.Slow:    func(_ int, err error) bool { return err != nil && strings.Contains(err.Error(), "Timeout") },
		standin.Silent:  func(_ int, err error) bool { return err != nil && strings.Contains(err.Error(), "Timeout") },
		standin.Refused: func(_ int, err error) bool { return err != nil && strings.Contains(err.Error(), "refused") },
	} {
		if err := w.Set(mode); err != nil || w.Mode() != mode {
			t.Fatalf("%s: %v", mode, err)
		}
		if status, _, err := get(); !works(status, err) {
			t.Errorf("%s: %d %v", mode, status, err)
		}
	}
	if err := w.Set("on fire"); err == nil || w.Mode() == "on fire" {
		t.Errorf("an unknown mode was taken: %v", err)
	}
	if err := w.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	if status, _, err := get(); status != 200 {
		t.Errorf("after all that: %d %v", status, err)
	}
}

// A name server's modes, measured by the agents' own instrument.
func TestNameModes(t *testing.T) {
	n := &standin.Names{ID: "names", Name: "Names", Addr: "127.78.0.41:8453", Known: map[string]string{"tickets.skerry.example": "127.77.0.12"}}
	world := &standin.World{Names: []*standin.Names{n}}
	if err := world.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { world.Close() })
	set := instrument.NewSet(instrument.LocalPolicy())
	defer set.Close()
	for _, c := range []struct {
		mode    string
		outcome measure.Outcome
		says    string
	}{
		{standin.OK, measure.OK, ""}, {standin.Wrong, measure.Failed, "the answer is 127.0.0.1"}, {standin.Refused, measure.Failed, "REFUSED"},
		{standin.Silent, measure.Failed, "no answer"}, {standin.Slow, measure.Failed, "no answer"}, {standin.OK, measure.OK, ""},
	} {
		if err := world.Set(context.Background(), "names", c.mode); err != nil || n.Mode() != c.mode {
			t.Fatal(err)
		}
		patience := 400 * time.Millisecond
		if c.mode != standin.Silent && c.mode != standin.Slow {
			patience = 10 * time.Second
		}
		r := set.Measure(context.Background(), instrument.Task{Kind: "dns", Target: "tickets.skerry.example", Timeout: patience, Settings: definition.Settings{DNS: &definition.DNSSettings{Resolver: n.Addr, Expect: "127.77.0.12"}}})
		if r.Outcome != c.outcome || !strings.Contains(r.Detail, c.says) {
			t.Errorf("%s: %s %q", c.mode, r.Outcome, r.Detail)
		}
	}
	if err := world.Set(context.Background(), "names", "on fire"); err == nil {
		t.Error("an unknown mode was taken")
	}
}

// A silenced host answers no ping, measured by the agents' own instrument, and
// answers again when it is let.
func TestHostsFallSilent(t *testing.T) {
	world := &standin.World{Hosts: []standin.Host{{ID: "gate", Name: "Gate", Addr: "127.78.0.31"}, {ID: "quay", Name: "Quay", Addr: "127.78.0.32"}}}
	t.Cleanup(func() { world.Close() })
	set := instrument.NewSet(instrument.LocalPolicy())
	defer set.Close()
	ping := func(addr string) measure.Outcome {
		return set.Measure(context.Background(), instrument.Task{
			Kind: "ping", Target: addr, Timeout: time.Second, Settings: definition.Settings{Ping: &definition.PingSettings{Packets: 2, SizeBytes: 56, SpacingMS: 20}},
			Limits: []measure.Limit{},
		}).Outcome
	}
	expect := func(when string, gate, quay measure.Outcome) {
		t.Helper()
		if g, q := ping("127.78.0.31"), ping("127.78.0.32"); g != gate || q != quay {
			t.Errorf("%s: gate %s, quay %s; not %s, %s", when, g, q, gate, quay)
		}
	}
	expect("at first", measure.OK, measure.OK)
	for _, step := range []struct {
		id, mode   string
		gate, quay measure.Outcome
	}{
		{"gate", standin.Silent, measure.Failed, measure.OK},
		{"quay", standin.Silent, measure.Failed, measure.Failed},
		{"gate", standin.OK, measure.OK, measure.Failed},
		{"quay", standin.OK, measure.OK, measure.OK},
	} {
		if err := world.Set(context.Background(), step.id, step.mode); err != nil {
			t.Fatal(err)
		}
		expect(step.id+" "+step.mode, step.gate, step.quay)
	}
	// A world that was killed leaves its rule behind; the next one lifts it.
	if err := world.Set(context.Background(), "gate", standin.Silent); err != nil {
		t.Fatal(err)
	}
	next := &standin.World{Hosts: world.Hosts}
	if err := next.Start(); err != nil || next.Complaint != "" {
		t.Fatal(err, next.Complaint)
	}
	expect("after a start", measure.OK, measure.OK)
	if err := world.Set(context.Background(), "gate", standin.Slow); err == nil {
		t.Error("a host was made slow")
	}
	if err := world.Set(context.Background(), "harbour", standin.OK); err == nil {
		t.Error("an unknown stand-in was set")
	}
}

// The authority's certificates are trusted by who trusts the authority, for
// their own address only.
func TestAuthority(t *testing.T) {
	authority, err := standin.NewAuthority(time.Now())
	if err != nil {
		t.Fatal(err)
	}
	config, err := authority.Server("127.78.0.22")
	if err != nil {
		t.Fatal(err)
	}
	w := &standin.Web{ID: "tickets", Name: "Tickets", Addr: "127.78.0.22:8480", Text: "Book", TLS: config}
	if err := w.Set(standin.OK); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.Set(standin.Refused) })
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(authority.PEM()) {
		t.Fatal("no certificate in the PEM")
	}
	get := func(roots *x509.CertPool, name string) error {
		client := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: name}}}
		resp, err := client.Get(w.URL())
		if err == nil {
			resp.Body.Close()
		}
		return err
	}
	if err := get(roots, ""); err != nil {
		t.Error(err)
	}
	if err := get(x509.NewCertPool(), ""); err == nil {
		t.Error("trusted without its authority")
	}
	if err := get(roots, "other.skerry.example"); err == nil {
		t.Error("trusted for another name")
	}
}
