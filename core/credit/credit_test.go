package credit

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/money"
	"kestite/core/span"
)

// month is the account of an agreement for a month of 2026.
func month(agreement, contract string, m time.Month, fee, owed string, terms definition.CreditTerms) Account {
	from := time.Date(2026, m, 1, 0, 0, 0, 0, time.UTC)
	return Account{Agreement: agreement, Contract: contract, Period: from.Format("2006-01"), Terms: terms, Zone: time.UTC,
		During: span.Span{From: span.Of(from), To: span.Of(from.AddDate(0, 1, 0))}, PublishedAt: span.Of(from.AddDate(0, 1, 2)),
		Says: Owed{Direction: ToCustomer, Currency: "NOK", Fee: fee, Percent: "10", Amount: owed}}
}

func entry(agreement, period string, kind Kind, minor int64) Entry {
	return Entry{Agreement: agreement, Period: period, Kind: kind, Minor: minor, On: "2026-06-01"}
}

// written are lines as "agreement period owed-capped+carried=due paid open state".
func written(lines []Line) string {
	var out []string
	for _, l := range lines {
		out = append(out, fmt.Sprintf("%s %s %d-%d%+d=%d %d %d %s", l.Agreement, l.Period, l.Owed, l.Capped, l.Carried, l.Due, l.Paid+l.Waived, l.Open, l.State))
	}
	return strings.Join(out, "; ")
}

