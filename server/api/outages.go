package api

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kestite/core/catalogue"
	"kestite/core/measure"
	"kestite/core/span"
	"kestite/core/standing"
	"kestite/server/history"
	"kestite/server/store/raw"
)

// OutageView is a time that a service was down, or degraded.
type OutageView struct {
	From    span.Instant  `json:"from"`
	To      span.Instant  `json:"to"`
	MS      int64         `json:"ms"`
	Lasts   bool          `json:"lasts" doc:"It is not over"`
	State   string        `json:"state" enum:"degraded,down"`
	Reasons []string      `json:"reasons" doc:"What its checks and what it depends on said as it began"`
	Counts  []CountedView `json:"counts" doc:"What it counts as, as far as it lies in the periods shown"`
}

// CountedView is what a time counts as under an agreement.
type CountedView struct {
	Agreement string      `json:"agreement"`
	Name      string      `json:"name" doc:"Whom it is with, or what it is called"`
	Classes   []ClassTime `json:"classes"`
}

// ClassTime is the time of a class.
type ClassTime struct {
	Class string `json:"class" enum:"outside,up,degraded,down,tolerated,maintenance,upstream,excused,unmeasured"`
	MS    int64  `json:"ms"`
}

// mostOutages is how many of a band are told.
const mostOutages = 20

// mostReasons is how many reasons of one are told.
const mostReasons = 4

// outages tells when a service was not up, why, and what that counts as.
func (s *Server) outages(ctx context.Context, snap *catalogue.Snapshot, open *history.Period, when span.Span, out *ServiceSpan) error {
	all := standing.Outages(open.Evidence.Service(out.Service.ID), when)
	out.Outages, out.Earlier = []OutageView{}, max(0, len(all)-mostOutages)
	lanes, err := s.Store.LanesOfChecks(ctx, snap.ChecksOf[out.Service.ID])
	if err != nil {
		return err
	}
	ids := map[[2]string]int32{}
	for _, l := range lanes {
		ids[[2]string{l.CheckID, l.Location}] = l.ID
	}
	for _, o := range all[:len(all)-out.Earlier] {
		view := OutageView{From: o.From, To: o.To, MS: o.Length(), Lasts: o.To >= when.To, State: o.State.String(), Reasons: []string{},
			Counts: []CountedView{}}
		if view.Reasons, err = s.reasons(ctx, out, ids, o.Span); err != nil {
			return err
		}
		for _, a := range out.Accounts {
			counted := CountedView{Agreement: a.Agreement, Name: a.Customer, Classes: []ClassTime{}}
			if a.Customer == "" {
				counted.Name = a.Name
			}
			for _, c := range standing.CountsAs(a.classes, o.Span) {
				counted.Classes = append(counted.Classes, ClassTime{c.Class.String(), c.MS})
			}
			if len(counted.Classes) > 0 {
				view.Counts = append(view.Counts, counted)
			}
		}
		out.Outages = append(out.Outages, view)
	}
	return nil
}

// seenBy is what a check saw alike from some locations.
type seenBy struct {
	check, said string
	places      []string
}

// reasons are what the lanes that were not up as an outage began had seen, and which
// services it depends on were not up.
func (s *Server) reasons(ctx context.Context, of *ServiceSpan, ids map[[2]string]int32, o span.Span) ([]string, error) {
	out := []string{}
	var seen []seenBy
	for _, c := range of.Checks {
		spec := c.Check.Spec
		if spec.Role != "decides" || good(c.Strip, o.From) {
			continue
		}
		for _, l := range c.Lanes {
			if good(l.Strip, o.From) {
				continue
			}
			rows, err := raw.Latest(ctx, s.Store.Queries, ids[[2]string{c.Check.ID, l.Location}], o.From.Add(-span.Day), o.From, 1)
			if err != nil {
				return nil, err
			}
			if len(rows) == 0 || rows[0].Outcome == measure.OK {
				continue
			}
			said := rows[0].Detail
			if said == "" {
				said = rows[0].Outcome.String()
			}
			at := slices.IndexFunc(seen, func(s seenBy) bool { return s.check == spec.Name && s.said == said })
			if at < 0 {
				seen = append(seen, seenBy{check: spec.Name, said: said})
				at = len(seen) - 1
			}
			seen[at].places = append(seen[at].places, l.LocationName)
		}
	}
	for _, s := range seen {
		out = append(out, s.check+" from "+strings.Join(s.places, ", ")+": "+s.said)
	}
	for _, u := range of.Upstream {
		if !good(u.Strip, o.From) {
			out = append(out, u.Name+" was "+stateAt(u.Strip, o.From))
		}
	}
	if len(out) > mostReasons {
		more := len(out) - mostReasons
		out = append(out[:mostReasons:mostReasons], fmt.Sprintf("and %d more", more))
	}
	return out, nil
}

// stateAt is the state of a strip at an instant; empty where it says nothing.
func stateAt(strip []IntervalView, at span.Instant) string {
	n, found := slices.BinarySearchFunc(strip, at, func(i IntervalView, at span.Instant) int {
		switch {
		case i.To <= at:
			return -1
		case i.From > at:
			return 1
		}
		return 0
	})
	if !found {
		return ""
	}
	return strip[n].Class
}

// good says whether a strip tells nothing bad of an instant.
func good(strip []IntervalView, at span.Instant) bool {
	state := stateAt(strip, at)
	return state == "" || state == "up"
}
