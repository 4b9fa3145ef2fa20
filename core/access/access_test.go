package access_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/span"
)

func TestRolesPermit(t *testing.T) {
	for p, want := range map[access.Permission]string{
		access.Own:        "administrator manager approver operator viewer customer",
		access.See:        "administrator manager approver operator viewer",
		access.SeeDrafts:  "administrator manager approver",
		access.Operate:    "administrator manager operator",
		access.Define:     "administrator manager",
		access.Publish:    "administrator manager",
		access.Audit:      "administrator manager approver",
		access.Administer: "administrator",
	} {
		var got []string
		for _, r := range access.With(p) {
			got = append(got, string(r))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", p, got, want)
		}
		if p.Words() == "" {
			t.Errorf("%s has no words", p)
		}
	}
	for _, r := range []access.Role{"", "guest", "Administrator"} {
		if r.Known() || r.Permits(access.Own) || len(r.All()) > 0 {
			t.Errorf("%q is a role", r)
		}
	}
}

const began = span.Instant(1_772_000_000_000)

func step(kind, id string, spec catalogue.Spec) catalogue.Step {
	return catalogue.Step{Does: catalogue.Make, Kind: kind, ID: id, Spec: spec}
}

func edit(kind, id string, spec catalogue.Spec) catalogue.Step {
	return catalogue.Step{Does: catalogue.Rewrite, Kind: kind, ID: id, Spec: spec}
}

func service(owner string) definition.ServiceSpec {
	return definition.ServiceSpec{Name: "S", Kind: definition.Business, Combine: definition.Worst, Owner: owner}
}

func check(of string) definition.CheckSpec {
	return definition.CheckSpec{Service: of, Name: "C", Kind: "ping", Target: "198.18.4.20", IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 180,
		Confirm: 1, Recover: 1, Quorum: "majority", Role: "decides", Locations: []string{"tolvik"}}
}

func agreement(of, customer string) definition.AgreementSpec {
	return definition.AgreementSpec{Name: "A", Service: of, Customer: customer, Timezone: "UTC", TargetPercent: "99",
		DegradedWeightPercent: "0",
		MinCoveragePercent:    "0", Unmeasured: definition.UnmeasuredExclude}
}

func window(services ...string) definition.WindowSpec {
	return definition.WindowSpec{Name: "W", Services: services, Timezone: "UTC", Start: "2027-03-02T02:00:00", DurationS: 3600}
}

// here is two teams with a service each, one that nobody owns, and two customers.
func here(t *testing.T) *catalogue.Snapshot {
	t.Helper()
	plan, err := catalogue.New(nil, began).Plan(catalogue.Circumstances{At: began, By: "x"},
		step(catalogue.Team, "quay", definition.TeamSpec{Name: "Quay crew"}),
		step(catalogue.Team, "tickets", definition.TeamSpec{Name: "Ticket office"}),
		step(catalogue.Customer, "port", definition.CustomerSpec{Name: "Port"}),
		step(catalogue.Customer, "freight", definition.CustomerSpec{Name: "Freight"}),
		step(catalogue.Location, "tolvik", definition.LocationSpec{Name: "Tolvik"}),
		step(catalogue.Service, "gates", service("quay")),
		step(catalogue.Service, "shop", service("tickets")),
		step(catalogue.Service, "board", service("")),
		step(catalogue.Check, "gates-ping", check("gates")),
		step(catalogue.Check, "shop-ping", check("shop")),
		step(catalogue.Agreement, "gates-port", agreement("gates", "port")),
		step(catalogue.Agreement, "shop-inside", agreement("shop", "")),
	)
	if err != nil {
		t.Fatal(err)
	}
	return plan.After
}

