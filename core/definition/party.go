package definition

import (
	"fmt"
	"slices"

	"kestite/core/calendar"
)

// TeamSpec is people who own services together.
type TeamSpec struct {
	Name       string `json:"name" minLength:"1" maxLength:"120"`
	NoticePlan string `json:"notice_plan,omitempty" maxLength:"120" doc:"Id of the notice plan that incidents of its services follow"`
	Note       string `json:"note,omitempty" maxLength:"2000"`
}

// CustomerSpec is who was promised something.
type CustomerSpec struct {
	Name string `json:"name" minLength:"1" maxLength:"120"`
	Note string `json:"note,omitempty" maxLength:"2000"`
}

// ContractSpec is what was promised together: agreements that are reported together,
// all with one customer.
type ContractSpec struct {
	Name     string `json:"name" minLength:"1" maxLength:"120"`
	Customer string `json:"customer,omitempty" maxLength:"120" doc:"Id of the customer it is with; empty: internal"`
	Note     string `json:"note,omitempty" maxLength:"2000"`
}

// Validate of a contract.
func (c ContractSpec) Validate() error { return called("name", c.Name) }

// Called is what people call what a spec defines.
func (c ContractSpec) Called() string { return c.Name }

// Validate of a team.
func (t TeamSpec) Validate() error { return called("name", t.Name) }

// Validate of a customer.
func (c CustomerSpec) Validate() error { return called("name", c.Name) }

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
