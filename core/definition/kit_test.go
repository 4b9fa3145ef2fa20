package definition_test

import (
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
	"kestite/core/measure"
)

func kit() definition.KitSpec {
	page := definition.CheckSpec{Name: "Page of {host}", Kind: measure.HTTP.Name, Target: "https://{host}:{port}/", IntervalS: 60, TimeoutMS: 5000, StaleAfterS: 190, Confirm: 2, Recover: 2,
		Settings: definition.Settings{HTTP: &definition.HTTPSettings{Text: "{word}", Pattern: "a{2,3}"}}}
	return definition.KitSpec{Name: "Web service", Parameters: []definition.Parameter{{Name: "host", Default: "kit.invalid"}, {Name: "port", Default: "443"}, {Name: "word"}}, Checks: []definition.CheckSpec{page}}
}

func TestKitFills(t *testing.T) {
	k := kit()
	if err := k.Validate(); err != nil {
		t.Fatal(err)
	}
	specs, err := k.Fill("tickets", []string{"tolvik"}, map[string]string{"host": "tickets.skerry.example", "word": `say "ahoy"`})
	if err != nil {
		t.Fatal(err)
	}
	got := specs[0]
	if got.Target != "https://tickets.skerry.example:443/" || got.Name != "Page of tickets.skerry.example" || got.HTTP.Text != `say "ahoy"` || got.HTTP.Pattern != "a{2,3}" || got.Service != "tickets" || got.Locations[0] != "tolvik" {
		t.Errorf("%+v %+v", got, got.HTTP)
	}
	if k.Checks[0].Target != "https://{host}:{port}/" {
		t.Error("filling changed the kit")
	}
}

func TestKitFaults(t *testing.T) {
	for want, change := range map[string]func(*definition.KitSpec){
		"checks: a kit needs at least one":               func(k *definition.KitSpec) { k.Checks = nil },
		"is no name of a parameter":                      func(k *definition.KitSpec) { k.Parameters[0].Name = "Host name" },
		"stands there twice":                             func(k *definition.KitSpec) { k.Parameters[1].Name = "host" },
		"the kit has no such parameter":                  func(k *definition.KitSpec) { k.Checks[0].Name = "{harbour}" },
		"checks[0].target: \"https://no host:443/\" is":  func(k *definition.KitSpec) { k.Parameters[0].Default = "no host" },
		"checks[0].timeout_ms: 60000 ms does not fit in": func(k *definition.KitSpec) { k.Checks[0].TimeoutMS = 60_000 },
	} {
		k := kit()
		change(&k)
		if err := k.Validate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v; want %q", err, want)
		}
	}
	if _, err := kit().Fill("tickets", []string{"tolvik"}, map[string]string{"quay": "4"}); err == nil || !strings.Contains(err.Error(), `no parameter "quay"`) {
		t.Errorf("a value for nothing: %v", err)
	}
}

// A kit made of what a service has makes the same for another: its host and its name are
// parameters where they stand by themselves, and only there.
func TestKitOfWhatAServiceHas(t *testing.T) {
	check := func(name, kind, target string, change func(*definition.CheckSpec)) definition.CheckSpec {
		c := definition.CheckSpec{Service: "tickets", Name: name, Kind: kind, Target: target, IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150,
			Confirm: 1,
			Recover: 1, Locations: []string{"tolvik"}}
		if change != nil {
			change(&c)
		}
		return c
	}
	checks := []definition.CheckSpec{
		check("Tickets page", "http", "https://10.0.0.1:8443/tickets", func(c *definition.CheckSpec) {
			c.HTTP = &definition.HTTPSettings{Method: "POST", Status: "200", Body: "Tickets of 10.0.0.1, not of 10.0.0.11 or www.10.0.0.1"}
		}),
		check("Tickets port", "tcp", "10.0.0.1:25", nil),
		check("Other", "ping", "10.0.0.12", nil),
		check("Between", "ping", "10.0.0.1", func(c *definition.CheckSpec) { c.Pair = &definition.PairRef{Plan: "p"} }),
	}
	kit, err := definition.KitOf("Web", "Tickets", checks)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, c := range kit.Checks {
		got = append(got, c.Name+" at "+c.Target)
	}
	want := []string{"{service} page at https://{host}:8443/tickets", "{service} port at {host}:25", "Other at 10.0.0.12"}
	if !slices.Equal(got, want) || kit.Checks[0].HTTP.Body != "{service} of {host}, not of 10.0.0.11 or www.10.0.0.1" {
		t.Errorf("%q, %+v", got, kit.Checks[0].HTTP)
	}
	if err := definition.Valid(kit); err != nil {
		t.Error(err)
	}
	same, err := kit.Fill("tickets", []string{"tolvik"}, nil)
	if err != nil || same[0].Target != checks[0].Target || same[1].Name != checks[1].Name {
		t.Errorf("%+v, %v", same, err)
	}
	// Without a host, nothing becomes one; what is called nothing has no name to put in.
	inward, err := definition.KitOf("Copies", "", []definition.CheckSpec{check("Ledger", "report-in", "", nil)})
	if err != nil || len(inward.Parameters) != 0 || len(inward.Checks) != 1 || inward.Checks[0].Name != "Ledger" {
		t.Errorf("%+v, %v", inward, err)
	}
}
