package api

import (
	"archive/zip"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/seal"
	"kestite/server/store/gen/db"
)

func (s *Server) archiveRoutes(a *operations) {
	on(a, access.Publish, http.MethodGet, "/contracts/{id}/archive", "contract-archive",
		"All that was published under a contract in one zip: the evidence archives as kestite verify takes them, a register, the ledger of credits, the public keys", s.contractArchive)
}

// contractArchive writes report after report, so that it needs no more memory for many than for one.
func (s *Server) contractArchive(ctx context.Context, in *struct {
	ID string `path:"id" maxLength:"120"`
}) (*huma.StreamResponse, error) {
	snap, err := s.Definitions.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if snap.Contracts[in.ID] == nil {
		return nil, catalogue.ErrNotFound
	}
	rows, err := s.Store.ReportList(ctx)
	if err != nil {
		return nil, err
	}
	var reports []db.ReportListRow
	for _, r := range rows {
		if r.State != "published" || r.Serial == nil || snap.Agreements[r.Agreement] == nil {
			continue
		}
		p, err := snap.PeriodNamed(r.Agreement, r.Period)
		if err != nil || snap.Accounting(r.Agreement, p.Span().From).Spec.Contract != in.ID {
			continue
		}
		if err := s.over(ctx, access.Publish, r.Agreement); err != nil {
			return nil, err
		}
		reports = append(reports, r)
	}
	if len(reports) == 0 {
		return nil, huma.Error409Conflict("Nothing was published under this contract yet.")
	}
	credits, err := s.creditLines(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.did(ctx, "export", "contract "+in.ID, map[string]string{"reports": strconv.Itoa(len(reports))}); err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "application/zip")
		hc.SetHeader("Content-Disposition", `attachment; filename="`+in.ID+`.zip"`)
		if err := s.writeContract(ctx, hc.BodyWriter(), in.ID, reports, credits); err != nil {
			if ctx.Err() == nil {
				s.Log.Error("the archive of a contract was written in part only", "contract", in.ID, "error", err)
			}
			panic(http.ErrAbortHandler) // the reader sees that the end is missing
		}
	}}, nil
}

func (s *Server) writeContract(ctx context.Context, to io.Writer, contract string, reports []db.ReportListRow, credits []CreditLine) error {
	z := zip.NewWriter(to)
	register := [][]string{{"number", "agreement", "period", "report", "verdict", "availability_percent", "published_at", "published_by", "file"}}
	for _, r := range reports {
		name := fmt.Sprintf("reports/%04d-%s-%s-report-%d.zip", *r.Serial, r.Agreement, strings.NewReplacer("/", "_", ":", "").Replace(r.Period), r.Number)
		row, err := s.Store.Report(ctx, r.ID)
		if err != nil {
			return err
		}
		a, err := s.Desk.Keys.Archive(ctx, row)
		if err != nil {
			return err
		}
		// Stored: what is in it is packed or signed, and is taken out as it is.
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: *r.PublishedAt})
		if err != nil {
			return err
		}
		if err := a.Write(w); err != nil {
			return err
		}
		register = append(register, append([]string{strconv.FormatInt(*r.Serial, 10)}, spreadsheet(r.Agreement, r.Period, strconv.Itoa(int(r.Number)), r.Verdict, r.AvailabilityPercent,
			r.PublishedAt.UTC().Format("2006-01-02T15:04:05Z"), r.PublishedBy, name)...))
	}
	var lines []CreditLine
	for _, l := range credits {
		if l.Contract != nil && l.Contract.ID == contract {
			lines = append(lines, l)
		}
	}
	for name, table := range map[string][][]string{"register.csv": register, "credits.csv": creditTable(lines)} {
		w, err := z.Create(name)
		if err != nil {
			return err
		}
		if err := csv.NewWriter(w).WriteAll(table); err != nil {
			return err
		}
	}
	keys, err := s.Desk.Keys.List(ctx)
	if err != nil {
		return err
	}
	w, err := z.Create("public-keys.pem")
	if err != nil {
		return err
	}
	for _, k := range keys {
		text, err := seal.PEM(k.Public)
		if err != nil {
			return err
		}
		if _, err := io.WriteString(w, text); err != nil {
			return err
		}
	}
	return z.Close()
}
