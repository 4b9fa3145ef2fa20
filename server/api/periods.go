package api

import (
	"context"
	"errors"
	"slices"

	"kestite/core/account"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/clauses"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/server/accounting"
	"kestite/server/incidents"
)

func (s *Server) periodsOf(ctx context.Context, in *struct {
	ByID
	Last int `query:"last" minimum:"1" maximum:"36" default:"12"`
}) (*body[PeriodAccounts], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if !mayAsk(ctx, snap, in.ID) {
		return nil, catalogue.ErrNotFound
	}
	present, err := snap.PeriodAt(in.ID, span.Of(s.Now()))
	if err != nil {
		return nil, err
	}
	before := func(p calendar.Period) (calendar.Period, error) {
		for range mostForOthers {
			var err error
			if p, err = snap.PeriodBefore(in.ID, p); err != nil || promised(ctx, snap, in.ID, p.Span().From) {
				return p, err
			}
		}
		return p, catalogue.ErrNotFound
	}
	if !promised(ctx, snap, in.ID, present.Span().From) {
		if present, err = before(present); err != nil {
			return nil, err
		}
	}
	stands := func(p calendar.Period) (*accounting.Stands, error) {
		of := accounting.Of{Agreement: in.ID, Period: p.Name()}
		among, err := s.Kept.Among(ctx, []accounting.Of{of})
		if st, is := among[of]; is {
			return &st, err
		}
		return nil, err
	}
	return lastPeriods(ctx, present, in.Last, before, stands, func(p calendar.Period) (*account.Account, int, error) {
		open, err := s.Books.Open(ctx, snap, p, span.Of(s.Now()), nil, []string{in.ID})
		if err != nil {
			return nil, 0, err
		}
		a, err := open.Evidence.Account(open.Bundle.Agreements[0])
		return a, snap.Accounting(in.ID, p.Span().From).Number, err
	})
}

// PeriodName is a period of an agreement without its account.
type PeriodName struct {
	OwnPeriod
	Revision  int  `json:"revision" doc:"The revision of the agreement that accounts it"`
	Over      bool `json:"over"`
	Published bool `json:"published" doc:"It has a published report"`
}

