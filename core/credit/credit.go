// Package credit is the ledger of credits: what is owed for targets that were missed, what
// caps leave of it, what was claimed and paid. It stands beside the accounts and never
// changes one: they say how much percent, the fee says of what.
package credit

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/core/money"
	"kestite/core/span"
)

// Direction says who owes whom.
type Direction string

// The directions.
const (
	ToCustomer   Direction = "to-customer"   // we promised, and owe
	FromSupplier Direction = "from-supplier" // a supplier promised, and owes us
)

// Owed is what a report says of the credit for its period.
type Owed struct {
	Direction Direction `json:"direction" enum:"to-customer,from-supplier"`
	Currency  string    `json:"currency"`
	Fee       string    `json:"fee"`
	Percent   string    `json:"percent" doc:"Of the fee, as the account says"`
	Amount    string    `json:"amount" doc:"Rounded half up, once; caps of the contract are not taken off it"`
}

// Of is the credit that an account owes; nil where no fee was agreed.
func Of(fee *definition.Fee, direction Direction, a *account.Account) (*Owed, error) {
	if fee == nil {
		return nil, nil
	}
	minor, err := money.Parse(fee.Amount, fee.Currency)
	if err != nil {
		return nil, err
	}
	percent, err := definition.ParsePercent(a.CreditPercent)
	if err != nil {
		return nil, err
	}
	return &Owed{direction, fee.Currency, money.Write(minor, fee.Currency), a.CreditPercent, money.Write(money.Share(minor, percent.Rat()), fee.Currency)}, nil
}

// Account is what was published of an agreement and period, by its latest revision.
type Account struct {
	Agreement, Period, Report string
	Contract                  string // empty: it stands by itself
	Terms                     definition.CreditTerms
	During                    span.Span
	Zone                      *time.Location
	PublishedAt               span.Instant
	Says                      Owed // the report
}

// Kind is what happened to a credit.
type Kind string

// The kinds of entries.
const (
	Claim   Kind = "claim"   // whoever is owed asked for it
	Payment Kind = "payment" // it was paid, or set off against a bill
	Waiver  Kind = "waiver"  // whoever is owed gave it up
)

// Entry is something that happened to a credit.
type Entry struct {
	ID        int64
	Agreement string
	Period    string
	Kind      Kind
	Minor     int64
	On        string // day, 2006-01-02
	Reference string
	Note      string
	By        string
	At        span.Instant
	// TakenBack says that it was entered wrongly: it is shown and counts no more.
	TakenBack bool
}

// State is how a credit stands.
type State string

// The states.
const (
	Nothing State = "nothing" // nothing is left to be paid, and nothing was
	Due     State = "due"     // it was not claimed yet, and can be
	Lapsed  State = "lapsed"  // it was not claimed in time
	Claimed State = "claimed" // it was claimed, and is not paid in full
	Paid    State = "paid"    // what was due was paid or waived
)

// Line is the credit of an agreement and period. All amounts are minor units:
// Due = Owed - Capped + Carried and Open = Due - Paid - Waived; where that is
// below zero, the next line of the agreement carries it.
type Line struct {
	Account
	Fee     int64
	Owed    int64
	Capped  int64
	Why     string // which cap took it; empty: none
	Carried int64  // 0 or below: what was paid too much before
	Due     int64
	Claimed int64
	Paid    int64
	Waived  int64
	Open    int64
	Until   string // last day to claim; empty: there is none
	State   State
	Entries []Entry
}

// Ledger is the lines of all credits, by the end of their periods. Caps take from the
// later credit: each gets what those before it have left of the cap, in the order of the
// periods' ends and then of the agreements' ids. today is a day, 2006-01-02.
func Ledger(accounts []Account, entries []Entry, today string) ([]Line, error) {
	of := map[[2]string][]Entry{}
	for _, e := range entries {
		key := [2]string{e.Agreement, e.Period}
		of[key] = append(of[key], e)
	}
	list := slices.Clone(accounts)
	slices.SortFunc(list, func(a, b Account) int {
		return cmp.Or(cmp.Compare(a.During.To, b.During.To), cmp.Compare(a.Agreement, b.Agreement), cmp.Compare(a.Period, b.Period))
	})
	caps := newCaps(list)
	carried := map[[2]string]int64{} // by agreement and currency
	out := []Line{}
	for _, a := range list {
		l, err := caps.line(a)
		if err != nil {
			return nil, fmt.Errorf("the credit of %s for %s: %w", a.Agreement, a.Period, err)
		}
		key := [2]string{a.Agreement, a.Says.Currency}
		l.Carried = max(carried[key], -(l.Owed - l.Capped))
		l.Due = l.Owed - l.Capped + l.Carried
		l.Entries = of[[2]string{a.Agreement, a.Period}]
		l.settle(today)
		carried[key] -= l.Carried
		if l.Open < 0 {
			carried[key] += l.Open
		}
		out = append(out, l)
	}
	return out, nil
}

