package report

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/catalogue"
	"kestite/core/evidence"
	"kestite/core/measure"
	"kestite/core/seal"
	"kestite/server/history"
	"kestite/server/store/gen/db"
	"kestite/server/store/raw"
)

// mostMeasured is how many measurements an archive holds at most: more of them would not
// fit into memory beside one another.
const mostMeasured = 2_000_000

// Measured writes all measurements that an account follows from; nil where they are not
// all kept any more, so that the account does not follow from them, or are too many.
func Measured(ctx context.Context, q *db.Queries, p *history.Period, a *account.Account) ([]byte, error) {
	checks := slices.Sorted(maps.Keys(p.Bundle.Checks))
	kinds := map[string][]string{}
	var names []string
	for _, id := range checks {
		kind, _ := measure.KindNamed(p.Bundle.Checks[id][0].Kind)
		for _, m := range kind.Measures {
			kinds[id] = append(kinds[id], m.Name)
		}
		names = append(names, kinds[id]...)
	}
	var buf bytes.Buffer
	w, err := evidence.NewWriter(&buf, names)
	if err != nil {
		return nil, err
	}
	lanes, err := q.LanesOfChecks(ctx, checks)
	if err != nil {
		return nil, err
	}
	count := 0
	for _, l := range lanes {
		rows, err := raw.During(ctx, q, l.ID, p.Bundle.Span.From.Add(-catalogue.Margin), p.Bundle.Span.To.Add(catalogue.Margin))
		if err != nil {
			return nil, err
		}
		if count += len(rows); count > mostMeasured {
			return nil, nil
		}
		for _, r := range rows {
			if err := w.Write(l.CheckID, l.Location, r.At, r.Outcome, kinds[l.CheckID], r.Values()); err != nil {
				return nil, err
			}
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	open := func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(buf.Bytes())), nil }
	m, err := evidence.ReadMeasurements(p.Bundle, seal.MeasurementsName, open, nil)
	if err != nil { // what is kept says otherwise than it did, and proves nothing
		return nil, nil
	}
	again, err := account.NewEvidence(p.Bundle, m.Stretches, m.Timing).Account(p.Bundle.Agreements[0])
	if err != nil {
		return nil, err
	}
	kept, err := seal.EncodeAccounts([]*account.Account{a})
	if err != nil {
		return nil, err
	}
	made, err := seal.EncodeAccounts([]*account.Account{again})
	if err != nil || !bytes.Equal(kept, made) {
		return nil, err
	}
	return buf.Bytes(), nil
}

// Names of the files that are rendered of what a report says.
const (
	HTMLName = "report.html"
	XLSXName = "report.xlsx"
	CSVName  = "report.csv" // its time, interval by interval
)

// Files are the files of a report as they are published: what it says in each form, and
// what that follows from. at and digest are those that the documents print; measurements
// may be nil.
func Files(c Content, at time.Time, digest string, content, document, inputs, measurements []byte, logos []Logo) (map[string][]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(inputs))
	if err != nil {
		return nil, err
	}
	var in Inputs
	if err := json.NewDecoder(z).Decode(&in); err != nil {
		return nil, fmt.Errorf("the inputs of %s: %w", c.Agreement, err)
	}
	out := map[string][]byte{seal.ReportName: content, "report.pdf": document}
	if measurements != nil {
		out[seal.MeasurementsName] = measurements
	}
	for _, l := range logos {
		out["logo-"+l.Of+".png"] = l.PNG
	}
	if out[HTMLName], err = HTML(c, at, digest, logos); err != nil {
		return nil, err
	}
	if out[CSVName], err = c.CSV(); err != nil {
		return nil, err
	}
	if out[XLSXName], err = XLSX(c, at, digest); err != nil {
		return nil, err
	}
	if out[seal.AccountName], err = seal.EncodeAccounts([]*account.Account{&c.Account}); err != nil {
		return nil, err
	}
	for name, v := range map[string]any{seal.BundleName: in.Bundle, seal.StretchesName: in.Stretches} {
		text, err := json.MarshalIndent(v, "", " ")
		if err != nil {
			return nil, err
		}
		out[name] = append(text, '\n')
	}
	return out, nil
}
