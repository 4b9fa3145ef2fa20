package demo_test

import (
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"kestite/server"
	"kestite/server/report"
	"kestite/server/servertest"
)

var exact = regexp.MustCompile(`^(−)?(?:(\d+) h )?(?:(\d+) min )?(\d+)\.(\d{3}) s$`)

// readExact reads a time of a statement, in ms.
func readExact(t *testing.T, text string) int64 {
	t.Helper()
	m := exact.FindStringSubmatch(text)
	if m == nil {
		t.Fatalf("%q is no exact time", text)
	}
	ms := int64(0)
	for i, unit := range []int64{3_600_000, 60_000, 1000, 1} {
		n, _ := strconv.ParseInt(m[i+2], 10, 64)
		ms += n * unit
	}
	if m[1] != "" {
		return -ms
	}
	return ms
}

// statements: of every published report the rows as printed add up, and its
// percentage recomputes from them to the last digit; the PDF prints the same rows.
func statements(t *testing.T, srv *server.Server) {
	rows, err := srv.API.Store.ReportList(ctx)
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, listed := range rows {
		r, err := srv.API.Store.Report(ctx, listed.ID)
		if err != nil {
			t.Fatal(err)
		}
		if r.State != "published" {
			continue
		}
		seen++
		var c report.Content
		if err := json.Unmarshal(r.Content, &c); err != nil {
			t.Fatal(err)
		}
		name := r.Agreement + " " + r.Period
		s := report.StatementOf(c)
		ms := map[string]int64{}
		for _, l := range append(s.Time, s.Figures...) {
			if exact.MatchString(l.Text) {
				ms[l.Name] = readExact(t, l.Text)
			}
		}
		sum := ms["Up"] + ms["Degraded"] + ms["Down"] + ms["Tolerated"] + ms["Maintenance"] +
			ms["Upstream"] + ms["Excused"] + ms["Unmeasured"]
		if len(ms) != 15 || sum != ms["Agreed time"] || ms["Agreed time"]+ms["Outside service hours"] != ms["Calendar time of the period"] {
			t.Errorf("%s: the rows do not add up: %v", name, s.Time)
		}
		base := ms["Agreed time"] - ms["Upstream"] - ms["Excused"]
		if c.Maintenance == "exclude" {
			base -= ms["Maintenance"]
		}
		if c.Unmeasured == "exclude" {
			base -= ms["Unmeasured"]
		}
		down := new(big.Rat).SetInt64(ms["Down"])
		weight, ok := new(big.Rat).SetString(c.DegradedWeight)
		if !ok {
			weight = new(big.Rat)
		}
		down.Add(down, weight.Mul(weight, big.NewRat(ms["Degraded"], 100)))
		if c.Unmeasured == "down" {
			down.Add(down, new(big.Rat).SetInt64(ms["Unmeasured"]))
		}
		if base != ms["Base"] {
			t.Errorf("%s: the base is %d, and %d follows from the rows", name, ms["Base"], base)
		}
		percent := new(big.Rat).Quo(new(big.Rat).Sub(new(big.Rat).SetInt64(base), down), new(big.Rat).SetInt64(base))
		shown := new(big.Int).Quo(new(big.Int).Mul(percent.Num(), big.NewInt(1_000_000)), percent.Denom()).Int64()
		if want := fmt.Sprintf("%d.%04d", shown/10_000, shown%10_000); c.Account.AvailabilityPercent == nil || *c.Account.AvailabilityPercent != want {
			t.Errorf("%s: %v %% is published, and %s %% follows from what is printed", name, *c.Account.AvailabilityPercent, want)
		}
		text := strings.ReplaceAll(servertest.PDFText(t, r.Document), " ", "") // where the text has spaces is the extractor's guess
		for _, l := range append(s.Time, s.Figures...) {
			if !strings.Contains(text, strings.ReplaceAll(l.Text, " ", "")) {
				t.Errorf("%s: the PDF does not print %s %s", name, l.Name, l.Text)
			}
		}
		if !strings.Contains(strings.Join(s.Notes, " "), "Downtime is down") {
			t.Errorf("%s does not say what downtime is: %v", name, s.Notes)
		}
	}
	if seen < 10 {
		t.Errorf("only %d reports are published", seen)
	}
}
