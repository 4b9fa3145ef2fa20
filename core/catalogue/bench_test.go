package catalogue_test

import (
	"fmt"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/definition"
)

// BenchmarkBundle makes the evidence bundle of a month for 200 services with an
// agreement each, whose work is planned by 200 windows that were edited once, every
// tenth of them hourly and on all services of its ten; and without windows.
func BenchmarkBundle(b *testing.B) {
	const services = 200
	h := newTold(b)
	long := at(b, "01T00:00").Add(-100 * 86_400_000)
	var steps []catalogue.Step
	var agreements []string
	name := func(i int) string { return fmt.Sprintf("service-%03d", i) }
	for i := range services {
		steps = append(steps, define(catalogue.Service, name(i), service()), define(catalogue.Agreement, name(i), agreement(name(i))))
		agreements = append(agreements, name(i))
	}
	for i := range services {
		w := window("02-02T10:00", 60, "FREQ=DAILY")
		w.Services = []string{name(i)}
		if i%10 == 0 {
			w.RRule, w.DurationS, w.Services = "FREQ=HOURLY", 600, nil
			for n := range 10 {
				w.Services = append(w.Services, name(i+n))
			}
		}
		steps = append(steps, define(catalogue.Window, name(i), w))
		w.Name = "Edited"
		w.Changes = []definition.Occurrence{{At: "2026-03-10T10:00:00", DurationS: 300}}
		steps = append(steps, edit(catalogue.Window, name(i), w))
	}
	if _, err := h.try(long, nil, steps...); err != nil {
		b.Fatal(err)
	}
	month := period(b, "2026-03")
	for says, with := range map[string]bool{"windows": true, "states": false} {
		b.Run(says, func(b *testing.B) {
			for b.Loop() {
				if _, err := h.snap.Bundle(month, nil, nil, agreements, with); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
