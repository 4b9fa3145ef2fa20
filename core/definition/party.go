package definition

import (
	"fmt"
	"slices"
	"time"

	"kestite/core/calendar"
	"kestite/core/money"
)

// TeamSpec is people who own services together.
type TeamSpec struct {
	Name       string `json:"name" minLength:"1" maxLength:"120"`
	NoticePlan string `json:"notice_plan,omitempty" maxLength:"120" doc:"Id of the notice plan that incidents of its services follow"`
	Note       string `json:"note,omitempty" maxLength:"2000"`
}

// CustomerSpec is who was promised something.
type CustomerSpec struct {
	Name           string          `json:"name" minLength:"1" maxLength:"120"`
	ReportApproval bool            `json:"report_approval,omitempty" doc:"Its reports are approved by a second person before they are published"`
	ObjectionDays  int             `json:"objection_days,omitempty" minimum:"0" maximum:"3650" doc:"It may object to a report for so many days from its publication; 0: without end"`
	Schedule       *ReportSchedule `json:"schedule,omitempty" doc:"When its reports are drafted; absent: when somebody does"`
	Tell           []Recipient     `json:"tell,omitempty" maxItems:"20" doc:"Who is sent its reports when they are published: people, and shared contact methods"`
	Attach         bool            `json:"attach,omitempty" doc:"What is sent by mail has the report with it as PDF"`
	Contacts       []PersonOf      `json:"contacts,omitempty" maxItems:"50" doc:"Whom to talk to there"`
	Layout         string          `json:"layout,omitempty" maxLength:"120" doc:"Id of the layout of its reports; a contract's goes before it"`
	Logo           string          `json:"logo,omitempty" maxLength:"64" doc:"Its logo beside the publisher's, by the SHA-256 that uploading it gave"`
	Note           string          `json:"note,omitempty" maxLength:"2000"`
}

// LogoDigests are the logos that it names.
func (c CustomerSpec) LogoDigests() []string { return digests(c.Logo) }

// ContractSpec is what was promised together: agreements that are reported together,
// all with one customer.
type ContractSpec struct {
	Name     string       `json:"name" minLength:"1" maxLength:"120"`
	Customer string       `json:"customer,omitempty" maxLength:"120" doc:"Id of the customer it is with; empty: internal, or with a supplier"`
	Credits  *CreditTerms `json:"credits,omitempty" doc:"What limits the credits of its agreements; absent: nothing"`
	Layout   string       `json:"layout,omitempty" maxLength:"120" doc:"Id of the layout of its reports; empty: the customer's"`
	Note     string       `json:"note,omitempty" maxLength:"2000"`
}

// MonthDay is how a day of every year is written.
const MonthDay = "01-02"

// CreditTerms limit the credits of a contract. The zero value limits nothing.
type CreditTerms struct {
	PeriodPercent Percent `json:"period_percent,omitempty" doc:"Most of the credits of a period, in percent of the fees of its agreements for it; absent: no limit"`
	YearAmount    string  `json:"year_amount,omitempty" maxLength:"20" doc:"Most of the credits of a contract year, 12500.00; absent: no limit"`
	Currency      string  `json:"currency,omitempty" maxLength:"3" doc:"Of year_amount, and then of all its fees, ISO 4217"`
	YearStarts    string  `json:"year_starts,omitempty" maxLength:"5" doc:"Day on which contract years start, 01-02; absent: 1 January"`
	ClaimDays     int     `json:"claim_days,omitempty" minimum:"0" maximum:"3650" doc:"A credit is claimed within so many days of its report; 0: no limit"`
}

