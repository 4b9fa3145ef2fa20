//go:build spreadsheet

package cli

import (
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/server/report"
)

// Spreadsheets compute when they open a workbook, or show what stands in it.
const (
	computesAlways = "0"
	computesNever  = "1"
)

// A spreadsheet shows the published figures of every vector's workbook, whether it computes
// what it opens or not. It needs LibreOffice: go test -tags spreadsheet.
func TestASpreadsheetShowsThePublishedFigures(t *testing.T) {
	made := time.Date(2026, 4, 2, 9, 0, 0, 0, time.UTC)
	dirs, err := filepath.Glob(vectors + "/*")
	if err != nil || len(dirs) < 30 {
		t.Fatalf("%d vectors, %v", len(dirs), err)
	}
	books := t.TempDir()
	of := map[string]*account.Account{}
	for _, dir := range dirs {
		r, err := readEvidence(dir, nil, os.Stderr)
		if err != nil {
			t.Fatalf("%s: %v", dir, err)
		}
		for _, a := range r.accounts {
			c := contentOf(t, a)
			laid := report.LaidAs(definition.LayoutSpec{Sections: definition.AllSections()})
			c.Layout = &laid
			c.Trend = []report.Past{{Period: "2026-02", Target: "99.9", Verdict: account.Met, Availability: "99.9512", Low: "99.9500", High: "99.9524"}}
			c.Ledger = []report.Settled{{Period: "2026-02", Currency: "NOK", Owed: "50.00", Capped: "10.00", Due: "40.00", Claimed: "40.00", Paid: "15.00", Open: "25.00"}}
			book, err := report.XLSX(c, made, "0123456789abcdef0123456789abcdef")
			if err != nil {
				t.Fatal(err)
			}
			name := filepath.Base(dir) + "." + a.Agreement
			if err := os.WriteFile(filepath.Join(books, name+".xlsx"), book, 0o600); err != nil {
				t.Fatal(err)
			}
			of[name] = a
		}
	}
	for mode, name := range map[string]string{computesAlways: "computing", computesNever: "as it stands"} {
		t.Run(name, func(t *testing.T) {
			sheets := converted(t, books, mode)
			for name, a := range of {
				rows := sheet(t, sheets, name, "Time")
				for i, want := range map[int]string{
					13: whole(a.TotalMS.Agreed), 14: whole(a.BaseMS), 15: whole(a.DowntimeMS),
					16: orDashed(a.AvailabilityPercent), 17: orDashed(a.AvailabilityPercent),
					18: whole(a.AllowanceMS), 19: whole(a.AllowanceMS - a.DowntimeMS), 20: a.CoveragePercent, 21: a.CreditPercent,
					22: orDashed(a.AvailabilityLowPercent), 23: orDashed(a.AvailabilityHighPercent),
				} {
					if len(rows) < i || rows[i-1][1] != want {
						t.Errorf("%s: %q, the account says %s", name, rows[i-1], want)
					}
				}
				if got := strings.Join(sheet(t, sheets, name, "The last periods")[1], "|"); !strings.Contains(got, "99.9|99.9512|99.9500|99.9524") {
					t.Errorf("%s: the trend is %s", name, got)
				}
				if got := strings.Join(sheet(t, sheets, name, "Credits")[1], "|"); !strings.Contains(got, "50.00|10.00|40.00|40.00|15.00|25.00") {
					t.Errorf("%s: the credits are %s", name, got)
				}
			}
		})
	}
}

// converted writes every sheet of every workbook as CSV, as it is shown; it returns where.
func converted(t *testing.T, books, mode string) string {
	t.Helper()
	profile, out := t.TempDir(), t.TempDir()
	user := filepath.Join(profile, "user")
	if err := os.MkdirAll(user, 0o700); err != nil {
		t.Fatal(err)
	}
	settings := `<?xml version="1.0" encoding="UTF-8"?>
<oor:items xmlns:oor="http://openoffice.org/2001/registry" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">
<item oor:path="/org.openoffice.Office.Calc/Formula/Load"><prop oor:name="OOXMLRecalcMode" oor:op="fuse"><value>` + mode + `</value></prop></item>
</oor:items>`
	if err := os.WriteFile(filepath.Join(user, "registrymodifications.xcu"), []byte(settings), 0o600); err != nil {
		t.Fatal(err)
	}
	list, err := filepath.Glob(filepath.Join(books, "*.xlsx"))
	if err != nil {
		t.Fatal(err)
	}
	// Comma, quotes where they must be, UTF-8, all rows, as shown, every sheet.
	args := append([]string{"-env:UserInstallation=file://" + profile, "--headless", "--convert-to", `csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,false,true,false,false,-1`, "--outdir", out}, list...)
	if said, err := exec.Command("soffice", args...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	return out
}

func sheet(t *testing.T, dir, book, name string) [][]string {
	t.Helper()
	f, err := os.Open(filepath.Join(dir, book+"-"+name+".csv"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil || len(rows) < 2 {
		t.Fatalf("%s of %s: %d rows, %v", name, book, len(rows), err)
	}
	return rows
}

// whole is a number with its thousands apart.
func whole(n int64) string {
	s := fmt.Sprint(n)
	minus := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	if minus {
		s = "-" + s
	}
	return s
}

func orDashed(s *string) string {
	if s == nil {
		return "–"
	}
	return *s
}
