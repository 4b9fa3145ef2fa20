package catalogue

import (
	"kestite/core/calendar"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/span"
)

// Direction says who owes whom where an agreement is missed; empty for an internal target.
// What is promised to no customer for a service of a supplier was promised by that.
func (s *Snapshot) Direction(spec definition.AgreementSpec) credit.Direction {
	if spec.Customer != "" {
		return credit.ToCustomer
	}
	if e := s.Services[spec.Service]; e != nil && e.Current().Spec.Kind == definition.Supplier {
		return credit.FromSupplier
	}
	return ""
}

// TermsOf are what limits the credits of a contract for a period that starts at an
// instant: those in force then, and before the first that were written down, those.
func (s *Snapshot) TermsOf(contract string, start span.Instant) definition.CreditTerms {
	var terms *definition.CreditTerms
	if e := s.Contracts[contract]; e != nil {
		for _, r := range e.Revisions {
			if terms == nil || r.From <= start {
				terms = r.Spec.Credits
			}
		}
	}
	if terms == nil {
		return definition.CreditTerms{}
	}
	return *terms
}

// Under are the agreements in force that are parts of a contract, in order.
func (s *Snapshot) Under(contract string) []string {
	var out []string
	for _, id := range Live(s.Agreements) {
		if s.Agreements[id].Current().Spec.Contract == contract {
			out = append(out, id)
		}
	}
	return out
}

// Part says which part of a period an agreement promises, where that is not all of
// it: "from 15 Nov", "until 14 Nov", "3 Nov to 14 Nov", in its zone.
func (s *Snapshot) Part(agreement string, p calendar.Period) (string, error) {
	when := p.Span()
	began, err := s.Begins(agreement, when.From)
	if err != nil {
		return "", err
	}
	ends, err := s.ends(agreement, when.From)
	if err != nil {
		return "", err
	}
	date := func(i span.Instant) string { return i.Time().In(p.Location).Format("2 Jan") }
	late, early := began > when.From && began < when.To, ends != nil && *ends > when.From && *ends < when.To
	switch {
	case late && early:
		return date(began) + " to " + date(*ends-1), nil
	case late:
		return "from " + date(began), nil
	case early:
		return "until " + date(*ends-1), nil
	}
	return "", nil
}

// Split are the steps of a change of clauses within a period: the agreement ends the
// day before, and another of the new clauses begins on the day under the same
// contract; where there is none yet, one is made of the agreement's name. Both are
// accounted side by side. at is now; day is a date in the agreement's zone. The
// error is a *definition.Fault, ErrNotFound or ErrRetired.
func (s *Snapshot) Split(id string, revision int, day string, clauses definition.AgreementSpec, at span.Instant) ([]Step, error) {
	e := s.Agreements[id]
	if e == nil {
		return nil, ErrNotFound
	}
	if e.Retired {
		return nil, ErrRetired
	}
	date, err := calendar.ParseDate(day)
	if err != nil {
		return nil, definition.Faultf("from", "%v", err)
	}
	began, err := dayOf(day, e.Current().Spec.Timezone, 0)
	if err != nil {
		return nil, definition.Instead("from", err)
	}
	p, err := s.PeriodAt(id, began)
	if err != nil {
		return nil, err
	}
	when := p.Span()
	ends := s.Accounting(id, when.From).Spec // as it is for the period that the day lies in
	starts, err := s.Begins(id, when.From)
	if err != nil {
		return nil, err
	}
	until, err := s.ends(id, when.From)
	if err != nil {
		return nil, err
	}
	switch {
	case began == when.From:
		return nil, definition.Faultf("from", "%s is the first day of %s; an edit that counts from that period does it, with one account", day,
			p.Words())
	case began <= starts:
		return nil, definition.Faultf("from", "the agreement begins on %s or later; edit it instead", day)
	case until != nil && *until <= began:
		return nil, definition.Faultf("from", "the agreement has ended by %s; write down a new one", day)
	case clauses.Service != ends.Service:
		return nil, definition.Faultf("spec.service", "it stays with its service; write down a new agreement for another")
	case clauses.Timezone != ends.Timezone:
		return nil, definition.Faultf("spec.timezone", "within a period the zone stays %s, or the two accounts would leave a gap or overlap",
			ends.Timezone)
	case clauses.Customer != ends.Customer:
		return nil, definition.Faultf("spec.customer", "it stays with its customer; write down a new agreement for another")
	}
	var steps []Step
	if ends.Contract = e.Current().Spec.Contract; ends.Contract == "" {
		contract := definition.ContractSpec{Name: ends.Name, Customer: ends.Customer}
		ends.Contract = s.FreshID(Contract, contract.Name, nil)
		steps = append(steps, Step{Does: Make, Kind: Contract, ID: ends.Contract, Spec: contract, follows: true})
	}
	ends.Until = date.AddDays(-1).DateString()
	clauses.From, clauses.Contract = day, ends.Contract
	end := Step{Does: Rewrite, Kind: Agreement, ID: id, Expected: revision, Spec: ends}
	if when.From <= at { // it has begun
		end.Corrects = p.Name()
	}
	return append(steps, end, Step{Does: Make, Kind: Agreement, Name: clauses.Name, Spec: clauses}), nil
}
