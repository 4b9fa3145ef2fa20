package standing_test

import (
	"reflect"
	"testing"

	"kestite/core/account"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/core/verdict"
)

func TestOutagesOfASpan(t *testing.T) {
	line := span.Constant(views(verdict.Unmeasured))
	for _, s := range []struct {
		at    span.Instant
		state verdict.State
	}{{100, verdict.Up}, {200, verdict.Down}, {300, verdict.Up}, {400, verdict.Degraded}, {450, verdict.Down}, {600, verdict.Up}, {900,
		verdict.Down}} {
		line = line.Append(s.at, views(s.state))
	}
	outage := func(from, to span.Instant, s verdict.State) standing.Outage {
		return standing.Outage{Span: span.Span{From: from, To: to}, State: s}
	}
	for _, c := range []struct {
		within span.Span
		want   []standing.Outage
	}{
		{span.Span{From: 0, To: 1000}, []standing.Outage{outage(900, 1000, verdict.Down), outage(450, 600, verdict.Down), outage(400, 450,
			verdict.Degraded),
			outage(200, 300, verdict.Down)}},
		{span.Span{From: 250, To: 400}, []standing.Outage{outage(200, 300, verdict.Down)}}, // it began before
		{span.Span{From: 300, To: 400}, nil},
		{span.Span{From: 500, To: 500}, nil},
	} {
		if got := standing.Outages(line, c.within); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%v: %v, not %v", c.within, got, c.want)
		}
	}
	// What was down from before anything is known begins with the span.
	if got := standing.Outages(span.Constant(views(verdict.Down)), span.Span{From: 10, To: 20}); !reflect.DeepEqual(got,
		[]standing.Outage{outage(10, 20, verdict.Down)}) {
		t.Errorf("down for ever: %v", got)
	}
}

func TestWhatAnOutageCountsAs(t *testing.T) {
	intervals := []account.Interval{{From: 0, To: 100, Class: account.Up}, {From: 100, To: 130, Class: account.Maintenance},
		{From: 130, To: 200, Class: account.Down}, {From: 200, To: 210, Class: account.Maintenance}, {From: 210, To: 300, Class: account.Up}}
	got := standing.CountsAs(intervals, span.Span{From: 110, To: 205})
	want := []standing.Counted{{Class: account.Down, MS: 70}, {Class: account.Maintenance, MS: 25}}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%v, not %v", got, want)
	}
	if got := standing.CountsAs(intervals, span.Span{From: 400, To: 500}); got != nil {
		t.Errorf("after its period: %v", got)
	}
}

// views is a service that is in one state by every view.
func views(s verdict.State) (v verdict.Views) {
	for i := range v {
		v[i] = s
	}
	return v
}
