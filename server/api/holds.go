package api

import (
	"context"
	"net/http"
	"time"

	"kestite/core/access"
	"kestite/core/incident"
	"kestite/core/span"
	"kestite/server/incidents"
	"kestite/server/notifying"
)

func (s *Server) holdRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/holds", "holds", "Notices that people stopped for a while, within the last 30 days, the latest first", s.holdList)
	on(a, access.Operate, http.MethodPost, "/holds", "hold-notices", "Stop notices of a check, or of a service and its checks, until a time; measuring, judging and accounts go on",
		func(ctx context.Context, in *body[NewHold]) (*body[struct {
			ID int64 `json:"id"`
		}], error) {
			if err := s.mayHold(ctx, incident.Subject{About: in.Body.About, ID: in.Body.Subject}); err != nil {
				return nil, err
			}
			id, err := s.Notices.Hold(ctx, by(ctx), notifying.NewHold{About: in.Body.About, ID: in.Body.Subject, Reason: in.Body.Reason, Until: in.Body.Until})
			out := &body[struct {
				ID int64 `json:"id"`
			}]{}
			out.Body.ID = id
			return out, err
		})
	on(a, access.Operate, http.MethodDelete, "/holds/{id}", "end-hold", "Let notices go on before its time", func(ctx context.Context, in *ByNumber) (*none, error) {
		h, err := s.Store.Hold(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if err := s.mayHold(ctx, incident.Subject{About: h.About, ID: h.Subject}); err != nil {
			return nil, err
		}
		return nil, told(s.Notices.EndHold(ctx, by(ctx), in.ID))
	})
}

// NewHold stops notices for a while.
type NewHold struct {
	About   string    `json:"about" enum:"service,check"`
	Subject string    `json:"subject" minLength:"1" maxLength:"120" doc:"Id of it"`
	Until   time.Time `json:"until" doc:"7 days ahead at most"`
	Reason  string    `json:"reason" minLength:"1" maxLength:"300"`
}

// HoldView is a time in which a person stopped notices.
type HoldView struct {
	ID      int64        `json:"id"`
	About   string       `json:"about" enum:"service,check"`
	Subject string       `json:"subject" doc:"Id of it"`
	Name    string       `json:"name" doc:"What it is called, of a check with its service"`
	Service string       `json:"service" doc:"Id of the service that it concerns"`
	Reason  string       `json:"reason"`
	By      string       `json:"by"`
	From    span.Instant `json:"from"`
	Until   span.Instant `json:"until" doc:"When it ends, or was ended"`
	Now     bool         `json:"now" doc:"It holds now"`
}

// mayHold refuses who may do nothing with a check or a service, and what is not there.
func (s *Server) mayHold(ctx context.Context, of incident.Subject) error {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	service := incidents.ServiceOf(snap, of)
	if e := snap.Services[service]; e == nil || e.Retired {
		return invalid("subject", "\""+of.ID+"\" names no "+of.About+" that is measured")
	}
	return who(ctx).Rights.Over(snap, access.Operate, service)
}

func (s *Server) holdList(ctx context.Context, _ *none) (*list[HoldView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.HoldsSince(ctx, s.Now().AddDate(0, 0, -30))
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	var out []HoldView
	for _, r := range rows {
		of := incident.Subject{About: r.About, ID: r.Subject}
		v := HoldView{ID: r.ID, About: r.About, Subject: r.Subject, Name: incidents.Name(snap, of), Service: incidents.ServiceOf(snap, of), Reason: r.Reason,
			By: r.Called, From: span.Of(r.FromAt), Until: span.Of(r.UntilAt)}
		if r.EndedAt != nil {
			v.Until = min(v.Until, span.Of(*r.EndedAt))
		}
		v.Now = v.From <= now && now < v.Until
		out = append(out, v)
	}
	return items(out), nil
}
