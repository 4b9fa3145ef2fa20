package clauses

import (
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
)

func TestDoubts(t *testing.T) {
	four := int64(4 * 3600)
	band := func(below, credit string) definition.Credit {
		return definition.Credit{BelowPercent: definition.Percent(below), CreditPercent: definition.Percent(credit)}
	}
	sound := definition.AgreementSpec{TargetPercent: "99.9", MinCoveragePercent: "95", Unmeasured: definition.UnmeasuredExclude,
		Maintenance: &definition.MaintenanceSpec{Mode: definition.MaintenanceExclude, NoticeS: 3600, CapS: &four}, Credits: []definition.Credit{band("99.9", "5"), band("99", "10")},
		Fee: &definition.Fee{Amount: "1.00", Currency: "NOK"}}
	if got := Doubts(sound); len(got) != 0 {
		t.Errorf("a sound one: %q", got)
	}
	for want, change := range map[string]func(*definition.AgreementSpec){
		"allows nothing": func(a *definition.AgreementSpec) {
			a.TargetPercent, a.Credits = "100.000", []definition.Credit{band("100", "5")}
		},
		"without notice: ": func(a *definition.AgreementSpec) {
			a.Maintenance = &definition.MaintenanceSpec{Mode: definition.MaintenanceForgive, CapS: &four}
		},
		"without notice and without a cap": func(a *definition.AgreementSpec) {
			a.Maintenance = &definition.MaintenanceSpec{Mode: definition.MaintenanceExclude}
		},
		"hardly measured can be met":           func(a *definition.AgreementSpec) { a.MinCoveragePercent = "0" },
		"lies above the target":                func(a *definition.AgreementSpec) { a.TargetPercent = "99.5" },
		"Between 99.5 % and 99.9 % the target": func(a *definition.AgreementSpec) { a.Credits = []definition.Credit{band("99.5", "5")} },
		"costs nothing":                        func(a *definition.AgreementSpec) { a.Credits = nil },
		"has no amount":                        func(a *definition.AgreementSpec) { a.Fee = nil },
	} {
		spec := sound
		change(&spec)
		got := Doubts(spec)
		if !slices.ContainsFunc(got, func(s string) bool { return strings.Contains(s, want) }) || len(got) != 1 {
			t.Errorf("%q: %q", want, got)
		}
	}
}
