package definition_test

import (
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
