package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/icalendar"
	"kestite/core/planning"
	"kestite/core/span"
	"kestite/server/auth"
	"kestite/server/store/gen/db"
)

func (s *Server) icalendarRoutes(a *operations) {
	on(a, public, http.MethodGet, "/calendar.ics", "calendar-feed", "Planned work as iCalendar (RFC 5545), for who has the token of a feed", s.feed)
	on(a, access.See, http.MethodGet, "/windows.ics", "export-windows", "Planned work as iCalendar (RFC 5545)", s.exportWindows)
	on(a, access.Operate, http.MethodPost, "/windows/import", "import-windows",
		"Make, edit and cancel windows by the events of an iCalendar, or see what that would do; what cannot be taken is left, and said", s.importWindows)
	on(a, access.See, http.MethodGet, "/calendar-feeds", "calendar-feeds", "Your feeds of planned work", s.feeds)
	on(a, access.See, http.MethodPost, "/calendar-feeds", "make-calendar-feed", "Make a feed of planned work: its token is told once", s.makeFeed)
	on(a, access.See, http.MethodDelete, "/calendar-feeds/{id}", "end-calendar-feed", "End a feed: its token is good no more", s.endFeed)
}

// shownCancelled is for how long a feed still says of a window that it is cancelled, ms.
const shownCancelled = 60 * span.Day

// writeCalendar writes the windows of services, all where none are named.
func (s *Server) writeCalendar(ctx context.Context, name string, services []string) (*huma.StreamResponse, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	now := span.Of(s.Now())
	var good []icalendar.Window
	for _, w := range icalendar.Of(snap, services, now.Add(-shownCancelled)) {
		if _, err := icalendar.Write("", snap.Timezone, []icalendar.Window{w}, now); err != nil { // one costs no other
			s.Log.Warn("a window cannot be written as iCalendar", "window", w.ID, "error", err)
			continue
		}
		good = append(good, w)
	}
	text, err := icalendar.Write(name, snap.Timezone, good, now)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "text/calendar; charset=utf-8")
		hc.SetHeader("Content-Disposition", `attachment; filename="planned-work.ics"`)
		hc.SetHeader("Cache-Control", "private, no-store")
		hc.BodyWriter().Write(text)
	}}, nil
}

func (s *Server) feed(ctx context.Context, in *struct {
	Token string `query:"token" required:"true" minLength:"10" maxLength:"100"`
}) (*huma.StreamResponse, error) {
	row, err := s.Store.CalendarFeedByToken(ctx, auth.HashToken(in.Token))
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, huma.Error404NotFound("There is no such feed, or it was ended. Make another one on the Calendar.")
	}
	if err != nil {
		return nil, err
	}
	now := s.Now()
	if err := s.Store.CalendarFeedUsed(ctx, db.CalendarFeedUsedParams{ID: row.ID, At: &now}); err != nil {
		return nil, err
	}
	return s.writeCalendar(ctx, row.Name, row.Services)
}

func (s *Server) exportWindows(ctx context.Context, in *struct {
	Services []string `query:"services,explode" maxItems:"1000" doc:"Ids; none: all"`
}) (*huma.StreamResponse, error) {
	return s.writeCalendar(ctx, "Planned work", in.Services)
}

// FeedView is a feed of planned work.
type FeedView struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	Services []Ref      `json:"services" doc:"Whose work it shows; none: all"`
	MadeAt   time.Time  `json:"made_at"`
	UsedAt   *time.Time `json:"used_at,omitempty" doc:"When it was read last, to the hour"`
}

// NewFeed is a feed to be.
type NewFeed struct {
	Name     string   `json:"name" minLength:"1" maxLength:"120"`
	Services []string `json:"services,omitempty" maxItems:"1000" doc:"Ids of services; with agreements none: all"`
	// Agreements stand for their services.
	Agreements []string `json:"agreements,omitempty" maxItems:"1000" doc:"Ids of agreements, whose services it shows"`
}

// MadeFeed is a feed with what it is read by.
type MadeFeed struct {
	ID    string `json:"id"`
	Path  string `json:"path" doc:"Of its address, with the token, which is told this once"`
	Token string `json:"token"`
}

