package definition

import (
	"kestite/core/calendar"
	"kestite/core/span"
)

// EmbargoSpec is a span in which no work is to be planned, as around a holiday weekend.
// What is planned in it all the same says why; emergency work need not.
type EmbargoSpec struct {
	Name     string   `json:"name" minLength:"1" maxLength:"120"`
	Services []string `json:"services,omitempty" maxItems:"1000" doc:"Ids of those it is for; none: all"`
	From     string   `json:"from" doc:"Wall time, 2006-01-02T15:04:05"`
	To       string   `json:"to" doc:"Wall time"`
	Timezone string   `json:"timezone"`
	Note     string   `json:"note,omitempty" maxLength:"2000"`
}

// mostEmbargoDays is how long one may last.
const mostEmbargoDays = 366

// lastEmbargoYear bounds what rules are followed to for it.
const lastEmbargoYear = 2200

// Called is what people call what a spec defines.
func (e EmbargoSpec) Called() string { return e.Name }

// Validate of an embargo.
func (e EmbargoSpec) Validate() error {
	if err := called("name", e.Name); err != nil {
		return err
	}
	if _, err := calendar.Zone(e.Timezone); err != nil {
		return fault("timezone", "%v", err)
	}
	if _, err := calendar.ParseWall(e.From); err != nil {
		return fault("from", "%v", err)
	}
	if _, err := calendar.ParseWall(e.To); err != nil {
		return fault("to", "%v", err)
	}
	switch s := e.Span(); {
	case s.Empty():
		return fault("to", "is not after its beginning, %s; give it a later end", e.From)
	case s.To.Time().Year() > lastEmbargoYear:
		return fault("to", "is after the year %d; take an earlier one", lastEmbargoYear)
	case s.Length() > mostEmbargoDays*span.Day:
		return fault("to", "is more than %d days after its beginning; make several embargoes", mostEmbargoDays)
	}
	return nil
}

// Span is when it is; of a spec that is not valid, an empty one.
func (e EmbargoSpec) Span() span.Span {
	loc, err := calendar.Zone(e.Timezone)
	from, err2 := calendar.ParseWall(e.From)
	to, err3 := calendar.ParseWall(e.To)
	if err != nil || err2 != nil || err3 != nil {
		return span.Span{}
	}
	return span.Span{From: from.Instant(loc, calendar.Shift), To: to.Instant(loc, calendar.Shift)}
}
