package clauses

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"kestite/core/definition"
)

// Whatever clause is changed, a sentence changes; and they say all of it.
func TestEveryClauseIsASentence(t *testing.T) {
	const full = `{
		"name": "Gold", "customer": "harbour-office", "service": "sailings", "timezone": "Europe/Oslo", "target_percent": "99.9",
			"contract": "harbour", "from": "2026-01-01", "until": "2027-03-31",
		"period": {"unit": "quarter", "day": 15, "month": 2},
		"degraded_weight_percent": "50", "unmeasured": "down", "min_outage_s": 60, "min_coverage_percent": "95",
		"service_hours": {"timezone": "Europe/Oslo", "weekly": [{"days": ["MO", "TU"], "from": "06:00", "to": "22:00"},
			{"days": ["SA"], "from": "08:00", "to": "24:00"}], "holidays": ["2026-12-25"], "holiday_lists": ["rest", "quiet"]},
		"maintenance": {"mode": "exclude", "notice_s": 172800, "cap_s": 14400,
			"within": {"timezone": "Europe/Oslo", "weekly": [{"days": ["SU"], "from": "01:00", "to": "05:00"}], "holidays": [], "holiday_lists": ["rest"]},
			"emergency": {"notice_s": 900, "cap_s": 3600}},
		"upstream": {"excuse": ["cards", "names"], "lead_s": 30, "linger_s": 120},
		"fee": {"amount": "12500.00", "currency": "NOK"}, "credits": [{"below_percent": "99.9", "credit_percent": "5"}, {"below_percent": "99", "credit_percent": "10"}],
		"latency": {"check": "page", "limit_ms": 800.5, "target_percent": "95"},
		"objectives": {"outages_at_most": 3, "longest_outage_s": 1800, "mttr_s": 900}
	}`
	named := func(kind, id string) string {
		return map[string]string{"service cards": "Card payments", "service names": "Name service",
			"check page": "Sailing page", "customer harbour-office": "Harbour office", "contract harbour": "Harbour 2026",
			"holiday-list rest": "Rest days", "holiday-list quiet": "Quiet days"}[kind+" "+id]
	}
	read := func(text string) (a definition.AgreementSpec) {
		t.Helper()
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			t.Fatal(err)
		}
		return a
	}
	spec := read(full)
	if err := spec.Validate(); err != nil {
		t.Fatal(err)
	}
	whole := strings.Join(Sentences(spec, named), "\n")
	for _, want := range []string{
		"Promised to Harbour office: available 99.9 % of each quarter, counted from day 15 of February (Europe/Oslo), on Monday and Tuesday from 06:00 to 22:00, on Saturday from 08:00 to 24:00 (Europe/Oslo), except on the days of Rest days, the days of Quiet days and 2026-12-25.",
		"It is a part of the contract Harbour 2026.", "The promise begins with 1 January 2026.", "The promise ends with 31 March 2027.",
		"Degraded time counts as downtime to 50 %.",
		"Time that was not measured counts as downtime.",
		"Announced maintenance is taken out of the base, if announced 2 d before, if it lies on Sunday from 01:00 to 05:00 (Europe/Oslo), except on the days of Rest days, up to 4 h a quarter.",
		"Emergency work is taken out of the base, if announced 15 min before, up to 1 h a quarter.",
		"Outages shorter than 1 min are tolerated.",
		"Downtime while one of Card payments and Name service is down, or within 30 s before, or within 2 min after, does not count.",
		"Below a coverage of 95 % there is no verdict.", "Where it is missed, the credit is 5 % below 99.9 % and 10 % below 99 %.",
		"The fee is 12500.00 NOK a quarter.",
		"Beside that: 95 % of the answers to Sailing page come within 800.5 ms.",
		"Beside that, and without effect on the verdict: at most 3 outages a quarter, none longer than 30 min and restored within 15 min on average.",
	} {
		if !strings.Contains(whole, want) {
			t.Errorf("it does not say %q:\n%s", want, whole)
		}
	}
	var tree any
	if err := json.Unmarshal([]byte(full), &tree); err != nil {
		t.Fatal(err)
	}
	changed := 0
	each(tree, func(path string) {
		if path == "name" || path == "service" { // the report's title says those
			return
		}
		text, err := json.Marshal(tree)
		if err != nil {
			t.Fatal(err)
		}
		changed++
		if strings.Join(Sentences(read(string(text)), named), "\n") == whole {
			t.Errorf("%s was changed, and no sentence is another", path)
		}
	})
	if changed < 35 {
		t.Errorf("only %d clauses were changed", changed)
	}
}

