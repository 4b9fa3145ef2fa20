package publish

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/calendar"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/seal"
	"kestite/core/span"
	"kestite/server/report"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// Kinds of volumes.
const (
	OfContract = "contract"
	OfCustomer = "customer"
	OfAll      = "all"
)

// Volume is what a volume is asked of.
type Volume struct {
	Kind, Subject string
	Band          calendar.Period // periods that end within it, and are over
	Layout        string          // id; empty: that of the contract or customer
}

// In says whether an agreement, as it is defined for a period, belongs to a volume.
func (v Volume) In(spec definition.AgreementSpec) bool {
	switch v.Kind {
	case OfContract:
		return spec.Contract == v.Subject
	case OfCustomer:
		return spec.Customer == v.Subject
	}
	return true
}

// Bind puts published reports side by side in a volume, which is kept as it is made. The
// error is a *definition.Fault where there are none, or catalogue.ErrNotFound.
func (d *Desk) Bind(ctx context.Context, of Volume, by trail.By, now time.Time) (string, error) {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	v, err := d.volume(ctx, snap, of, now)
	if err != nil {
		return "", err
	}
	content, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	logos, err := v.Layout.Logos(ctx, d.Store.Queries)
	if err != nil {
		return "", err
	}
	row := db.AddVolumeParams{Kind: of.Kind, Subject: of.Subject, Band: of.Band.Name(), MadeAt: now, MadeBy: by.Kept(), Content: content, Digest: seal.Digest(content)}
	document, err := v.Document(now, row.Digest, logos)
	if err != nil {
		return "", err
	}
	if row.Pdf, err = document.PDF(); err != nil {
		return "", err
	}
	if row.Page, err = document.HTML(); err != nil {
		return "", err
	}
	if row.Workbook, err = v.XLSX(document); err != nil {
		return "", err
	}
	var id string
	err = d.Store.Tx(ctx, func(_ pgx.Tx, q *db.Queries) error {
		if id, err = q.AddVolume(ctx, row); err != nil {
			return err
		}
		return trail.Add(ctx, q, trail.Entry{By: by, Action: "put together", Subject: "volume " + id, Detail: map[string]any{"kind": of.Kind, "of": of.Subject, "period": of.Band.Name(), "reports": len(v.Parts)}})
	})
	return id, err
}

// volume is what a volume says.
func (d *Desk) volume(ctx context.Context, snap *catalogue.Snapshot, of Volume, now time.Time) (report.Volume, error) {
	v := report.Volume{Format: report.VolumeFormat, Organisation: snap.Name, Kind: of.Kind, Name: snap.Name, Period: of.Band.Name(), Timezone: of.Band.Location.String(), Parts: []report.Part{}}
	spec := definition.AgreementSpec{}
	switch of.Kind {
	case OfContract:
		e := snap.Contracts[of.Subject]
		if e == nil {
			return v, catalogue.ErrNotFound
		}
		v.Name, spec.Contract, spec.Customer = e.Current().Spec.Name, of.Subject, e.Current().Spec.Customer
	case OfCustomer:
		e := snap.Customers[of.Subject]
		if e == nil {
			return v, catalogue.ErrNotFound
		}
		v.Name, spec.Customer = e.Current().Spec.Name, of.Subject
	case OfAll:
	default:
		return v, definition.Faultf("kind", "%q is none of contract, customer and all", of.Kind)
	}
	v.Layout = report.LaidBy(snap, spec)
	if of.Layout != "" {
		e := snap.Layouts[of.Layout]
		if e == nil {
			return v, definition.Faultf("layout", "%q names no layout", of.Layout)
		}
		logo := v.Layout.CustomerLogo
		v.Layout = report.LaidAs(e.Current().Spec)
		v.Layout.CustomerLogo = logo
	}
	for _, id := range catalogue.Sorted(snap.Agreements) {
		for _, p := range finished(snap, id, of.Band.Span(), span.Of(now)) {
			spec := snap.Accounting(id, p.Span().From).Spec
			if !of.In(spec) {
				continue
			}
			r, err := d.Store.LatestPublished(ctx, db.LatestPublishedParams{Agreement: id, Period: p.Name()})
			if errors.Is(err, pgx.ErrNoRows) {
				v.Missing = append(v.Missing, spec.Name+", "+p.Words())
				continue
			}
			if err != nil {
				return v, err
			}
			part := report.Part{Report: r.ID}
			if err := json.Unmarshal(r.Content, &part.Content); err != nil {
				return v, err
			}
			if r.Serial != nil && r.Manifest != nil {
				m, err := seal.Decode(r.Manifest)
				if err != nil {
					return v, err
				}
				part.Number, part.Code = *r.Serial, m.Link(r.Manifest).Code()
			}
			v.Parts = append(v.Parts, part)
		}
	}
	if len(v.Parts) == 0 {
		return v, definition.Faultf("span", "nothing that ends in %s is published; publish its reports first", of.Band.Words())
	}
	return v, nil
}
