package demo

import (
	"context"
	"time"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/defining"
)

// planned makes the work and the embargo of the coming weeks, announced now.
func planned(ctx context.Context, s *api.Server, now time.Time, loc *time.Location) error {
	runa, err := by(ctx, s, 3)
	if err != nil {
		return err
	}
	mikkel, err := by(ctx, s, 1)
	if err != nil {
		return err
	}
	// wall is a time some days from today.
	wall := func(days int, clock string) string {
		return now.In(loc).AddDate(0, 0, days).Format("2006-01-02") + clock
	}
	for _, w := range []struct {
		kind, id string
		by       defining.Change
		spec     catalogue.Spec
	}{
		{catalogue.Embargo, "timetable-change", defining.Change{By: mikkel}, definition.EmbargoSpec{Name: "Winter timetable", Timezone: Zone,
			From: wall(7, "T12:00:00"), To: wall(9, "T06:00:00"), Services: []string{"ticket-sales", "sailing-board", "departure"},
			Note: "The new sailings are put on sale"}},
		{catalogue.Window, "key-change", defining.Change{By: runa, Reason: "announced by the supplier"}, definition.WindowSpec{Name: "Acquirer's key change", Services: []string{"card-acquirer"},
			Timezone: Zone, Start: wall(10, "T02:30:00"), DurationS: 90 * 60, Reference: "CHG-2041"}},
		{catalogue.Window, "board-displays", defining.Change{By: runa}, definition.WindowSpec{Name: "New displays", Services: []string{"sailing-board"},
			Timezone: Zone, Start: wall(4, "T01:00:00"), DurationS: 3 * 3600, Reference: "CHG-2057", Note: "Sound and light in the ticket hall"}},
		{catalogue.Window, "roster-move", defining.Change{By: runa}, definition.WindowSpec{Name: "Roster moves house", Services: []string{"crew-roster"},
			Timezone: Zone, Start: wall(5, "T18:30:00"), DurationS: 9 * 3600}},
	} {
		if _, err := s.Definitions.Create(ctx, w.kind, w.id, "", w.spec, w.by); err != nil {
			return err
		}
	}
	_, err = s.Requests.Ask(ctx, defining.Change{By: runa, Reason: "No sailing leaves that night"}, catalogue.Step{Does: catalogue.Make, Kind: catalogue.Window,
		Spec: definition.WindowSpec{Name: "New message templates", Services: []string{"customer-messages"}, Timezone: Zone, Start: wall(6, "T22:30:00"), DurationS: 2 * 3600, Reference: "CHG-2063"}})
	return err
}