// settle counts what happened to a line.
func (l *Line) settle(today string) {
	for _, e := range l.Entries {
		if e.TakenBack {
			continue
		}
		switch e.Kind {
		case Claim:
			l.Claimed += e.Minor
		case Payment:
			l.Paid += e.Minor
		case Waiver:
			l.Waived += e.Minor
		}
	}
	l.Open = l.Due - l.Paid - l.Waived
	if days := l.Terms.ClaimDays; days > 0 {
		l.Until = time.UnixMilli(int64(l.PublishedAt)).In(l.Zone).AddDate(0, 0, days).Format(time.DateOnly)
	}
	switch {
	case l.Due == 0 && l.Paid == 0 && l.Waived == 0:
		l.State = Nothing
	case l.Open <= 0:
		l.State = Paid
	case l.Claimed > 0 || l.Paid > 0:
		l.State = Claimed
	case l.Until != "" && today > l.Until:
		l.State = Lapsed
	default:
		l.State = Due
	}
}

// caps is what is left of the caps of contracts.
type caps struct {
	fees   map[[3]string]int64  // by contract, period and currency
	period map[[3]string]int64  // used
	owed   map[[2]string][]owed // by contract and currency, in the order of the ends
}

// owed is what is due of a period, whatever limits were agreed then.
type owed struct {
	last span.Instant // of the period
	due  int64
}

func newCaps(list []Account) *caps {
	c := &caps{map[[3]string]int64{}, map[[3]string]int64{}, map[[2]string][]owed{}}
	for _, a := range list {
		if fee, err := money.Parse(a.Says.Fee, a.Says.Currency); err == nil {
			c.fees[a.group()] += fee
		}
	}
	return c
}

// group is what one cap on a period is for; an agreement by itself has its own.
func (a Account) group() [3]string {
	return [3]string{a.together(), a.Period, a.Says.Currency}
}

// together is what caps are for: its contract, or itself.
func (a Account) together() string { return cmp.Or(a.Contract, "agreement "+a.Agreement) }

// yearBegan is when the contract year began in which the period ends.
func (a Account) yearBegan() (span.Instant, error) {
	month, day := time.January, 1
	if s := a.Terms.YearStarts; s != "" {
		t, err := time.Parse(definition.MonthDay, s)
		if err != nil {
			return 0, err
		}
		month, day = t.Month(), t.Day()
	}
	last := a.During.To - 1
	year := time.UnixMilli(int64(last)).In(a.Zone).Year()
	if began := calendar.Date(year, month, day).Instant(a.Zone, calendar.Shift); began <= last {
		return began, nil
	}
	return calendar.Date(year-1, month, day).Instant(a.Zone, calendar.Shift), nil
}

// line is the credit of an account with what caps take of it.
func (c *caps) line(a Account) (Line, error) {
	l := Line{Account: a}
	var err error
	if l.Fee, err = money.Parse(a.Says.Fee, a.Says.Currency); err != nil {
		return l, err
	}
	if l.Owed, err = money.Parse(a.Says.Amount, a.Says.Currency); err != nil {
		return l, err
	}
	due := l.Owed
	limit := func(used, most int64, why string) {
		if left := max(0, most-used); due > left {
			due, l.Why = left, why
		}
	}
	group := a.group()
	if p := a.Terms.PeriodPercent; p != "" {
		limit(c.period[group], money.AtMost(c.fees[group], p.Rat()), fmt.Sprintf("at most %s %% of the fees of a period", p))
	}
	together := [2]string{a.together(), a.Says.Currency}
	if most := a.Terms.YearAmount; most != "" {
		began, err := a.yearBegan()
		if err != nil {
			return l, err
		}
		minor, err := money.Parse(most, a.Says.Currency)
		if err != nil {
			return l, err
		}
		used := int64(0)
		for _, o := range c.owed[together] {
			if o.last >= began {
				used += o.due
			}
		}
		limit(used, minor, fmt.Sprintf("at most %s in a contract year", money.Words(minor, a.Says.Currency)))
	}
	c.period[group] += due
	c.owed[together] = append(c.owed[together], owed{a.During.To - 1, due})
	l.Capped = l.Owed - due
	return l, nil
}

// Admits says why an entry cannot be made on a line; nil where it can. The error is a
// *definition.Fault.
func (l Line) Admits(e Entry, today string) error {
	if _, err := calendar.ParseDate(e.On); err != nil {
		return definition.Faultf("on", "%v", err)
	}
	say := func(minor int64) string { return money.Words(minor, l.Says.Currency) }
	switch {
	case e.On > today:
		return definition.Faultf("on", "%s is not there yet; enter what has happened", e.On)
	case e.Minor <= 0:
		return definition.Faultf("amount", "an amount is more than nothing")
	}
	switch e.Kind {
	case Claim:
		if l.Until != "" && e.On > l.Until {
			return definition.Faultf("on", "the time to claim ended with %s; where it is paid all the same, enter the payment and why", l.Until)
		}
		if left := l.Due - l.Claimed; e.Minor > left {
			return definition.Faultf("amount", "%s is more than can be claimed: %s", say(e.Minor), say(max(0, left)))
		}
	case Payment, Waiver:
		if e.Minor > l.Open {
			return definition.Faultf("amount", "%s is more than is open: %s", say(e.Minor), say(max(0, l.Open)))
		}
		if l.State == Lapsed && e.Note == "" {
			return definition.Faultf("note", "it was not claimed in time; say why it is settled all the same")
		}
	default:
		return definition.Faultf("kind", "%q is none of claim, payment and waiver", e.Kind)
	}
	return nil
}