func TestTheLedger(t *testing.T) {
	none := definition.CreditTerms{}
	capped := definition.CreditTerms{PeriodPercent: "15"}
	yearly := definition.CreditTerms{YearAmount: "25.00", Currency: "NOK", YearStarts: "04-01"}
	claims := definition.CreditTerms{ClaimDays: 30}
	takenBack := entry("a", "2026-05", Payment, 900)
	takenBack.TakenBack = true
	for name, of := range map[string]struct {
		accounts []Account
		entries  []Entry
		today    string
		want     string
	}{
		"nothing owed":        {accounts: []Account{month("a", "", 5, "100.00", "0.00", none)}, want: "a 2026-05 0-0+0=0 0 0 nothing"},
		"owed":                {accounts: []Account{month("a", "", 5, "100.00", "10.00", none)}, want: "a 2026-05 1000-0+0=1000 0 1000 due"},
		"claimed":             {accounts: []Account{month("a", "", 5, "100.00", "10.00", none)}, entries: []Entry{entry("a", "2026-05", Claim, 1000)}, want: "a 2026-05 1000-0+0=1000 0 1000 claimed"},
		"paid in part":        {accounts: []Account{month("a", "", 5, "100.00", "10.00", none)}, entries: []Entry{entry("a", "2026-05", Payment, 400)}, want: "a 2026-05 1000-0+0=1000 400 600 claimed"},
		"paid and waived":     {accounts: []Account{month("a", "", 5, "100.00", "10.00", none)}, entries: []Entry{entry("a", "2026-05", Payment, 400), entry("a", "2026-05", Waiver, 600)}, want: "a 2026-05 1000-0+0=1000 1000 0 paid"},
		"taken back":          {accounts: []Account{month("a", "", 5, "100.00", "10.00", none)}, entries: []Entry{takenBack}, want: "a 2026-05 1000-0+0=1000 0 1000 due"},
		"the last day":        {accounts: []Account{month("a", "", 5, "100.00", "10.00", claims)}, today: "2026-07-03", want: "a 2026-05 1000-0+0=1000 0 1000 due"},
		"a day too late":      {accounts: []Account{month("a", "", 5, "100.00", "10.00", claims)}, today: "2026-07-04", want: "a 2026-05 1000-0+0=1000 0 1000 lapsed"},
		"claimed before that": {accounts: []Account{month("a", "", 5, "100.00", "10.00", claims)}, entries: []Entry{entry("a", "2026-05", Claim, 1)}, today: "2026-07-04", want: "a 2026-05 1000-0+0=1000 0 1000 claimed"},
		"a cap of the period, by the order of ids": {accounts: []Account{month("b", "c", 5, "100.00", "20.00", capped), month("a", "c", 5, "100.00", "20.00", capped)},
			want: "a 2026-05 2000-0+0=2000 0 2000 due; b 2026-05 2000-1000+0=1000 0 1000 due"},
		"caps of periods are apart": {accounts: []Account{month("a", "c", 5, "100.00", "20.00", capped), month("a", "c", 6, "100.00", "20.00", capped)},
			want: "a 2026-05 2000-500+0=1500 0 1500 due; a 2026-06 2000-500+0=1500 0 1500 due"},
		"contracts are apart": {accounts: []Account{month("a", "c", 5, "100.00", "20.00", capped), month("b", "d", 5, "100.00", "10.00", capped)},
			want: "a 2026-05 2000-500+0=1500 0 1500 due; b 2026-05 1000-0+0=1000 0 1000 due"},
		"a contract year, which starts anew": {accounts: []Account{month("a", "c", 2, "100.00", "20.00", yearly), month("a", "c", 3, "100.00", "20.00", yearly), month("a", "c", 4, "100.00", "20.00", yearly)},
			want: "a 2026-02 2000-0+0=2000 0 2000 due; a 2026-03 2000-1500+0=500 0 500 due; a 2026-04 2000-0+0=2000 0 2000 due"},
		"a year's limit agreed on within the year counts what came before it": {accounts: []Account{month("a", "c", 4, "100.00", "20.00", none), month("a", "c", 5, "100.00", "10.00", yearly)},
			want: "a 2026-04 2000-0+0=2000 0 2000 due; a 2026-05 1000-500+0=500 0 500 due"},
		"and takes nothing of what was more already": {accounts: []Account{month("a", "c", 4, "100.00", "40.00", none), month("a", "c", 5, "100.00", "10.00", yearly)},
			want: "a 2026-04 4000-0+0=4000 0 4000 due; a 2026-05 1000-1000+0=0 0 0 nothing"},
		"a revision owes less than was paid: the next carry it": {accounts: []Account{month("a", "", 5, "100.00", "2.00", none), month("a", "", 6, "100.00", "5.00", none), month("a", "", 7, "100.00", "9.00", none)},
			entries: []Entry{entry("a", "2026-05", Payment, 1000)},
			want:    "a 2026-05 200-0+0=200 1000 -800 paid; a 2026-06 500-0-500=0 0 0 nothing; a 2026-07 900-0-300=600 0 600 due"},
		"another currency carries nothing": {accounts: []Account{month("a", "", 5, "100.00", "2.00", none), func() Account {
			a := month("a", "", 6, "100.00", "5.00", none)
			a.Says.Currency = "SEK"
			return a
		}()}, entries: []Entry{entry("a", "2026-05", Payment, 1000)}, want: "a 2026-05 200-0+0=200 1000 -800 paid; a 2026-06 500-0+0=500 0 500 due"},
	} {
		if of.today == "" {
			of.today = "2026-08-01"
		}
		lines, err := Ledger(of.accounts, of.entries, of.today)
		if got := written(lines); err != nil || got != of.want {
			t.Errorf("%s: got %q, %v, want %q", name, got, err, of.want)
		}
	}
}

