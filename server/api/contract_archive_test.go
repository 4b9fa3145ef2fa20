package api_test

import (
	"archive/zip"
	"bytes"
	"io"
	"net/http"
	"strings"
	"testing"

	"kestite/core/access"
	"kestite/core/seal"
	"kestite/server/servertest"
)

// Everything that was published under a contract is one download, in which each report is
// the archive that verifies by itself; what is of other contracts is not in it.
func TestAContractIsOneArchive(t *testing.T) {
	f := setUp(t)
	contract := f.manager.Create("/contracts", map[string]any{"name": "Tickets", "customer": "passenger-division"})
	with := func(name, contract string) string {
		return f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) {
			s["name"], s["from"], s["unmeasured"], s["contract"] = name, "2026-01-01", "down", contract
			s["fee"], s["credits"] = map[string]any{"amount": "100.00", "currency": "NOK"}, []any{map[string]any{"below_percent": "99.9", "credit_percent": "10"}}
		}))
	}
	inside, outside := with("Inside", contract), with("Outside", "")
	now := inOslo(t)
	month := now.AddDate(0, 0, -now.Day())
	last, before := month.Format("2006-01"), month.AddDate(0, 0, -month.Day()).Format("2006-01")
	get := func(c *servertest.Client, id string) servertest.Answer {
		return c.Do(http.MethodGet, "/contracts/"+id+"/archive", nil)
	}
	refused(t, "before anything is published", get(f.manager, contract), 409, "Nothing was published")
	for _, period := range []string{before, last} {
		publish(t, f.manager, inside, period)
		publish(t, f.manager, outside, period)
	}
	refused(t, "a viewer", get(servertest.As(t, f.srv, f.url, access.Viewer), contract), 403, "publish")
	refused(t, "no such contract", get(f.manager, "nothing"), 404, "")
	got := get(f.manager, contract)
	z, err := zip.NewReader(bytes.NewReader(got.Body), int64(len(got.Body)))
	if err != nil {
		t.Fatalf("%v: %s", err, got)
	}
	files := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		if files[f.Name], err = io.ReadAll(r); err != nil {
			t.Fatal(err)
		}
	}
	reports := 0
	for name, text := range files {
		if !strings.HasPrefix(name, "reports/") {
			continue
		}
		reports++
		a, err := seal.Read(bytes.NewReader(text), int64(len(text)))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if differs, _, err := a.Recompute(); err != nil || len(differs) > 0 || a.Manifest.Agreement != inside {
			t.Errorf("%s of %s: %v, %v", name, a.Manifest.Agreement, differs, err)
		}
		if !strings.Contains(string(files["register.csv"]), name) {
			t.Errorf("the register has no %s", name)
		}
	}
	if credits := string(files["credits.csv"]); reports != 2 || strings.Count(credits, "Inside") != 2 || strings.Contains(credits, "Outside") || files["public-keys.pem"] == nil {
		t.Errorf("%d reports; credits:\n%s", reports, credits)
	}
}
