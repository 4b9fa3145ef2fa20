package planning

import (
	"fmt"
	"strings"
	"time"

	"kestite/core/definition"
	"kestite/core/span"
)

// Turns of a window that people are told of.
const (
	Planned   = "Planned"
	Changed   = "Changed"
	Cancelled = "Cancelled"
)

// mostTold is how many occurrences a message names.
const mostTold = 5

// Told is a message about a window: its subject and its text. services are the names of
// those it is on, coming its next times, in zone.
func Told(turn string, w definition.WindowSpec, services []string, coming []span.Span, zone *time.Location, link string) (subject, text string) {
	at := func(i span.Instant) string { return i.Time().In(zone).Format("Mon 2 Jan 2006 15:04") }
	subject = turn + ": " + w.Name
	if len(coming) > 0 && turn != Cancelled {
		subject += ", " + at(coming[0].From)
	}
	kind := "planned work"
	if w.OfType() == definition.Emergency {
		kind = "emergency work"
	}
	lines := []string{fmt.Sprintf("%s: %s on %s.", w.Name, kind, strings.Join(services, ", "))}
	switch {
	case turn == Cancelled:
		lines = append(lines, "It is cancelled: nothing of it takes place from now on.")
	case len(coming) == 0:
		lines = append(lines, "Nothing of it is to come.")
	default:
		lines = append(lines, "When: "+When(w)+", "+w.Timezone+".")
		for _, o := range coming[:min(len(coming), mostTold)] {
			lines = append(lines, fmt.Sprintf("  %s to %s", at(o.From), at(o.To)))
		}
		if len(coming) > mostTold {
			lines = append(lines, "  and so on")
		}
		lines = append(lines, "Times are those of "+zone.String()+".")
	}
	if w.Reference != "" {
		lines = append(lines, "Change: "+w.Reference)
	}
	if w.Note != "" {
		lines = append(lines, "", w.Note)
	}
	if link != "" {
		lines = append(lines, "", link)
	}
	return subject, strings.Join(lines, "\n")
}