func (s *Server) feeds(ctx context.Context, _ *none) (*list[FeedView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.CalendarFeeds(ctx, who(ctx).ID)
	if err != nil {
		return nil, err
	}
	var out []FeedView
	for _, r := range rows {
		v := FeedView{ID: r.ID, Name: r.Name, MadeAt: r.MadeAt, UsedAt: r.UsedAt, Services: []Ref{}}
		for _, id := range r.Services {
			v.Services = append(v.Services, Ref{id, snap.Named(catalogue.Service, id)})
		}
		out = append(out, v)
	}
	return items(out), nil
}

// mostFeeds is how many feeds a person may have.
const mostFeeds = 50

func (s *Server) makeFeed(ctx context.Context, in *body[NewFeed]) (*body[MadeFeed], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	ask := in.Body
	services := append([]string{}, ask.Services...)
	for i, id := range ask.Services {
		if snap.Services[id] == nil {
			return nil, definition.Faultf(pathAt("services", i), "%q names no service", id)
		}
	}
	for i, id := range ask.Agreements {
		e := snap.Agreements[id]
		if e == nil {
			return nil, definition.Faultf(pathAt("agreements", i), "%q names no agreement", id)
		}
		services = append(services, e.Current().Spec.Service)
	}
	if n, err := s.Store.CountCalendarFeeds(ctx, who(ctx).ID); err != nil || n >= mostFeeds {
		if err == nil {
			err = definition.Faultf("name", "you have %d feeds, the most; end one first", n)
		}
		return nil, err
	}
	token, hash := auth.NewToken("kesc_")
	id, err := s.Store.MakeCalendarFeed(ctx, db.MakeCalendarFeedParams{Person: who(ctx).ID, Name: ask.Name, TokenHash: hash, Services: services, MadeAt: s.Now()})
	if err != nil {
		return nil, err
	}
	if err := s.did(ctx, "make calendar feed", "feed "+id, map[string]string{"name": ask.Name}); err != nil {
		return nil, err
	}
	return &body[MadeFeed]{MadeFeed{id, "/api/v1/calendar.ics?token=" + token, token}}, nil
}

func (s *Server) endFeed(ctx context.Context, in *ByID) (*none, error) {
	n, err := s.Store.DeleteCalendarFeed(ctx, db.DeleteCalendarFeedParams{ID: in.ID, Person: who(ctx).ID})
	if err != nil {
		return nil, err
	}
	if n == 0 {
		return nil, huma.Error404NotFound("You have no such feed.")
	}
	return nil, s.did(ctx, "end calendar feed", "feed "+in.ID, nil)
}

// ImportAsk asks for windows of an iCalendar.
type ImportAsk struct {
	Text     string   `json:"text" minLength:"1" maxLength:"1000000" doc:"The calendar: what stands in a file that ends with .ics"`
	Services []string `json:"services,omitempty" maxItems:"1000" doc:"Ids of services that its events are for where they name none of ours"`
	Reason   string   `json:"reason,omitempty" maxLength:"500"`
	Preview  bool     `json:"preview,omitempty" doc:"Say what it would do, and do nothing"`
}

// ImportView is what an import did, or would do.
type ImportView struct {
	Done  bool           `json:"done"`
	Items []ImportedView `json:"items"`
	Left  []LeftEvent    `json:"left" doc:"Events that can be no window"`
}

// ImportedView is what becomes of an event.
type ImportedView struct {
	UID      string `json:"uid"`
	Name     string `json:"name"`
	Does     string `json:"does" enum:"make,edit,cancel,unchanged,older,refused"`
	Window   string `json:"window,omitempty" doc:"Id of its window"`
	Why      string `json:"why,omitempty"`
	Words    string `json:"words" doc:"When it is"`
	Services []Ref  `json:"services"`
}

func (s *Server) importWindows(ctx context.Context, in *body[ImportAsk]) (*body[ImportView], error) {
	ask := in.Body
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	for i, id := range ask.Services {
		if e := snap.Services[id]; e == nil || e.Retired {
			return nil, definition.Faultf(pathAt("services", i), "%q names no service in force", id)
		}
	}
	events, left, err := icalendar.Read(ask.Text, snap.Timezone, span.Of(s.Now()))
	if err != nil {
		return nil, definition.Faultf("text", "%v", err)
	}
	ch := s.change(ctx, ask.Reason)
	circumstances := catalogue.Circumstances{At: span.Of(s.Now()), By: ch.By.Kept(), Reason: ask.Reason}
	var taken []icalendar.Taken
	steps := func(snap *catalogue.Snapshot) ([]catalogue.Step, error) {
		var out []catalogue.Step
		taken = icalendar.Steps(snap, circumstances, events, ask.Services, ch.May)
		for _, t := range taken {
			if t.Step.Kind != "" {
				out = append(out, t.Step)
			}
		}
		return out, nil
	}
	after := snap
	if ask.Preview {
		plan, err := s.Definitions.Preview(ctx, ch, steps)
		if err != nil {
			return nil, err
		}
		after = plan.After
	} else if plan, _, err := s.Definitions.ApplyFrom(ctx, ch, steps); err != nil {
		return nil, err
	} else {
		after = plan.After
	}
	out := ImportView{Done: !ask.Preview, Items: []ImportedView{}, Left: []LeftEvent{}}
	for _, t := range taken {
		v := ImportedView{UID: t.UID, Name: t.Spec.Name, Does: t.Does, Window: t.Window, Why: t.Why, Words: planning.When(t.Spec), Services: []Ref{}}
		for _, id := range t.Spec.Services {
			v.Services = append(v.Services, Ref{id, after.Named(catalogue.Service, id)})
		}
		out.Items = append(out.Items, v)
	}
	for _, l := range left {
		out.Left = append(out.Left, LeftEvent{strings.ToValidUTF8(l.Name, "�"), l.Why})
	}
	return &body[ImportView]{out}, nil
}