func TestWhoMayChangeWhat(t *testing.T) {
	snap := here(t)
	quay := []string{"quay"}
	for name, c := range map[string]struct {
		rights access.Rights
		step   catalogue.Step
		denied string // empty: it may be
	}{
		"a viewer":                 {access.Rights{Role: access.Viewer}, edit(catalogue.Service, "gates", service("quay")), "administrator or manager; you are viewer"},
		"an approver":              {access.Rights{Role: access.Approver}, step(catalogue.Window, "w", window("gates")), "you are approver"},
		"a customer":               {access.Rights{Role: access.Customer, Customer: "port"}, edit(catalogue.Agreement, "gates-port", agreement("gates", "port")), "you are customer"},
		"an operator's check":      {access.Rights{Role: access.Operator}, edit(catalogue.Check, "gates-ping", check("gates")), "administrator or manager"},
		"an operator's window":     {access.Rights{Role: access.Operator}, step(catalogue.Window, "w", window("gates", "shop")), ""},
		"a manager of all":         {access.Rights{Role: access.Manager}, step(catalogue.Team, "t", definition.TeamSpec{Name: "T"}), ""},
		"own service":              {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Service, "gates", service("quay")), ""},
		"give it away":             {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Service, "gates", service("tickets")), "owned by Ticket office"},
		"take another's":           {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Service, "shop", service("quay")), "owned by Ticket office, and your role counts for services of Quay crew only"},
		"take nobody's":            {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Service, "board", service("quay")), "owned by nobody"},
		"a new one of theirs":      {access.Rights{Role: access.Manager, Teams: quay}, step(catalogue.Service, "crane", service("quay")), ""},
		"a new one of nobody's":    {access.Rights{Role: access.Manager, Teams: quay}, step(catalogue.Service, "crane", service("")), "owned by nobody"},
		"own check":                {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Check, "gates-ping", check("gates")), ""},
		"another's check":          {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Check, "shop-ping", check("shop")), "Ticket office"},
		"another's check, retired": {access.Rights{Role: access.Manager, Teams: quay}, catalogue.Step{Does: catalogue.Retire, Kind: catalogue.Check, ID: "shop-ping"}, "Ticket office"},
		"a check of both":          {access.Rights{Role: access.Manager, Teams: []string{"quay", "tickets"}}, edit(catalogue.Check, "shop-ping", check("shop")), ""},
		"own agreement":            {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Agreement, "gates-port", agreement("gates", "port")), ""},
		"another's agreement":      {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Agreement, "shop-inside", agreement("shop", "")), "Ticket office"},
		"a window over another's":  {access.Rights{Role: access.Operator, Teams: quay}, step(catalogue.Window, "w", window("gates", "shop")), "Ticket office"},
		"a location":               {access.Rights{Role: access.Manager, Teams: quay}, step(catalogue.Location, "eskerby", definition.LocationSpec{Name: "Eskerby"}), "for the whole organisation"},
		"a customer's record":      {access.Rights{Role: access.Manager, Teams: quay}, edit(catalogue.Customer, "port", definition.CustomerSpec{Name: "Port office"}), "for the whole organisation"},
	} {
		plan, err := snap.Plan(catalogue.Circumstances{At: began.Add(span.Day), By: "y"}, c.step)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		err = c.rights.MayWrite(snap, plan.After, plan.Writes[0])
		var denied *access.Denied
		if c.denied == "" && err != nil || c.denied != "" && (!errors.As(err, &denied) || !strings.Contains(denied.Why, c.denied)) {
			t.Errorf("%s: %v, want %q", name, err, c.denied)
		}
	}
}

// What follows from a change that somebody may make is theirs too.
func TestWhatFollowsIsNotAskedAgain(t *testing.T) {
	snap := here(t)
	if err := (access.Rights{Role: access.Manager, Teams: []string{"quay"}}).MayWrite(snap, snap, catalogue.Write{Kind: catalogue.Check, ID: "shop-ping", Follows: true}); err != nil {
		t.Error(err)
	}
}

func TestRightsThatNobodyCanHave(t *testing.T) {
	snap := here(t)
	for want, r := range map[string]access.Rights{
		"role":     {Role: "guest"},
		"customer": {Role: access.Customer},
		"teams[0]": {Role: access.Manager, Teams: []string{"crane"}},
		"teams[1]": {Role: access.Operator, Teams: []string{"quay", "quay"}},
		"teams":    {Role: access.Administrator, Teams: []string{"quay"}},
	} {
		var fault *definition.Fault
		if err := r.Fault(snap); !errors.As(err, &fault) || fault.Path != want {
			t.Errorf("%+v: %v, want a fault of %s", r, err, want)
		}
	}
	for _, r := range []access.Rights{{Role: access.Customer, Customer: "quay"}, {Role: access.Viewer, Customer: "port"}, {Role: access.Viewer, Teams: []string{"quay"}}} {
		if r.Fault(snap) == nil {
			t.Errorf("%+v is taken", r)
		}
	}
	for _, r := range []access.Rights{{Role: access.Customer, Customer: "port"}, {Role: access.Operator, Teams: []string{"quay", "tickets"}}, {Role: access.Approver}} {
		if err := r.Fault(snap); err != nil {
			t.Errorf("%+v: %v", r, err)
		}
	}
}

func TestCustomersSeeTheirOwn(t *testing.T) {
	for name, c := range map[string]struct {
		rights   access.Rights
		customer string
		want     bool
	}{
		"their own":           {access.Rights{Role: access.Customer, Customer: "port"}, "port", true},
		"another's":           {access.Rights{Role: access.Customer, Customer: "port"}, "freight", false},
		"an internal target":  {access.Rights{Role: access.Customer, Customer: "port"}, "", false},
		"of no customer":      {access.Rights{Role: access.Customer}, "", false},
		"a viewer":            {access.Rights{Role: access.Viewer}, "", true},
		"a role nobody knows": {access.Rights{Role: "guest", Customer: "port"}, "port", false},
	} {
		if got := c.rights.Promised(agreement("gates", c.customer)); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	if slices.Contains(access.Customer.All(), access.See) {
		t.Error("a customer sees everything")
	}
}