// Whatever is owed and paid: what is printed adds up, no cap is exceeded, and no money is
// made or lost between the lines.
func TestLedgersAddUp(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 7))
		terms := definition.CreditTerms{PeriodPercent: definition.Percent(fmt.Sprint(r.IntN(30))), YearAmount: fmt.Sprintf("%d.%02d", r.IntN(60), r.IntN(100)), Currency: "NOK",
			YearStarts: fmt.Sprintf("%02d-01", 1+r.IntN(12))}
		var accounts []Account
		var entries []Entry
		for m := time.January; m <= time.December; m++ {
			for _, a := range []string{"a", "b", "c"} {
				accounts = append(accounts, month(a, "k", m, "100.00", fmt.Sprintf("%d.%02d", r.IntN(30), r.IntN(100)), terms))
				if r.IntN(3) == 0 {
					entries = append(entries, entry(a, fmt.Sprintf("2026-%02d", m), []Kind{Claim, Payment, Waiver}[r.IntN(3)], 1+r.Int64N(2500)))
				}
			}
		}
		r.Shuffle(len(accounts), func(i, k int) { accounts[i], accounts[k] = accounts[k], accounts[i] })
		lines, err := Ledger(accounts, entries, "2027-01-15")
		if err != nil {
			t.Fatal(err)
		}
		period, open, carried, excess := map[string]int64{}, int64(0), int64(0), int64(0)
		var owed, settled, capped int64
		for i, l := range lines {
			if l.Owed-l.Capped+l.Carried != l.Due || l.Due-l.Paid-l.Waived != l.Open || l.Due < 0 || l.Capped < 0 || l.Carried > 0 {
				t.Fatalf("seed %d: it does not add up: %s", seed, written(lines[i:i+1]))
			}
			if (l.Capped > 0) != (l.Why != "") {
				t.Fatalf("seed %d: capped %d, and why is %q", seed, l.Capped, l.Why)
			}
			period[l.Period] += l.Owed - l.Capped
			owed, settled, capped, open, carried = owed+l.Owed, settled+l.Paid+l.Waived, capped+l.Capped, open+l.Open, carried+l.Carried
			excess += min(0, l.Open)
		}
		for p, sum := range period {
			if most := money.AtMost(30000, terms.PeriodPercent.Rat()); sum > most {
				t.Fatalf("seed %d: %d are due for %s, the cap is %d", seed, sum, p, most)
			}
		}
		if owed-capped+carried-settled != open || carried < excess {
			t.Fatalf("seed %d: %d owed, %d capped, %d carried, %d settled, %d open, %d too much", seed, owed, capped, carried, settled, open, excess)
		}
	}
}

func TestWhatCanBeEntered(t *testing.T) {
	lines, err := Ledger([]Account{month("a", "", 5, "100.00", "10.00", definition.CreditTerms{ClaimDays: 30})}, []Entry{entry("a", "2026-05", Claim, 600)}, "2026-06-10")
	if err != nil {
		t.Fatal(err)
	}
	line := lines[0]
	late := line
	late.State = Lapsed
	for name, of := range map[string]struct {
		line  Line
		entry Entry
		path  string
	}{
		"the rest":             {line, Entry{Kind: Claim, Minor: 400, On: "2026-06-10"}, ""},
		"more than the rest":   {line, Entry{Kind: Claim, Minor: 401, On: "2026-06-10"}, "amount"},
		"paid":                 {line, Entry{Kind: Payment, Minor: 1000, On: "2026-06-10"}, ""},
		"paid too much":        {line, Entry{Kind: Payment, Minor: 1001, On: "2026-06-10"}, "amount"},
		"nothing":              {line, Entry{Kind: Payment, Minor: 0, On: "2026-06-10"}, "amount"},
		"tomorrow":             {line, Entry{Kind: Payment, Minor: 1, On: "2026-06-11"}, "on"},
		"no day":               {line, Entry{Kind: Payment, Minor: 1, On: "2026-02-30"}, "on"},
		"claimed too late":     {late, Entry{Kind: Claim, Minor: 1, On: "2026-07-04"}, "on"},
		"goodwill":             {late, Entry{Kind: Payment, Minor: 1, On: "2026-06-10", Note: "Agreed by telephone"}, ""},
		"goodwill without why": {late, Entry{Kind: Payment, Minor: 1, On: "2026-06-10"}, "note"},
		"something else":       {line, Entry{Kind: "gift", Minor: 1, On: "2026-06-10"}, "kind"},
	} {
		today := "2026-06-10"
		if name == "claimed too late" {
			today = "2026-07-05"
		}
		err := of.line.Admits(of.entry, today)
		var fault *definition.Fault
		if (err == nil) != (of.path == "") || err != nil && (!errors.As(err, &fault) || fault.Path != of.path) {
			t.Errorf("%s: got %v, want it at %q", name, err, of.path)
		}
	}
}

func TestWhatAReportOwes(t *testing.T) {
	fee := &definition.Fee{Amount: "333.33", Currency: "NOK"}
	got, err := Of(fee, FromSupplier, &account.Account{CreditPercent: "12.5"})
	if want := (Owed{FromSupplier, "NOK", "333.33", "12.5", "41.67"}); err != nil || *got != want {
		t.Errorf("got %+v, %v", got, err)
	}
	if got, err := Of(nil, "", &account.Account{CreditPercent: "5"}); got != nil || err != nil {
		t.Errorf("no fee owes %+v, %v", got, err)
	}
}