// Validate of the terms of a contract.
func (t *CreditTerms) Validate() error {
	if t == nil {
		return nil
	}
	if t.PeriodPercent != "" {
		if _, err := ParsePercent(string(t.PeriodPercent)); err != nil {
			return fault("period_percent", "%v", err)
		}
	}
	if t.YearAmount != "" {
		if err := money.Known(t.Currency); err != nil {
			return fault("currency", "%v", err)
		}
		if _, err := money.Parse(t.YearAmount, t.Currency); err != nil {
			return fault("year_amount", "%v", err)
		}
	}
	if t.YearStarts != "" {
		if _, err := time.Parse(MonthDay, t.YearStarts); err != nil {
			return fault("year_starts", "%q is no day of a year; write month and day as 04-01", t.YearStarts)
		}
	}
	if t.ClaimDays < 0 || t.ClaimDays > 3650 {
		return fault("claim_days", "%d is not allowed; it lies between 0 and 3650", t.ClaimDays)
	}
	return nil
}

// Fee is what an agreement costs for each of its periods.
type Fee struct {
	Amount   string `json:"amount" maxLength:"20" doc:"12500.00, without taxes"`
	Currency string `json:"currency" minLength:"3" maxLength:"3" doc:"ISO 4217, NOK"`
}

// Validate of a fee.
func (f *Fee) Validate() error {
	if f == nil {
		return nil
	}
	if err := money.Known(f.Currency); err != nil {
		return fault("currency", "%v", err)
	}
	if _, err := money.Parse(f.Amount, f.Currency); err != nil {
		return fault("amount", "%v", err)
	}
	return nil
}

// Validate of a contract.
func (c ContractSpec) Validate() error {
	if err := called("name", c.Name); err != nil {
		return err
	}
	if err := c.Credits.Validate(); err != nil {
		return Within("credits", err)
	}
	return nil
}

// Called is what people call what a spec defines.
func (c ContractSpec) Called() string { return c.Name }

// Validate of a team.
func (t TeamSpec) Validate() error { return called("name", t.Name) }

// Validate of a customer.
func (c CustomerSpec) Validate() error {
	if c.ObjectionDays < 0 || c.ObjectionDays > 3650 {
		return fault("objection_days", "%d is not allowed; it lies between 0 and 3650", c.ObjectionDays)
	}
	if err := receivers("tell", c.Tell); err != nil {
		return err
	}
	if err := c.Schedule.Validate(); err != nil {
		return Within("schedule", err)
	}
	if err := people("contacts", c.Contacts); err != nil {
		return err
	}
	if err := logo("logo", c.Logo); err != nil {
		return err
	}
	return called("name", c.Name)
}

// Called is what people call what a spec defines.
func (t TeamSpec) Called() string { return t.Name }

// Called is what people call what a spec defines.
func (c CustomerSpec) Called() string { return c.Name }

// HolidayListSpec is days without hours that several agreements share, such as the
// public holidays of a country.
type HolidayListSpec struct {
	Name string    `json:"name" minLength:"1" maxLength:"120"`
	Days []Holiday `json:"days" maxItems:"1000"`
	Note string    `json:"note,omitempty" maxLength:"2000"`
}

// Holiday is a day of a list.
type Holiday struct {
	Date string `json:"date" doc:"2006-01-02"`
	Name string `json:"name,omitempty" maxLength:"120" doc:"What it is called"`
}

// Validate of a list of holidays: each day once.
func (l HolidayListSpec) Validate() error {
	if err := called("name", l.Name); err != nil {
		return err
	}
	at := map[string]int{}
	for i, d := range l.Days {
		path := fmt.Sprintf("days[%d]", i)
		day, err := calendar.ParseDate(d.Date)
		if err != nil {
			return fault(path+".date", "%v", err)
		}
		if before, twice := at[day.DateString()]; twice {
			return fault(path+".date", "%s stands in line %d too; a day is a holiday once", d.Date, before+1)
		}
		at[day.DateString()] = i
		if err := plain(path+".name", d.Name); err != nil {
			return err
		}
	}
	return nil
}

// Called is what people call what a spec defines.
func (l HolidayListSpec) Called() string { return l.Name }

// Dates are the days of the list as 2006-01-02, in order.
func (l HolidayListSpec) Dates() []string {
	out := make([]string, len(l.Days))
	for i, d := range l.Days {
		out[i] = d.Date
	}
	slices.Sort(out)
	return out
}
