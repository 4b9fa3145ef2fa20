package cli

import (
	"os"
	"strings"
	"testing"
)

// The worked examples of docs/accounting.md are what the program computes.
func TestWorkedExamples(t *testing.T) {
	text, err := os.ReadFile("../../../docs/accounting.md")
	if err != nil {
		t.Fatal(err)
	}
	sections := strings.Split(string(text), "\n## Example ")
	if len(sections) != 5 {
		t.Fatalf("%d examples", len(sections)-1)
	}
	for i, c := range []struct {
		dir     string
		figures map[string]string // column of the account: as the text writes it
	}{
		{"one-outage", map[string]string{"base_ms": "86,400,000 ms", "downtime_ms": "480,000 ms", "availability_percent": "**99.4444 %**", "allowance_ms": "432,000 ms", "allowance_left_ms": "−48,000 ms",
			"availability_low_percent": "99.3055 %", "availability_high_percent": "99.5833 %", "verdict": "**missed**", "outages": "1"}},
		{"a-week-with-windows", map[string]string{"base_ms": "289,800,000 ms", "downtime_ms": "1,800,000 ms", "availability_percent": "**99.3788 %**", "availability_low_percent": "99.2753 %",
			"availability_high_percent": "99.4824 %", "allowance_ms": "2,898,000 ms", "allowance_left_ms": "1,098,000 ms", "verdict": "**met**", "credit_percent": "0"}},
		{"a-month-in-progress", map[string]string{"base_ms": "1,674,960,000 ms", "downtime_ms": "1,260,000 ms", "availability_percent": "**99.9247 %**", "availability_low_percent": "99.8531 %",
			"availability_high_percent": "99.9606 %", "coverage_percent": "99.4124 %", "allowance_ms": "2,578,560 ms", "allowance_left_ms": "1,318,560 ms", "verdict": "**on track**"}},
		{"a-line-that-stutters", map[string]string{"base_ms": "86,400,000 ms", "downtime_ms": "520,000 ms", "availability_percent": "**99.3981 %**", "availability_low_percent": "98.3796 %",
			"availability_high_percent": "100.0000 %", "allowance_ms": "432,000 ms", "allowance_left_ms": "−88,000 ms", "outages": "6", "verdict": "**missed**"}},
	} {
		out, _, err := runAccount(t, nil, "../../../docs/examples/"+c.dir, "--format", "table")
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]string{}
		for _, line := range strings.Split(out, "\n") {
			if f := strings.Fields(line); len(f) == 2 {
				got[f[0]] = f[1]
			}
		}
		for column, written := range c.figures {
			if !strings.Contains(sections[i+1], written) {
				t.Errorf("example %d does not say %s", i+1, written)
			}
			plain := strings.NewReplacer("*", "", ",", "", " ms", "", " %", "", "−", "-", " ", "-").Replace(written)
			if got[column] != plain {
				t.Errorf("example %d: %s is %s, the text says %s", i+1, column, got[column], plain)
			}
		}
	}
}
