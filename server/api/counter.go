package api

import (
	"context"
	"net/http"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/counter"
	"kestite/core/span"
)

// CounterAsk is somebody else's list of outages.
type CounterAsk struct {
	Period string `json:"period" minLength:"4" maxLength:"50"`
	Text   string `json:"text" maxLength:"2097152" doc:"Lines of begin, end and what it was, or an iCalendar"`
}

// CounterView is a list beside the account.
type CounterView struct {
	counter.Comparison
	Left []counter.Left `json:"left" doc:"Lines that could not be read; they are not compared"`
}

func (s *Server) counterRoutes(a *operations) {
	on(a, access.See, http.MethodPost, "/agreements/{id}/counter", "compare-outages", "Compare somebody else's list of outages with the account of a period", s.compareOutages)
}

func (s *Server) compareOutages(ctx context.Context, in *struct {
	ID   string `path:"id" maxLength:"120"`
	Body CounterAsk
}) (*body[CounterView], error) {
	now := s.Now()
	a, _, err := s.Books.Account(ctx, in.ID, in.Body.Period, now)
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	zone, err := calendar.Zone(snap.Accounting(in.ID, a.From).Spec.Timezone)
	if err != nil {
		return nil, err
	}
	list, left, err := counter.Read(in.Body.Text, zone, span.Of(now))
	if err != nil {
		return nil, invalid("text", err.Error())
	}
	if len(list) == 0 && len(left) == 0 {
		return nil, invalid("text", "there is no outage in it; a line has a begin and an end, 2026-10-09 07:40, 2026-10-09 08:05")
	}
	return &body[CounterView]{CounterView{counter.Compare(a, list), append([]counter.Left{}, left...)}}, nil
}
