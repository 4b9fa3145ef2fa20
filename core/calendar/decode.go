package calendar

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/emersion/go-ical"
)

// Decode reads the iCalendar objects of a text (RFC 5545); the error says what cannot be
// read. There may be none.
func Decode(text string) (out []*ical.Calendar, err error) {
	defer func() {
		if recover() != nil { // the library does not expect that a line ends within a parameter
			out, err = nil, errors.New("it is no iCalendar: one of its lines ends where it should not")
		}
	}()
	in := ical.NewDecoder(strings.NewReader(text))
	for {
		cal, err := in.Decode()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("it is no iCalendar: %v", err)
		}
		out = append(out, cal)
	}
}