func (s *Server) calendarOf(ctx context.Context, in *struct {
	ByID
	Last int `query:"last" minimum:"1" maximum:"60" default:"13"`
}) (*list[PeriodName], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if !mayAsk(ctx, snap, in.ID) {
		return nil, catalogue.ErrNotFound
	}
	published, err := s.Store.PublishedPeriods(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	p, err := snap.PeriodAt(in.ID, now)
	if err == nil {
		p, err = snap.PeriodAt(in.ID, p.Span().To)
	}
	var out []PeriodName
	for n := 0; err == nil && n < in.Last+mostForOthers; n++ {
		when := p.Span()
		if !promised(ctx, snap, in.ID, when.From) {
			p, err = snap.PeriodBefore(in.ID, p)
			continue
		}
		out = append(out, PeriodName{ownPeriod(p), snap.Accounting(in.ID, when.From).Number, when.To <= now,
			slices.Contains(published, p.Name())})
		if len(out) > in.Last {
			return items(out), nil
		}
		p, err = snap.PeriodBefore(in.ID, p)
	}
	return items(out), err
}

// mostForOthers is how many periods on end are looked at that were promised to others.
const mostForOthers = 100

// ClausesView is an agreement in words.
type ClausesView struct {
	Sentences []string `json:"sentences" doc:"As a contract would say it, with the limits of its contract"`
	Doubts    []string `json:"doubts" doc:"What is likely to surprise one of the two sides"`
}

// sentences says clauses as a contract would.
func (s *Server) sentences(ctx context.Context, in *body[definition.AgreementSpec]) (*body[ClausesView], error) {
	if err := definition.Valid(in.Body); err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	words := append(clauses.Sentences(in.Body, snap.Named), clauses.Terms(snap.TermsOf(in.Body.Contract, span.Of(s.Now())))...)
	return &body[ClausesView]{ClausesView{words, append([]string{}, clauses.Doubts(in.Body)...)}}, nil
}

// WhatIf asks for the last periods under clauses.
type WhatIf struct {
	Spec definition.AgreementSpec `json:"spec"`
	Last int                      `json:"last" minimum:"1" maximum:"36"`
}

func (s *Server) whatIf(ctx context.Context, in *body[WhatIf]) (*body[PeriodAccounts], error) {
	spec := in.Body.Spec
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if err := definition.Valid(spec); err != nil {
		return nil, definition.Within("spec", err)
	}
	services := []string{spec.Service}
	if spec.Upstream != nil {
		services = append(services, spec.Upstream.Excuse...)
	}
	for _, id := range services {
		if snap.Services[id] == nil {
			return nil, &definition.Fault{Path: "spec.service", Message: "there is no service " + id}
		}
	}
	agreement, err := snap.Promise("what-if", spec)
	if err != nil {
		return nil, definition.Within("spec", err)
	}
	loc, err := calendar.Zone(spec.Timezone)
	if err != nil {
		return nil, err
	}
	cycle := spec.Period.Cycle()
	before := func(p calendar.Period) (calendar.Period, error) { return cycle.Before(p), nil }
	none := func(calendar.Period) (*accounting.Stands, error) { return nil, nil }
	return lastPeriods(ctx, cycle.At(span.Of(s.Now()), loc), in.Body.Last, before, none, func(p calendar.Period) (*account.Account, int, error) {
		open, err := s.Books.OpenFor(ctx, snap, p, span.Of(s.Now()), services)
		if err != nil {
			return nil, 0, err
		}
		a, err := open.Evidence.Account(agreement)
		return a, 0, err
	})
}

// lastPeriods accounts the present period and those before it; of gives the account
// of one, with the number of the revision that it follows, and stands what was published
// or frozen of it.
func lastPeriods(ctx context.Context, present calendar.Period, last int, before func(calendar.Period) (calendar.Period, error),
	stands func(calendar.Period) (*accounting.Stands, error), of func(calendar.Period) (*account.Account, int, error)) (*body[PeriodAccounts], error) {
	out := PeriodAccounts{Items: []PeriodAccount{}}
	var all []*account.Account
	done := func() (*body[PeriodAccounts], error) {
		out.Promisable = account.CouldPromise(all)
		return &body[PeriodAccounts]{out}, nil
	}
	for p := present; ; {
		a, revision, err := of(p)
		if err != nil {
			return nil, err
		}
		near := a.Near()
		one := PeriodAccount{p.Name(), p.Words(), p.Span(), revision, figures(a), intervals(a), calls(a, p), nil, near, near.Words()}
		kept, err := stands(p)
		if err != nil {
			return nil, err
		}
		if kept != nil {
			one.Figures, one.Intervals, one.Stands = figures(kept.Account), intervals(kept.Account), standsView(ctx, kept, a)
			if len(kept.Differs(a)) > 0 { // these are of today
				one.Calls, one.Near, one.NearWords = []span.Instant{}, nil, ""
			}
			a = kept.Account
		}
		all = append(all, a)
		out.Items = append(out.Items, one)
		if len(out.Items) == last {
			return done()
		}
		if p, err = before(p); errors.Is(err, catalogue.ErrNotFound) {
			return done()
		} else if err != nil {
			return nil, err
		}
	}
}

// PeriodAccount is the account of one period in a list of them.
type PeriodAccount struct {
	Period    string         `json:"period"`
	Words     string         `json:"words"`
	Span      span.Span      `json:"span"`
	Revision  int            `json:"revision" doc:"The revision of the agreement that accounts it; 0 in a what-if"`
	Figures   Figures        `json:"figures"`
	Intervals []IntervalView `json:"intervals"`
	Calls     []span.Instant `json:"calls" doc:"When the pace of its downtime called somebody, or would have"`
	Stands    *StandsView    `json:"stands,omitempty" doc:"The figures are those that were published or frozen; never in a what-if, which takes what is known today"`
	Near      *account.Near  `json:"near,omitempty" doc:"How near the verdict was to another one, in time of classes; absent: the period is not over"`
	NearWords string         `json:"near_words" doc:"The same in a sentence; empty: there is nothing to say"`
}

// PeriodAccounts are the accounts of some periods, the latest first.
type PeriodAccounts struct {
	Items      []PeriodAccount    `json:"items"`
	Promisable account.Promisable `json:"promisable" doc:"The highest target that they would have met: by the figures of the items, so as published or frozen where they are, and in a what-if by what is known today"`
}

// calls are the instants at which the pace of downtimes calls somebody.
func calls(a *account.Account, p calendar.Period) []span.Instant {
	stands := incidents.AllowanceOf(a, p)
	return append([]span.Instant{}, incident.Called(incident.Paces(stands.AllowanceMS, stands.PeriodMS), stands.Down)...)
}
