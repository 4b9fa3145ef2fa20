package api

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/server/publish"
	"kestite/server/report"
	"kestite/server/store/gen/db"
)

// VolumeView is published reports of one period side by side in one document.
type VolumeView struct {
	ID     string    `json:"id"`
	Kind   string    `json:"kind" enum:"contract,customer,all"`
	Of     Ref       `json:"of" doc:"The contract or customer; with an empty id the whole organisation"`
	Period string    `json:"period"`
	Words  string    `json:"words"`
	Parts  int32     `json:"parts" doc:"How many reports are in it"`
	MadeAt time.Time `json:"made_at"`
	MadeBy string    `json:"made_by"`
	Digest string    `json:"digest" doc:"SHA-256 of its JSON, as its pages print it"`
}

// NewVolume asks for a volume.
type NewVolume struct {
	Kind   string `json:"kind" enum:"contract,customer,all"`
	Of     string `json:"of,omitempty" maxLength:"120" doc:"Id of the contract or customer"`
	Span   string `json:"span" minLength:"4" maxLength:"60" doc:"Periods that end within it, 2026-10"`
	Layout string `json:"layout,omitempty" maxLength:"120" doc:"Id of a layout; absent: that of the contract or customer"`
}

func (s *Server) volumeRoutes(a *operations) {
	on(a, access.Own, http.MethodGet, "/volumes", "volumes", "All volumes that you may see, newest first", s.volumes)
	on(a, access.Publish, http.MethodPost, "/volumes", "make-volume", "Put the published reports of a contract, a customer or all together in one document", s.makeVolume)
	on(a, access.Own, http.MethodGet, "/volumes/{id}/document", "volume-document", "A volume as PDF, page, workbook or JSON, as it was made", s.volumeDocument)
}

// seesVolume says whether who asks may see a volume: customers those that are of theirs alone.
func seesVolume(ctx context.Context, snap *catalogue.Snapshot, kind, subject string) bool {
	if sees(ctx) {
		return true
	}
	mine := who(ctx).Rights.Customer
	switch kind {
	case publish.OfCustomer:
		return mine != "" && subject == mine
	case publish.OfContract:
		e := snap.Contracts[subject]
		return e != nil && mine != "" && e.Current().Spec.Customer == mine
	}
	return false
}

func (s *Server) volumes(ctx context.Context, _ *none) (*list[VolumeView], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Volumes(ctx)
	if err != nil {
		return nil, err
	}
	var out []VolumeView
	for _, r := range rows {
		if !seesVolume(ctx, snap, r.Kind, r.Subject) {
			continue
		}
		name := snap.Name
		if r.Kind != publish.OfAll {
			name = snap.Named(r.Kind, r.Subject)
		}
		out = append(out, VolumeView{ID: r.ID, Kind: r.Kind, Of: Ref{r.Subject, name}, Period: r.Band, Words: report.PeriodWords(r.Band), Parts: r.Parts, MadeAt: r.MadeAt, MadeBy: r.MadeBy, Digest: r.Digest})
	}
	return items(out), nil
}

func (s *Server) makeVolume(ctx context.Context, in *body[NewVolume]) (*body[made], error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	zone, err := calendar.Zone(snap.Timezone)
	if err != nil {
		return nil, err
	}
	band, err := calendar.ParsePeriod(in.Body.Span, zone)
	if err != nil {
		return nil, invalid("span", err.Error())
	}
	of := publish.Volume{Kind: in.Body.Kind, Subject: in.Body.Of, Band: band, Layout: in.Body.Layout}
	for id, e := range snap.Agreements { // who is limited to teams puts together what is theirs
		if of.In(e.Current().Spec) {
			if err := s.over(ctx, access.Publish, id); err != nil {
				return nil, err
			}
		}
	}
	id, err := s.Desk.Bind(ctx, of, by(ctx), s.Now())
	return &body[made]{made{id}}, err
}

func (s *Server) volumeDocument(ctx context.Context, in *struct {
	ByID
	Format string `query:"format" enum:"pdf,html,xlsx,json" default:"pdf"`
}) (*file, error) {
	if len(in.ID) != len("00000000-0000-0000-0000-000000000000") {
		return nil, catalogue.ErrNotFound
	}
	v, err := s.Store.Volume(ctx, in.ID)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, catalogue.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if !seesVolume(ctx, snap, v.Kind, v.Subject) {
		return nil, catalogue.ErrNotFound
	}
	out := volumeFile(v, in.Format)
	return out, s.did(ctx, "export", "volume "+v.ID, map[string]string{"format": in.Format})
}

func volumeFile(v db.Volume, format string) *file {
	name := v.Subject
	if name == "" {
		name = "all"
	}
	out := &file{Disposition: `attachment; filename="` + name + "-" + strings.NewReplacer("/", "_", ":", "").Replace(v.Band) + "." + format + `"`}
	switch format {
	case "html":
		out.ContentType, out.Body = "text/html; charset=utf-8", v.Page
		out.Policy = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox"
	case "xlsx":
		out.ContentType, out.Body = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", v.Workbook
	case "json":
		out.ContentType, out.Body = "application/json", v.Content
	default:
		out.ContentType, out.Body = "application/pdf", v.Pdf
	}
	return out
}
