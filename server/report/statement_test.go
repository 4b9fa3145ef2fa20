package report

import (
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/span"
)

// Nothing in a document steers or hides: not even what was stored before names were looked at.
func TestDocumentsShowWhatTheySay(t *testing.T) {
	for in, want := range map[string]string{
		"Ticket sales": "Ticket sales", "two\nlines": "two\nlines", "red \x1b[31m": "red \ufffd[31m",
		"turned \u202eround": "turned \ufffdround", "zero\u200bwidth": "zero\ufffdwidth",
	} {
		if got := seen(in); got != want {
			t.Errorf("%q: %q", in, got)
		}
	}
}

// Months in which the clocks change say on which day, and how long it is.
func TestStatementNamesDaysThatAreNot24Hours(t *testing.T) {
	for period, want := range map[[2]string]string{
		{"2026-02-28T23:00:00Z", "2026-03-31T22:00:00Z"}: "29 March 2026 (Europe/Oslo): that day is 23 h long",
		{"2026-09-30T22:00:00Z", "2026-10-31T23:00:00Z"}: "25 October 2026 (Europe/Oslo): that day is 25 h long",
		{"2026-10-31T23:00:00Z", "2026-11-30T23:00:00Z"}: "",
	} {
		from, _ := time.Parse(time.RFC3339, period[0])
		to, _ := time.Parse(time.RFC3339, period[1])
		s := StatementOf(Content{Timezone: "Europe/Oslo", DegradedWeight: "50", Unmeasured: "down", Account: account.Account{From: span.Of(from), To: span.Of(to)}})
		text := strings.Join(s.Notes, "\n")
		if !strings.Contains(text, want) || (want == "") == strings.Contains(text, "clocks") {
			t.Errorf("%v: %s", period, text)
		}
		if !strings.Contains(text, "Downtime is down + 50 % of degraded + unmeasured; the base is agreed time − upstream − excused.") {
			t.Errorf("%s", text)
		}
	}
}
