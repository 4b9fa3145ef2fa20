package icalendar

import (
	"fmt"
	"strings"
	"time"

	"github.com/emersion/go-ical"
)

// Zones are those that one which is described is looked for among.
func Zones() []string { return common }

// Differs says where the zone that a calendar describes shows another time than one of
// the database; empty where it does not.
func Differs(text string, loc *time.Location, first, last int) string {
	cal, err := ical.NewDecoder(strings.NewReader(text)).Decode()
	if err != nil {
		return err.Error()
	}
	o, err := offsetsOf(cal.Children[0], first)
	if err != nil {
		return err.Error()
	}
	for at := time.Date(first, 1, 1, 0, 30, 0, 0, time.UTC); at.Year() <= last; at = at.Add(time.Hour) {
		if _, s := at.In(loc).Zone(); s != o.at(at) {
			return fmt.Sprintf("at %s it is %d, described as %d", at, s, o.at(at))
		}
	}
	return ""
}
