package cli

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"kestite/core/span"
)

const vectors = "../../../testdata/vectors"

func runAccount(t *testing.T, stdin []byte, args ...string) (stdout, stderr string, err error) {
	t.Helper()
	var out, errOut bytes.Buffer
	root := Root()
	root.SetArgs(append([]string{"account"}, args...))
	root.SetIn(bytes.NewReader(stdin))
	root.SetOut(&out)
	root.SetErr(&errOut)
	err = root.Execute()
	return out.String(), errOut.String(), err
}

func decode(t *testing.T, text string) (v map[string]any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("no JSON: %v\n%s", err, text)
	}
	return v
}

func TestAccountEqualsEveryVector(t *testing.T) {
	dirs, err := filepath.Glob(vectors + "/*")
	if err != nil || len(dirs) < 49 {
		t.Fatalf("found %d vectors, %v", len(dirs), err)
	}
	for _, dir := range dirs {
		t.Run(filepath.Base(dir), func(t *testing.T) {
			got, _, err := runAccount(t, nil, dir)
			if err != nil {
				t.Fatal(err)
			}
			want, err := os.ReadFile(filepath.Join(dir, "account.json"))
			if err != nil {
				t.Fatal(err)
			}
			if g, w := decode(t, got), decode(t, string(want)); !reflect.DeepEqual(g, w) {
				t.Errorf("got  %s\nwant %s", got, want)
			}
		})
	}
}

func TestAccountRefusesWithTheReason(t *testing.T) {
	// What a message must name for the reason in each why.txt.
	mentions := map[string][]string{
		"adjustment-class":      {"adjustments[0].class", "maintenance"},
		"as-of-before-start":    {"as_of", "before the period's start"},
		"bad-rrule":             {"windows[0].rrule"},
		"bad-time":              {"measurements.csv line 3", "RFC 3339"},
		"contradicting-rows":    {"measurements.csv lines 2 and 3", "differ"},
		"cycle":                 {"circle"},
		"dependant-excuse":      {"excuses", "depends on its own"},
		"duplicate-agreement":   {"two agreements", "sailings-gold"},
		"end-before-start":      {"period.end", "not after"},
		"missing-column":        {"no column outcome"},
		"need-too-many":         {"need", "above the size"},
		"no-locations":          {"services[0].checks[0].locations", "empty"},
		"overlapping-revisions": {"two revisions of sailings-page overlap"},
		"quorum-zero":           {"quorum", "0"},
		"self-excuse":           {"excuses its own service"},
		"target-above-100":      {"target_percent", "100.1"},
		"unknown-field":         {"services[0].checks[0].retries", "no field"},
		"unknown-format":        {"kestite-evidence/9", "not known"},
		"unknown-outcome":       {"measurements.csv line 3", "'good' is none of ok, degraded, failed, error"},
		"unknown-service":       {"agreements[0].service", "names no service"},
		"unknown-zone":          {"period.timezone", "names no"},
		"zero-window":           {"windows[0].duration_s", "0"},

		"a-limit-of-four-decimals":           {"agreements[0].latency.limit_ms", "three decimals"},
		"a-start-every-half-hour":            {"windows[0].rrule", "48 times a day"},
		"a-start-every-minute":               {"windows[0].rrule", "1440 times a day"},
		"a-window-of-32-days":                {"windows[0].duration_s", "31 days"},
		"adjustment-of-an-unknown-agreement": {"adjustments[0].agreement", "names no agreement"},
		"check-in-two-services":              {"sailings-page", "sailings", "berths"},
		"circle-for-a-minute":                {"circle", "12:00", "12:01"},
		"count-and-until":                    {"windows[0].rrule", "UNTIL and COUNT exclude each other"},
		"count-of-none":                      {"windows[0].rrule", "COUNT"},
		"duplicate-adjustment":               {"two adjustments have the id a"},
		"emergency-in-mode-ignore":           {"agreements[0].maintenance.emergency", "mode ignore"},
		"empty-group":                        {"depends_on[0].services", "empty"},
		"excuse-that-depends-for-a-minute":   {"excuses desk", "depends on its own service sailings", "12:00"},
		"infinite-measure":                   {"measurements.csv line 3", "total_ms", "no finite decimal number"},
		"latency-of-an-unknown-check":        {"agreements[0].latency.check", "names no check"},
		"latency-target-too-high":            {"agreements[0].latency.target_percent", "101"},
		"lead-of-two-days":                   {"agreements[0].upstream.lead_s", "86400"},
		"left-out-rows-contradict":           {"measurements.csv lines 3 and 4", "differ"},
		"linger-of-two-days":                 {"agreements[0].upstream.linger_s", "86400"},
		"min-outage-of-two-days":             {"agreements[0].min_outage_s", "86400"},
		"need-of-none":                       {"need", "0"},
		"negative-latency-limit":             {"agreements[0].latency.limit_ms", "above 0"},
		"negative-objective":                 {"agreements[0].objectives.outages_at_most", "at least 0"},
		"numbered-day-in-a-week":             {"windows[0].rrule", "BYDAY"},
		"overlapping-service-revisions":      {"two revisions of the service sailings overlap"},
		"overlapping-window-revisions":       {"two revisions of the window", "overlap"},
		"revision-without-length":            {"services[1].until", "not after from"},
		"rolling-more-places-than-runs":      {"rolling.locations", "runs"},
		"rolling-more-places-than-there-are": {"rolling.locations", "can never agree"},
		"rolling-window-holds-too-few":       {"rolling.window_s", "too few"},
		"rolling-window-too-long":            {"rolling.window_s", "longer than a day"},
		"starts-hidden-by-setpos":            {"windows[0].rrule", "48 times a day"},
		"two-starts-an-hour":                 {"windows[0].rrule", "48 times a day"},
		"unknown-objective":                  {"agreements[0].objectives.mtbf_s", "no field"},
		"unknown-window-type":                {"windows[0].type", "secret"},
		"window-of-an-unknown-service":       {"windows[0].services", "names no service"},
	}
	dirs, _ := filepath.Glob("../../../testdata/vectors-refused/*")
	if len(dirs) != len(mentions) {
		t.Fatalf("%d bundles, %d expectations", len(dirs), len(mentions))
	}
	for _, dir := range dirs {
		t.Run(filepath.Base(dir), func(t *testing.T) {
			out, _, err := runAccount(t, nil, dir)
			var refused *Refused
			if !errors.As(err, &refused) || out != "" {
				t.Fatalf("err %v, output %q", err, out)
			}
			for _, word := range mentions[filepath.Base(dir)] {
				if !strings.Contains(err.Error(), word) {
					t.Errorf("%q does not mention %q", err, word)
				}
			}
		})
	}
}