// What is accounted at a time is said as it is meant.
func TestCyclesInWords(t *testing.T) {
	for want, c := range map[string]*definition.Cycle{
		"calendar month":                     nil,
		"month from day 15 on":               {Unit: "month", Day: 15},
		"month from the last day on":         {Unit: "month", Day: -1},
		"week from Sunday on":                {Unit: "week", Weekday: "SU"},
		"week from Monday on":                {Unit: "week"},
		"calendar quarter":                   {Unit: "quarter", Month: 1},
		"half-year, counted from April":      {Unit: "half-year", Month: 4},
		"calendar year":                      {Unit: "year"},
		"year from day 6 of April on":        {Unit: "year", Month: 4, Day: 6},
		"year from the last day of March on": {Unit: "year", Month: 3, Day: -1},
	} {
		if got := cycleWords(c); got != want {
			t.Errorf("%+v is %q, not %q", c, got, want)
		}
	}
}

// each changes one leaf of a JSON value after the other, calls f, and undoes it.
func each(v any, f func(path string)) {
	var walk func(v any, path string, set func(any))
	walk = func(v any, path string, set func(any)) {
		switch x := v.(type) {
		case map[string]any:
			for k, child := range x {
				walk(child, strings.TrimPrefix(path+"."+k, "."), func(n any) { x[k] = n })
			}
		case []any:
			for i, child := range x {
				walk(child, path, func(n any) { x[i] = n })
			}
		default:
			other := map[string]any{"exclude": "forgive", "down": "up", "MO": "WE", "TU": "WE", "SA": "FR", "SU": "FR",
				"cards": "names", "names": "cards", "NOK": "SEK", "quarter": "year", "2027-03-31": "2027-03-30", "harbour": "pier", "rest": "peace", "quiet": "peace"}
			switch was := v.(type) {
			case string:
				if n, known := other[was]; known {
					set(n)
				} else {
					set(strings.Map(func(r rune) rune {
						if r == '9' || r == '5' {
							return r - 1
						}
						return r
					}, strings.NewReplacer("Oslo", "Paris", "10", "20", "ffice", "uay", "page", "name", "06", "07", "08", "07",
						"22", "21", "24", "23", "01", "02").Replace(was)))
				}
			case float64:
				set(was * 2)
			}
			f(path)
			set(v)
		}
	}
	walk(v, "", func(any) {})
}

// Whatever limit of a contract is changed, a sentence changes.
func TestEveryTermIsASentence(t *testing.T) {
	terms := definition.CreditTerms{PeriodPercent: "20", YearAmount: "50000.00", Currency: "NOK", YearStarts: "04-01", ClaimDays: 30}
	want := []string{"The credits of a period are at most 20 % of the fees of the contract for it.",
		"The credits of a contract year, from 1 April on, are at most 50000.00 NOK.", "A credit is claimed within 30 days of its report."}
	if got := Terms(terms); !slices.Equal(got, want) {
		t.Errorf("got %q", got)
	}
	whole := strings.Join(want, " ")
	for name, change := range map[string]func(*definition.CreditTerms){
		"period": func(t *definition.CreditTerms) { t.PeriodPercent = "21" }, "year": func(t *definition.CreditTerms) { t.YearAmount = "1.00" },
		"currency": func(t *definition.CreditTerms) { t.Currency = "SEK" }, "starts": func(t *definition.CreditTerms) { t.YearStarts = "01-01" },
		"days": func(t *definition.CreditTerms) { t.ClaimDays = 0 },
	} {
		other := terms
		change(&other)
		if strings.Join(Terms(other), " ") == whole {
			t.Errorf("%s was changed, and no sentence is another", name)
		}
	}
	if got := Terms(definition.CreditTerms{}); len(got) != 0 {
		t.Errorf("no terms say %q", got)
	}
}
