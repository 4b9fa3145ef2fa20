package account_test

import (
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// Work of which less is granted than was planned is found, with the reason; what is granted
// in full, or names another service, is not.
func TestLostWork(t *testing.T) {
	early, _ := span.ParseInstant("2026-02-20T00:00:00Z")
	late, _ := span.ParseInstant("2026-03-02T08:59:00Z")
	cap90 := int64(5400)
	other := planned("other", "12:00:00", late)
	other.Services = []string{"quay"}
	b := bundle(t, func(b *definition.Bundle) {
		quay(b)
		b.Agreements[0].Maintenance = definition.Maintenance{Mode: "exclude", NoticeS: 3600, CapS: &cap90}
		b.Windows = []definition.Window{planned("granted", "07:00:00", early), planned("late", "09:00:00", late), planned("capped", "20:00:00", early), other}
	})
	m := read(t, b, minutely("page", "tolvik", 24*60, downBetween(0, 0)))
	e := account.NewEvidence(b, m.Stretches, m.Timing)
	a, err := e.Account(b.Agreements[0])
	if err != nil {
		t.Fatal(err)
	}
	lost, err := e.Lost(b.Agreements[0], a)
	if err != nil || len(lost) != 2 {
		t.Fatalf("%+v, %v", lost, err)
	}
	if l := lost[0]; l.Window != "late" || l.Refused[0] != (account.Refusal{Why: account.LateNotice, MS: 3_600_000}) {
		t.Errorf("%+v", l)
	}
	if l := lost[1]; l.Window != "capped" || l.Refused[0] != (account.Refusal{Why: account.CapUsed, MS: 1_800_000}) {
		t.Errorf("%+v", l)
	}
	ignoring := b.Agreements[0]
	ignoring.Maintenance = definition.Maintenance{}
	if lost, err := e.Lost(ignoring, a); err != nil || lost != nil {
		t.Errorf("where no maintenance counts: %+v, %v", lost, err)
	}
}

// An adjustment on top wins over those before it, and leaves the evidence as it was.
func TestWithAnAdjustment(t *testing.T) {
	b := bundle(t, func(b *definition.Bundle) {
		b.Adjustments = []definition.Adjustment{{ID: "first", Agreement: b.Agreements[0].ID, From: at("00:00"), To: at("12:00"), Class: "excused", Approved: true}}
	})
	m := read(t, b, minutely("page", "tolvik", 24*60, downBetween(0, 0)))
	e := account.NewEvidence(b, m.Stretches, m.Timing)
	more := e.With(definition.Adjustment{ID: "second", Agreement: b.Agreements[0].ID, From: at("06:00"), To: at("07:00"), Class: "down", Approved: true})
	for evidence, want := range map[*account.Evidence][2]int64{e: {12 * span.Hour, 0}, more: {11 * span.Hour, span.Hour}} {
		a, err := evidence.Account(b.Agreements[0])
		if err != nil || a.TotalMS.Excused != want[0] || a.TotalMS.Down != want[1] {
			t.Errorf("%+v, %v; want %v", a.TotalMS, err, want)
		}
	}
}

func at(clock string) span.Instant {
	i, err := span.ParseInstant("2026-03-02T" + clock + ":00Z")
	if err != nil {
		panic(err)
	}
	return i
}
