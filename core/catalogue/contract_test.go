package catalogue_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
)

func promise(target string) definition.AgreementSpec {
	return definition.AgreementSpec{Name: "Gold", Customer: "port", Service: "tickets", Timezone: "Europe/Oslo",
		TargetPercent: definition.Percent(target),
		Unmeasured:    definition.UnmeasuredExclude, From: "2026-01-01"}
}

// contracted is a catalogue with a service, two customers and an agreement.
func contracted(t *testing.T) *told {
	h := newTold(t)
	h.do("01T00:00",
		catalogue.Step{Kind: catalogue.Service, ID: "tickets", Spec: definition.ServiceSpec{Name: "Tickets", Kind: definition.Business}},
		catalogue.Step{Kind: catalogue.Customer, ID: "port", Spec: definition.CustomerSpec{Name: "Port authority"}},
		catalogue.Step{Kind: catalogue.Customer, ID: "freight", Spec: definition.CustomerSpec{Name: "Freight desk"}},
		catalogue.Step{Kind: catalogue.Agreement, ID: "gold", Spec: promise("99.5")})
	return h
}

// A clause changed within a period ends one agreement and begins another under the
// same contract; the two meet at midnight of the agreement's zone.
func TestSplitWithinAPeriod(t *testing.T) {
	h := contracted(t)
	steps, err := h.snap.Split("gold", 1, "2026-03-15", promise("99.9"), at(t, "20T10:00"))
	if err != nil {
		t.Fatal(err)
	}
	for i := range steps {
		steps[i].Reason = "renegotiated"
	}
	p := h.do("20T10:00", steps...)
	fresh := p.IDs[len(p.IDs)-1]
	old, began := h.snap.Agreements["gold"].Current(), h.snap.Agreements[fresh].Current()
	march, err := h.snap.PeriodAt("gold", at(t, "20T10:00"))
	if err != nil {
		t.Fatal(err)
	}
	if old.Spec.Until != "2026-03-14" || began.Spec.From != "2026-03-15" || old.Spec.TargetPercent != "99.5" ||
		began.Spec.TargetPercent != "99.9" ||
		old.Spec.Contract == "" || old.Spec.Contract != began.Spec.Contract || old.Counts == nil || *old.Counts != march.Span().From {
		t.Fatalf("%+v\n%+v", old, began)
	}
	if c := h.snap.Contracts[old.Spec.Contract].Current().Spec; c.Name != "Gold" || c.Customer != "port" || !p.Writes[0].Follows {
		t.Errorf("the contract %+v, %+v", c, p.Writes[0])
	}
	if got := h.snap.Under(old.Spec.Contract); !slices.Equal(got, []string{"gold", fresh}) {
		t.Errorf("under it are %v", got)
	}
	meets := at(t, "14T23:00") // midnight in Oslo
	begins, err := h.snap.Begins(fresh, march.Span().From)
	if err != nil || begins != meets {
		t.Errorf("the new one begins at %v, %v", begins, err)
	}
	for id, want := range map[string]string{"gold": "until 14 Mar", fresh: "from 15 Mar"} {
		if part, err := h.snap.Part(id, march); part != want || err != nil {
			t.Errorf("%s promises %q of March, %v", id, part, err)
		}
		if promised, err := h.snap.Promises(id, march); !promised || err != nil {
			t.Errorf("%s promises nothing in March, %v", id, err)
		}
	}
	april, err := h.snap.PeriodAt("gold", march.Span().To)
	if err != nil {
		t.Fatal(err)
	}
	if promised, _ := h.snap.Promises("gold", april); promised {
		t.Error("the old one goes on")
	}
	if part, _ := h.snap.Part(fresh, april); part != "" {
		t.Errorf("the new one promises %q of April", part)
	}
	// Split once more: the contract is the same, and a part has two ends.
	steps, err = h.snap.Split(fresh, 1, "2026-03-25", promise("99.0"), at(t, "26T10:00"))
	if err != nil || len(steps) != 2 {
		t.Fatal(steps, err)
	}
	for i := range steps {
		steps[i].Reason = "and again"
	}
	h.do("26T10:00", steps...)
	if part, _ := h.snap.Part(fresh, march); part != "15 Mar to 24 Mar" || len(h.snap.Under(old.Spec.Contract)) != 3 {
		t.Errorf("the one in the middle promises %q", part)
	}
}