func TestAccountReadsAZipFromStandardInput(t *testing.T) {
	dir := vectors + "/15-clauses"
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, name := range []string{"bundle.json", "measurements.csv"} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		w, err := z.Create("evidence/" + name)
		if err != nil {
			t.Fatal(err)
		}
		w.Write(data)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	fromZip, _, err := runAccount(t, buf.Bytes(), "-")
	if err != nil {
		t.Fatal(err)
	}
	fromDir, _, err := runAccount(t, nil, dir)
	if err != nil {
		t.Fatal(err)
	}
	if fromZip != fromDir {
		t.Errorf("zip and directory differ")
	}
}

func TestAccountSaysWhatItLeftOut(t *testing.T) {
	_, stderr, err := runAccount(t, nil, vectors+"/30-untidy-rows", "--format", "csv")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(stderr, "measurements left out") {
		t.Errorf("stderr %q", stderr)
	}
}

func TestExplainGoesDownToTheLines(t *testing.T) {
	upstream := vectors + "/13-upstream-excused"
	text, _, err := runAccount(t, nil, upstream, "--format", "table", "--explain", "2026-03-02T08:31:30Z")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"sailings-gold at 2026-03-02T08:31:30.000Z: upstream",
		"* 4  excused upstream card-payments was down from 2026-03-02T08:00:00.000Z to 2026-03-02T08:30:00.000Z (lead 0 s, linger 2 min)",
		"line 493  2026-03-02T08:01:00.000Z  failed  (begins the run)",
		"line 523  2026-03-02T08:31:00.000Z  failed  (holds)",
		"line 524  2026-03-02T08:32:00.000Z  failed  (the next after it)",
		"line 1971  2026-03-02T08:29:00.000Z  failed  (holds)", // of the upstream service
	} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not say %q:\n%s", want, text)
		}
	}
	// The lines named are those of the file.
	rows, err := os.ReadFile(upstream + "/measurements.csv")
	if err != nil {
		t.Fatal(err)
	}
	if line := strings.Split(string(rows), "\n")[523-1]; !strings.HasPrefix(line, "sailings-page,tolvik,2026-03-02T08:31:00.000Z,failed") {
		t.Errorf("line 523 is %s", line)
	}
	rolling, _, err := runAccount(t, nil, vectors+"/33-rolling-rule", "--format", "table", "--explain", "2026-03-02T10:04:30Z")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"line 612  2026-03-02T10:00:00.000Z  failed  (lets the rolling rule believe it)", "line 614  2026-03-02T10:02:00.000Z  failed  (lets the rolling rule believe it)",
		"failures are believed when 4 runs failed from at least 2 locations within 300 s",
	} {
		if !strings.Contains(rolling, want) {
			t.Errorf("it does not say %q:\n%s", want, rolling)
		}
	}
	inside, _, err := runAccount(t, nil, vectors+"/14-modelled-service", "--explain", "2026-03-02T06:45:00Z")
	if err != nil {
		t.Fatal(err)
	}
	var list []explained
	if err := json.Unmarshal([]byte(inside), &list); err != nil {
		t.Fatal(err)
	}
	if len(list) != 1 || len(list[0].Behind) != 3 || len(list[0].Measurements) != 3 || len(list[0].Measurements[0].Lines) == 0 {
		t.Errorf("behind a modelled service: %+v", list)
	}
	if strings.Contains(inside, `"lines": null`) {
		t.Error("lines are null somewhere")
	}
	for _, bad := range []string{"noon", "2027-01-01T00:00:00Z"} {
		_, _, err := runAccount(t, nil, upstream, "--explain", bad)
		var refused *Refused
		if !errors.As(err, &refused) || !strings.Contains(err.Error(), "--explain") {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

// The class explained is the one accounted, at every edge of every interval of
// every vector.
func TestExplainAgreesWithEveryVector(t *testing.T) {
	dirs, _ := filepath.Glob(vectors + "/*")
	for _, dir := range dirs {
		r, err := readEvidence(dir, nil, &bytes.Buffer{})
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range r.accounts {
			for _, i := range a.Intervals {
				for _, at := range []span.Instant{i.From, (i.From + i.To) / 2, i.To - 1} {
					if x := r.evidence.Explain(a, r.rows.Sources(), at); x.Class != i.Class {
						t.Errorf("%s %s at %s: explained as %s, accounted as %s", filepath.Base(dir), a.Agreement, at, x.Class, i.Class)
					}
				}
			}
		}
		r.source.close()
	}
}
