package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
)

// StandIns are the simulated outside devices and services of the demo.
type StandIns interface {
	// Messages are those that arrived at the receivers, the latest first.
	Messages() []StandInMessage
	List(ctx context.Context) ([]StandIn, error)
	Set(ctx context.Context, id, mode string) error
}

// StandInMessage is what arrived at a receiver of the simulated outside world.
type StandInMessage struct {
	Method  string    `json:"method" enum:"mail,sms,webhook,chat,syslog"`
	To      string    `json:"to"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	At      time.Time `json:"at"`
	ID      string    `json:"id" doc:"As the sender tells it from others"`
}

// StandIn is one simulated device or service.
type StandIn struct {
	ID    string   `json:"id"`
	Name  string   `json:"name"`
	Kind  string   `json:"kind" enum:"web,names,host,route,voice,reporter,post,desk,collector"`
	Where string   `json:"where" doc:"Its address"`
	Mode  string   `json:"mode"`
	Modes []string `json:"modes"`
	Error string   `json:"error,omitempty" doc:"Why it cannot be steered"`
}

func (s *Server) standInRoutes(a *operations) {
	on(a, access.See, http.MethodGet, "/stand-ins", "list-stand-ins", "The demo's simulated outside world", func(ctx context.Context, _ *none) (*list[StandIn], error) {
		if s.StandIns == nil {
			return nil, huma.Error404NotFound("This is no demo: there are no stand-ins here.")
		}
		all, err := s.StandIns.List(ctx)
		return items(all), err
	})
	on(a, access.See, http.MethodGet, "/stand-ins/messages", "stand-in-messages", "What arrived at the demo's simulated receivers, the latest first", func(_ context.Context, _ *none) (*list[StandInMessage], error) {
		if s.StandIns == nil {
			return nil, huma.Error404NotFound("This is no demo: there are no stand-ins here.")
		}
		return items(s.StandIns.Messages()), nil
	})
	on(a, access.Operate, http.MethodPut, "/stand-ins/{id}", "steer-stand-in", "Make a stand-in answer otherwise", func(ctx context.Context, in *struct {
		ByID
		Body struct {
			Mode string `json:"mode" minLength:"1"`
		}
	}) (*none, error) {
		if s.StandIns == nil {
			return nil, huma.Error404NotFound("This is no demo: there are no stand-ins here.")
		}
		if err := s.StandIns.Set(ctx, in.ID, in.Body.Mode); err != nil {
			return nil, invalid("mode", err.Error())
		}
		return nil, s.did(ctx, "steer", "stand-in "+in.ID, map[string]string{"mode": in.Body.Mode})
	})
}