// What counts only from the next period is not what the split agreement said in this one.
func TestSplitEndsWhatAccountsThePeriod(t *testing.T) {
	h := contracted(t)
	h.do("02T00:00", catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Agreement, ID: "gold", Expected: 1,
		Spec: promise("98")}) // from April on
	steps, err := h.snap.Split("gold", 2, "2026-03-10", promise("99.9"), at(t, "20T10:00"))
	if err != nil {
		t.Fatal(err)
	}
	if ends := steps[1].Spec.(definition.AgreementSpec); ends.TargetPercent != "99.5" {
		t.Errorf("March is accounted by %s %% until then, not by %s", "99.5", ends.TargetPercent)
	}
	// A day of a period to come needs no correction.
	steps, err = h.snap.Split("gold", 2, "2026-04-10", promise("99.9"), at(t, "20T10:00"))
	if err != nil {
		t.Fatal(err)
	}
	if ends := steps[1].Spec.(definition.AgreementSpec); ends.TargetPercent != "98" || steps[1].Corrects != "" {
		t.Errorf("April: %+v", steps[1])
	}
	h.do("20T10:00", steps...)
	april, err := h.snap.PeriodNamed("gold", "2026-04")
	if err != nil {
		t.Fatal(err)
	}
	if part, err := h.snap.Part("gold", april); part != "until 9 Apr" || err != nil {
		t.Errorf("April is promised %q, %v", part, err)
	}
	march, err := h.snap.PeriodAt("gold", at(t, "20T10:00"))
	if part, _ := h.snap.Part("gold", march); err != nil || part != "" {
		t.Errorf("March is promised %q, %v", part, err)
	}
}

func TestWhatCannotBeSplit(t *testing.T) {
	h := contracted(t)
	zone, service, customer := promise("99"), promise("99"), promise("99")
	zone.Timezone, service.Service, customer.Customer = "UTC", "freight", "freight"
	for _, c := range []struct {
		day   string
		spec  definition.AgreementSpec
		path  string
		says  string
		until string
	}{
		{"2026-03-01", promise("99"), "from", "is the first day of", ""},
		{"2026-01-01", promise("99"), "from", "is the first day of", ""},
		{"2025-12-15", promise("99"), "from", "begins on 2025-12-15 or later", ""},
		{"2026-03-10", promise("99"), "from", "has ended by 2026-03-10", "2026-03-05"},
		{"2026-02-30", promise("99"), "from", "is no date", ""},
		{"soon", promise("99"), "from", "is no date", ""},
		{"2026-03-10", zone, "spec.timezone", "would leave a gap or overlap", ""},
		{"2026-03-10", service, "spec.service", "stays with its service", ""},
		{"2026-03-10", customer, "spec.customer", "stays with its customer", ""},
	} {
		of := contracted(t)
		if c.until != "" {
			ends := promise("99.5")
			ends.Until = c.until
			of.do("20T00:00", catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Agreement, ID: "gold", Spec: ends, Corrects: "2026-03",
				Reason: "given up"})
		}
		_, err := of.snap.Split("gold", 1, c.day, c.spec, at(t, "20T10:00"))
		var fault *definition.Fault
		if !errors.As(err, &fault) || fault.Path != c.path || !strings.Contains(fault.Message, c.says) {
			t.Errorf("%s: %v, not %s: %s", c.day, err, c.path, c.says)
		}
	}
	if _, err := h.snap.Split("nothing", 1, "2026-03-10", promise("99"), at(t, "20T10:00")); err != catalogue.ErrNotFound {
		t.Error(err)
	}
	h.do("20T00:00", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Agreement, ID: "gold"})
	if _, err := h.snap.Split("gold", 1, "2026-03-10", promise("99"), at(t, "20T10:00")); err != catalogue.ErrRetired {
		t.Error(err)
	}
}

// All of a contract is with one customer.
func TestAContractIsWithOneCustomer(t *testing.T) {
	h := contracted(t)
	under := func(customer string) definition.AgreementSpec {
		a := promise("99")
		a.Contract, a.Customer = "harbour", customer
		return a
	}
	h.refused("02T00:00", "contract", "names no contract", catalogue.Step{Kind: catalogue.Agreement, Spec: under("port")})
	h.do("02T00:00", catalogue.Step{Kind: catalogue.Contract, ID: "harbour", Spec: definition.ContractSpec{Name: "Harbour 2026",
		Customer: "port"}})
	h.refused("03T00:00", "customer", "is with Port authority", catalogue.Step{Kind: catalogue.Agreement, Spec: under("freight")})
	h.refused("03T00:00", "customer", "is with Port authority", catalogue.Step{Kind: catalogue.Agreement, Spec: under("")})
	h.do("03T00:00", catalogue.Step{Kind: catalogue.Agreement, ID: "piers", Spec: under("port")})
	h.refused("04T00:00", "customer", "the agreement Gold is a part of it", catalogue.Step{Does: catalogue.Rewrite, Kind: catalogue.Contract,
		ID:   "harbour",
		Spec: definition.ContractSpec{Name: "Harbour 2026", Customer: "freight"}})
	h.refused("04T00:00", "id", "is a part of it", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Contract, ID: "harbour"})
	h.do("05T00:00", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Agreement, ID: "piers"})
	h.do("06T00:00", catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Contract, ID: "harbour"})
}
