package incidents

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/agent/wire"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/server/store"
	"kestite/server/store/gen/db"
)

// Evidence is measurements asked for as trouble is believed and as it is over: of the
// checks of the service and of what it needs, and of the way to it. So many are asked
// for of one incident; of all together so many at once, and so many more a second, since
// agents have other things to do when everything fails.
const (
	mostPieces      = 40
	mostEvidence    = 400
	evidenceASecond = 4
	freshFor        = 15 * span.Minute // trouble that is known later leaves nothing to look at
)

// look asks for evidence of those incidents that have just been opened, or are over.
func (k *Keeper) look(ctx context.Context, tx pgx.Tx, snap *catalogue.Snapshot, changed []incident.Changed) ([]db.AddIncidentEventsParams,
	error) {
	q, now := db.New(tx), span.Of(k.Now())
	var out []db.AddIncidentEventsParams
	asked := false
	if !k.Looks {
		return nil, nil
	}
	for _, c := range changed {
		moment := momentOf(c)
		if moment == "" || now > c.LatestAt.Add(freshFor) && moment == "onset" || c.Quiet(now) {
			continue
		}
		service := ServiceOf(snap, c.Subject)
		if snap.Services[service] == nil || c.About == incident.Agreement {
			continue
		}
		pieces := evidenceOf(snap, service)
		if len(pieces) == 0 {
			continue
		}
		allowed, err := q.Spend(ctx, db.SpendParams{Who: "evidence", Units: float64(len(pieces)), Most: mostEvidence,
			PerSecond: evidenceASecond, Now: k.Now()})
		if err != nil {
			return nil, err
		}
		e := incident.Event{Kind: incident.Looked, At: now, Text: moment, Other: fmt.Sprint(len(pieces))}
		if !allowed {
			e.Other = "0" // too much fails at once
		} else {
			rows := make([]db.AddEvidenceParams, len(pieces))
			for n, p := range pieces {
				text, err := json.Marshal(wire.Of("", p.spec))
				if err != nil {
					return nil, err
				}
				rows[n] = db.AddEvidenceParams{Location: p.location, Spec: text, MadeBy: "incident", Incident: &c.ID, Moment: &moment, Label: &p.label}
			}
			if _, err := q.AddEvidence(ctx, rows); err != nil {
				return nil, fmt.Errorf("ask for evidence of incident %d: %w", c.ID, err)
			}
			asked = true
		}
		out = append(out, events(c.ID, []incident.Event{e}, k.Now())...)
	}
	if !asked {
		return out, nil
	}
	return out, store.Notify(ctx, tx, store.Event{Kind: store.OnTrial})
}

// momentOf says what a change asks for evidence of.
func momentOf(c incident.Changed) string {
	moment := ""
	for _, e := range c.Events {
		switch e.Kind {
		case incident.Opened:
			moment = "onset"
		case incident.ResolvedByItself:
			if moment = "recovery"; c.Fresh {
				return "" // it was over before it was known
			}
		}
	}
	return moment
}

// piece is one measurement to be made as evidence.
type piece struct {
	label, location string
	spec            definition.CheckSpec
}

// evidenceOf are the pieces for a service: its own checks from each of their locations,
// the path and the names of their targets, and the checks of what it needs.
func evidenceOf(snap *catalogue.Snapshot, service string) []piece {
	var out []piece
	add := func(label string, spec definition.CheckSpec) {
		for _, l := range spec.Locations {
			same := slices.ContainsFunc(out, func(p piece) bool {
				return p.location == l && p.spec.Kind == spec.Kind &&
					p.spec.Target == spec.Target
			})
			if e := snap.Locations[l]; len(out) < mostPieces && !same && e != nil && !e.Retired {
				out = append(out, piece{label, l, spec})
			}
		}
	}
	var further []piece
	for _, id := range append([]string{service}, snap.NeededNow(service)...) {
		for _, check := range snap.LiveChecks(id) {
			spec := snap.Checks[check].Current().Spec
			if definition.Inward(spec.Kind) {
				continue
			}
			label := spec.Name
			if id != service {
				label += " of " + snap.Named(catalogue.Service, id)
			}
			add(label, spec)
			if id == service {
				for _, more := range around(spec) {
					further = append(further, piece{more.Name, "", more})
				}
			}
		}
	}
	for _, p := range further {
		if snap.AdmitTrial(p.spec) == nil {
			add(p.label, p.spec)
		}
	}
	return out
}

// around are a path to a check's target, and its names.
func around(spec definition.CheckSpec) []definition.CheckSpec {
	host := hostOf(spec)
	if host == "" {
		return nil
	}
	base := definition.CheckSpec{Service: spec.Service, IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 120, Confirm: 1, Recover: 1,
		Locations: spec.Locations}
	path := base
	path.Name, path.Kind, path.Target = "The path to "+host, "path", host
	out := []definition.CheckSpec{path}
	if _, err := netip.ParseAddr(host); err != nil {
		names := base
		names.Name, names.Kind, names.Target, names.TimeoutMS = "The name "+host, "dns", host, 3000
		out = append(out, names)
	}
	return out
}

// hostOf is the host that a check measures; "" where it is none.
func hostOf(spec definition.CheckSpec) string {
	switch spec.Kind {
	case "http":
		if u, err := url.Parse(spec.Target); err == nil {
			return u.Hostname()
		}
	case "tcp", "certificate", "udp":
		if host, _, err := net.SplitHostPort(spec.Target); err == nil {
			return host
		}
	case "ping":
		return spec.Target
	}
	return ""
}

// Lost is how long after evidence was asked for it does not come any more.
const Lost = 5 * time.Minute
