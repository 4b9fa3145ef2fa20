package report

import (
	"strconv"
	"testing"

	"kestite/core/calendar"
	"kestite/web"
)

// An axis has days where there is room for them, and months otherwise; they tile it.
func TestTicksTileAPeriod(t *testing.T) {
	loc, err := calendar.Zone("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string][3]string{ // first, last, how many
		"2026-10": {"1", "31", "31"}, "2026-W48": {"23", "29", "7"}, "2026-11-15/2026-12-15": {"15", "14", "30"},
		"2026-Q4": {"Oct 2026", "Dec 2026", "3"}, "2026": {"Jan 2026", "Dec 2026", "12"},
		"2026-01-31/2026-04-30":          {"Jan 2026", "Apr 2026", "4"},
		"2026-11-15T02:00:00/2026-11-17": {"15", "16", "2"},
	} {
		p, err := calendar.ParsePeriod(name, loc)
		if err != nil {
			t.Fatal(err)
		}
		list := ticks(p.Span(), loc)
		if list[0].text != want[0] || list[len(list)-1].text != want[1] || strconv.Itoa(len(list)) != want[2] {
			t.Errorf("%s: %+v", name, list)
		}
		at := p.Span().From
		for _, x := range list {
			if x.From != at || x.Empty() {
				t.Errorf("%s: a gap before %+v", name, x)
			}
			at = x.To
		}
		if at != p.Span().To {
			t.Errorf("%s ends at %s", name, at)
		}
	}
}

// The document's colours are the screens', and none has been left out.
func TestColoursAreTheScreens(t *testing.T) {
	for class, c := range classInk {
		if c == (web.Colour{}) || c != web.Colours[class.String()] {
			t.Errorf("%s is drawn in %v, and on the screens in %v", class, c, web.Colours[class.String()])
		}
	}
	if len(classInk) != 8 || black == (web.Colour{}) || grey == (web.Colour{}) || rule == (web.Colour{}) {
		t.Errorf("%d classes, text %v and %v, lines %v", len(classInk), black, grey, rule)
	}
}
