package cli

import (
	"bytes"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"kestite/core/account"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/server/report"
)

// contentOf is what a report of an account says.
func contentOf(t *testing.T, a *account.Account) report.Content {
	t.Helper()
	of := a.Clauses.Agreement
	spec := definition.AgreementSpec{Name: "=Ticket sales <b>", Customer: "port", Service: a.Service, Timezone: "Europe/Oslo", TargetPercent: of.TargetPercent, DegradedWeightPercent: of.DegradedWeightPercent,
		Unmeasured: of.Unmeasured, Credits: of.Credits, Fee: &definition.Fee{Amount: "1234.56", Currency: "NOK"}}
	c, err := report.New(report.Subject{Organisation: "Skerry Line", ServiceName: "Sales", Period: "2026-03", Number: 1, Remark: "+cmd|' /C calc'!A0", Spec: spec, Direction: credit.ToCustomer,
		Named: func(_, id string) string { return id }}, a)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Every vector's accounts carry the same figures in every form: the workbook recalculates
// them, a text extractor reads them from the PDF, and they stand in the page.
func TestEveryFormHasTheFigures(t *testing.T) {
	dirs, err := filepath.Glob(vectors + "/*")
	if err != nil || len(dirs) < 30 {
		t.Fatalf("%d vectors, %v", len(dirs), err)
	}
	made := time.Date(2026, 4, 2, 9, 0, 0, 0, time.UTC)
	tags := regexp.MustCompile(`<[^>]*>`)
	count := 0
	for _, dir := range dirs {
		r, err := readEvidence(dir, nil, os.Stderr)
		if err != nil {
			t.Fatalf("%s: %v", dir, err)
		}
		for _, a := range r.accounts {
			count++
			name := filepath.Base(dir) + " " + a.Agreement
			c := contentOf(t, a)
			book, err := report.XLSX(c, made, "0123456789abcdef0123456789abcdef")
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			recalculated(t, name, book, a)

			page, err := report.HTML(c, made, "0123456789abcdef0123456789abcdef", nil)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if bytes.Contains(page, []byte("<b>")) || bytes.Contains(page, []byte("<script")) || bytes.Contains(page, []byte("http")) {
				t.Errorf("%s: the page has markup of its data, scripts, or something to load", name)
			}
			carries(t, name+", page", html.UnescapeString(tags.ReplaceAllString(string(page), "\n")), c)
			document, err := report.PDF(c, made, "0123456789abcdef0123456789abcdef", nil)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			carries(t, name+", PDF", textOf(t, document), c)
		}
		r.source.close()
	}
	if count < 30 {
		t.Errorf("only %d accounts", count)
	}
}

// recalculated compares the formulas of a workbook with the account.
func recalculated(t *testing.T, name string, book []byte, a *account.Account) {
	t.Helper()
	f, err := excelize.OpenReader(bytes.NewReader(book))
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	defer f.Close()
	availability := "–"
	if a.AvailabilityPercent != nil {
		availability = *a.AvailabilityPercent
	}
	for cell, want := range map[string]string{"B13": fmt.Sprint(a.TotalMS.Agreed), "B14": fmt.Sprint(a.BaseMS), "B15": fmt.Sprint(a.DowntimeMS), "B16": availability, "B17": availability} {
		plain := trimmedZeros(want)
		if got, err := f.CalcCellValue("Time", cell, excelize.Options{RawCellValue: true}); err != nil || trimmedZeros(got) != plain {
			t.Errorf("%s: Time!%s recalculates to %q, %v; the account says %s", name, cell, got, err, want)
		}
		// Who does not compute sees the same, and it is a number.
		shown, err := f.GetCellValue("Time", cell, excelize.Options{RawCellValue: true})
		kind, failed := f.GetCellType("Time", cell)
		if err != nil || failed != nil || trimmedZeros(shown) != plain || want != "–" && kind != excelize.CellTypeUnset && kind != excelize.CellTypeNumber {
			t.Errorf("%s: Time!%s shows %q of kind %d, %v %v; the account says %s", name, cell, shown, kind, err, failed, want)
		}
	}
	if p, err := f.GetDocProps(); err != nil || p.Creator != "Skerry Line" || p.LastModifiedBy != "Skerry Line" || p.Created != "2026-04-02T09:00:00Z" || p.Modified != p.Created {
		t.Errorf("%s: it says of itself %+v, %v", name, p, err)
	}
	rows, err := f.GetRows("Intervals")
	if err != nil || len(rows) != len(a.Intervals)+1 {
		t.Errorf("%s: %d rows of %d intervals, %v", name, len(rows)-1, len(a.Intervals), err)
	}
	if formula, err := f.GetCellFormula("Report", "B2"); err != nil || formula != "" {
		t.Errorf("%s: a name became the formula %q, %v", name, formula, err)
	}
}

func trimmedZeros(s string) string {
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	return s
}

// carries says whether a text has all that the statement says.
func carries(t *testing.T, name, text string, c report.Content) {
	t.Helper()
	words := bare(text)
	s := report.StatementOf(c)
	for _, l := range append(append([]report.Line{}, s.Time...), s.Figures...) {
		for _, part := range []string{l.Name, l.Text} {
			if !strings.Contains(words, bare(part)) {
				t.Errorf("%s: it does not say %s: %q\n", name, l.Name, l.Text)
			}
		}
	}
	for _, want := range []string{report.VerdictSentence(c), report.CreditWords(c), c.Remark, "SHA-256"} {
		if !strings.Contains(words, bare(want)) {
			t.Errorf("%s: it does not say %q", name, want)
		}
	}
	if verdict, figures, clauses := strings.Index(words, bare(report.VerdictSentence(c))), strings.Index(words, bare("Calendar time of the period")), strings.Index(words, bare("What was promised")); verdict > figures || figures > clauses {
		t.Errorf("%s: verdict, figures and clauses stand in another order", name)
	}
}

// bare is a text without spaces: extractors put them where they see gaps.
func bare(text string) string { return strings.Join(strings.Fields(text), "") }

// textOf is the text of a PDF in reading order.
func textOf(t *testing.T, document []byte) string {
	t.Helper()
	cmd := exec.Command("pdftotext", "-", "-")
	cmd.Stdin = bytes.NewReader(document)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("pdftotext (of poppler-utils, which make test installs): %v", err)
	}
	return string(out)
}
