package evidence_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/evidence"
)

// good is a bundle that uses everything; the tests break it in one place each.
const good = `{
 "format": "kestite-evidence/1", "note": "complete",
 "period": {"timezone": "Europe/Oslo", "start": "2026-03-01T00:00:00", "end": "2026-04-01T00:00:00"},
 "as_of": "2026-03-20T00:00:00Z",
 "services": [
  {"id": "tickets", "kind": "business", "combine": "worst", "checks": [
   {"id": "page", "kind": "http", "interval_s": 60, "stale_after_s": 150, "confirm": 2, "recover": 1, "quorum": "majority", "role": "decides", "locations": ["tolvik", "eskerby"], "until": "2026-03-10T00:00:00Z"},
   {"id": "page", "kind": "http", "interval_s": 30, "stale_after_s": 100, "quorum": 2, "locations": ["tolvik", "eskerby"], "from": "2026-03-10T00:00:00Z"}],
   "depends_on": [{"services": ["acquirer", "quay"], "need": 1}]},
  {"id": "acquirer", "kind": "supplier", "checks": [{"id": "gateway", "kind": "http", "interval_s": 60, "stale_after_s": 150, "locations": ["tolvik"]}]},
  {"id": "quay", "kind": "supporting"},
  {"id": "portal", "kind": "business", "depends_on": [{"services": ["tickets"]}]}
 ],
 "windows": [{"id": "sunday", "services": ["tickets"], "start": "2026-03-01T02:00:00", "timezone": "Europe/Oslo", "duration_s": 3600, "rrule": "FREQ=WEEKLY;BYDAY=SU", "exdates": ["2026-03-08T02:00:00"], "announced_at": "2026-02-01T00:00:00Z"}],
 "agreements": [
  {"id": "gold", "service": "tickets", "target_percent": "99.9", "from": "2026-01-01T00:00:00Z", "until": "2027-01-01T00:00:00Z",
   "service_hours": {"timezone": "Europe/Oslo", "weekly": [{"days": ["MO", "TU"], "from": "08:00", "to": "24:00"}], "holidays": ["2026-03-09"]},
   "maintenance": {"mode": "exclude", "notice_s": 86400, "cap_s": 7200}, "upstream": {"excuse": ["acquirer"], "lead_s": 60, "linger_s": 120},
   "degraded_weight_percent": 25, "unmeasured": "exclude", "min_outage_s": 60, "min_coverage_percent": "95.5",
   "credits": [{"below_percent": "99", "credit_percent": "10"}], "latency": {"check": "page", "limit_ms": 300, "target_percent": "99"}}
 ],
 "adjustments": [{"id": "a1", "agreement": "gold", "from": "2026-03-02T10:00:00Z", "to": "2026-03-02T11:00:00Z", "class": "excused", "approved": true, "reason": "fire drill"}]
}`

func compile(text string) (*definition.Compiled, error) {
	b, err := evidence.DecodeBundle(strings.NewReader(text))
	if err != nil {
		return nil, err
	}
	return definition.Compile(b)
}

func compiled(t testing.TB, text string) *definition.Compiled {
	t.Helper()
	c, err := compile(text)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Every kind of bad input of docs/accounting.md §2 in a bundle: where it is and
// what was found or is allowed stand in the message.
func TestBadBundlesAreRefused(t *testing.T) {
	compiled(t, good)
	for name, c := range map[string]struct {
		old, new string
		says     []string
	}{
		"no JSON":                     {`"approved": true`, `"approved": yes`, []string{"line ", "no JSON"}},
		"cut off":                     {`"reason": "fire drill"}]` + "\n}", ``, []string{"no JSON"}},
		"text after the end":          {"\n}", "\n} {}", []string{"more after the closing brace"}},
		"a list at the top":           {good, "[]", []string{"an object is expected"}},
		"format missing":              {`"format": "kestite-evidence/1", `, ``, []string{"format", "required"}},
		"format unknown":              {`kestite-evidence/1`, `kestite-evidence/2`, []string{"kestite-evidence/2", "kestite-evidence/1"}},
		"field unknown at the top":    {`"note"`, `"comment"`, []string{"comment", "no field", "note"}},
		"field unknown deep down":     {`"lead_s": 60`, `"lead_ms": 60`, []string{"agreements[0].upstream.lead_ms", "lead_s"}},
		"field twice":                 {`"lead_s": 60`, `"lead_s": 60, "lead_s": 61`, []string{"agreements[0].upstream.lead_s", "twice"}},
		"required missing":            {`"stale_after_s": 150, "confirm": 2`, `"confirm": 2`, []string{"services[0].checks[0].stale_after_s", "missing"}},
		"a number for a string":       {`"id": "quay"`, `"id": 7`, []string{"services[2].id", "7", "a string"}},
		"a string for a number":       {`"duration_s": 3600`, `"duration_s": "3600"`, []string{"windows[0].duration_s", "whole number"}},
		"a fraction of a second":      {`"duration_s": 3600`, `"duration_s": 3600.5`, []string{"windows[0].duration_s", "3600.5", "whole number"}},
		"a number beyond reason":      {`"duration_s": 3600`, `"duration_s": 1e30`, []string{"windows[0].duration_s", "whole number"}},
		"approved by a word":          {`"approved": true`, `"approved": "yes"`, []string{"adjustments[0].approved", "true or false"}},
		"an object for a list":        {`"exdates": ["2026-03-08T02:00:00"]`, `"exdates": {}`, []string{"windows[0].exdates", "a list"}},
		"kind of service":             {`"kind": "supplier"`, `"kind": "vendor"`, []string{"services[1].kind", "vendor", "business, supporting, supplier"}},
		"combine":                     {`"combine": "worst"`, `"combine": "mean"`, []string{"services[0].combine", "mean", "worst, best"}},
		"role":                        {`"role": "decides"`, `"role": "judges"`, []string{"services[0].checks[0].role", "decides, informs"}},
		"kind of check empty":         {`"id": "gateway", "kind": "http"`, `"id": "gateway", "kind": ""`, []string{"services[1].checks[0].kind", "empty"}},
		"rolling rule without runs":   {`"quorum": "majority"`, `"rolling": {"locations": 1, "window_s": 600}`, []string{"services[0].checks[0].rolling.runs"}},
		"rolling rule too short":      {`"quorum": "majority"`, `"rolling": {"runs": 9, "locations": 1, "window_s": 120}`, []string{"services[0].checks[0].rolling.window_s", "2 a location, × 2 locations = 4, and 9 must fail"}},
		"rolling rule with more":      {`"quorum": "majority"`, `"rolling": {"runs": 2, "locations": 1, "window_s": 600, "hours": 1}`, []string{"services[0].checks[0].rolling.hours"}},
		"quorum word":                 {`"quorum": "majority"`, `"quorum": "most"`, []string{"services[0].checks[0].quorum", "most", "any, majority, all"}},
		"quorum zero":                 {`"quorum": 2`, `"quorum": 0`, []string{"services[0].checks[1].quorum", "0"}},
		"confirm zero":                {`"confirm": 2`, `"confirm": 0`, []string{"services[0].checks[0].confirm", "at least 1"}},
		"recover negative":            {`"recover": 1`, `"recover": -1`, []string{"services[0].checks[0].recover", "-1"}},
		"interval zero":               {`"interval_s": 30`, `"interval_s": 0`, []string{"services[0].checks[1].interval_s", "at least 1"}},
		"stale zero":                  {`"stale_after_s": 100`, `"stale_after_s": 0`, []string{"services[0].checks[1].stale_after_s", "at least 1"}},
		"no locations":                {`"locations": ["tolvik"]`, `"locations": []`, []string{"services[1].checks[0].locations", "empty"}},
		"a location without a name":   {`"locations": ["tolvik"]`, `"locations": [""]`, []string{"services[1].checks[0].locations[0]", "empty"}},
		"two services of one id":      {`"id": "quay"`, `"id": "tickets"`, []string{"services", "tickets", "overlap"}},
		"a check in two services":     {`"id": "gateway"`, `"id": "page"`, []string{"services[1].checks[0].id", "page"}},
		"revisions overlap":           {`"from": "2026-03-10T00:00:00Z"`, `"from": "2026-03-09T00:00:00Z"`, []string{"page", "overlap", "2026-03-09"}},
		"a revision ends at its from": {`"locations": ["tolvik"]`, `"locations": ["tolvik"], "from": "2026-03-10T00:00:00Z", "until": "2026-03-10T00:00:00Z"`, []string{"services[1].checks[0].until", "not after"}},
		"need zero":                   {`"need": 1`, `"need": 0`, []string{"services[0].depends_on[0].need", "0"}},
		"need above the group":        {`"need": 1`, `"need": 3`, []string{"services[0].depends_on[0].need", "3", "2"}},
		"an empty group":              {`"services": ["acquirer", "quay"]`, `"services": []`, []string{"services[0].depends_on[0].services", "empty"}},
		"a group of nobody":           {`"services": ["acquirer", "quay"]`, `"services": ["acquirer", "key"]`, []string{"services[0].depends_on[0].services[1]", "key", "no service"}},
		"a circle":                    {`{"id": "quay", "kind": "supporting"}`, `{"id": "quay", "kind": "supporting", "depends_on": [{"services": ["portal"]}]}`, []string{"circle"}},
		"itself":                      {`{"id": "quay", "kind": "supporting"}`, `{"id": "quay", "kind": "supporting", "depends_on": [{"services": ["quay"]}]}`, []string{"circle"}},
		"zone of the period":          {`"timezone": "Europe/Oslo", "start"`, `"timezone": "Europe/Eskerby", "start"`, []string{"period.timezone", "Europe/Eskerby"}},
		"wall time with an offset":    {`"2026-04-01T00:00:00"`, `"2026-04-01T00:00:00Z"`, []string{"period.end", "2026-04-01T00:00:00Z"}},
		"a day that is none":          {`"start": "2026-03-01T00:00:00"`, `"start": "2026-02-30T00:00:00"`, []string{"period.start", "2026-02-30"}},
		"end before start":            {`"end": "2026-04-01T00:00:00"`, `"end": "2026-03-01T00:00:00"`, []string{"period.end", "not after"}},
		"as_of without an offset":     {`"as_of": "2026-03-20T00:00:00Z"`, `"as_of": "2026-03-20T00:00:00"`, []string{"as_of", "RFC 3339"}},
		"as_of before the start":      {`"as_of": "2026-03-20T00:00:00Z"`, `"as_of": "2026-02-20T00:00:00Z"`, []string{"as_of", "before"}},
		"two windows of one id":       {`"windows": [`, `"windows": [{"id": "sunday", "services": [], "start": "2026-03-01T02:00:00", "timezone": "UTC", "duration_s": 1, "announced_at": "2026-02-01T00:00:00Z"}, `, []string{"windows", "sunday", "overlap"}},
		"a window of nobody":          {`"services": ["tickets"], "start"`, `"services": ["ticket"], "start"`, []string{"windows[0].services[0]", "ticket"}},
		"a window of no length":       {`"duration_s": 3600`, `"duration_s": 0`, []string{"windows[0].duration_s", "0"}},
		"a window of negative length": {`"duration_s": 3600`, `"duration_s": -5`, []string{"windows[0].duration_s", "-5"}},
		"zone of a window":            {`"timezone": "Europe/Oslo", "duration_s"`, `"timezone": "Local", "duration_s"`, []string{"windows[0].timezone", "Local"}},
		"start of a window":           {`"start": "2026-03-01T02:00:00"`, `"start": "2026-03-01 02:00"`, []string{"windows[0].start"}},
		"rule":                        {`FREQ=WEEKLY;BYDAY=SU`, `FREQ=FORTNIGHTLY`, []string{"windows[0].rrule", "FORTNIGHTLY"}},
		"rule with UNTIL and COUNT":   {`FREQ=WEEKLY;BYDAY=SU`, `FREQ=WEEKLY;COUNT=2;UNTIL=20260401`, []string{"windows[0].rrule", "exclude each other"}},
		"exdate":                      {`"exdates": ["2026-03-08T02:00:00"]`, `"exdates": ["2026-03-08"]`, []string{"windows[0].exdates[0]"}},
		"announced when":              {`"announced_at": "2026-02-01T00:00:00Z"`, `"announced_at": "2026-02-01"`, []string{"windows[0].announced_at"}},
		"two agreements of one id":    {`"agreements": [`, `"agreements": [{"id": "gold", "service": "quay", "target_percent": 99}, `, []string{"agreements[1].id", "gold"}},
		"an agreement for nobody":     {`"service": "tickets"`, `"service": "ticket"`, []string{"agreements[0].service", "ticket"}},
		"agreement ends at its from":  {`"until": "2027-01-01T00:00:00Z"`, `"until": "2026-01-01T00:00:00Z"`, []string{"agreements[0].until", "not after"}},
		"target above 100":            {`"target_percent": "99.9"`, `"target_percent": "100.1"`, []string{"agreements[0].target_percent", "100.1", "between 0 and 100"}},
		"target negative":             {`"target_percent": "99.9"`, `"target_percent": "-1"`, []string{"agreements[0].target_percent", "-1"}},
		"target as a float":           {`"target_percent": "99.9"`, `"target_percent": 99.9`, []string{"agreements[0].target_percent", "99.9", "string"}},
		"target in words":             {`"target_percent": "99.9"`, `"target_percent": "high"`, []string{"agreements[0].target_percent", "high"}},
		"weight above 100":            {`"degraded_weight_percent": 25`, `"degraded_weight_percent": 101`, []string{"agreements[0].degraded_weight_percent", "101"}},
		"coverage above 100":          {`"min_coverage_percent": "95.5"`, `"min_coverage_percent": "195.5"`, []string{"agreements[0].min_coverage_percent"}},
		"hours in a word":             {`"service_hours": {"timezone": "Europe/Oslo", "weekly": [{"days": ["MO", "TU"], "from": "08:00", "to": "24:00"}], "holidays": ["2026-03-09"]}`, `"service_hours": "daytime"`, []string{"agreements[0].service_hours", "daytime", "always"}},
		"a day of the week":           {`"MO", "TU"`, `"MO", "Tuesday"`, []string{"agreements[0].service_hours.weekly[0].days[1]", "Tuesday"}},
		"25 o'clock":                  {`"to": "24:00"`, `"to": "25:00"`, []string{"agreements[0].service_hours.weekly[0].to", "25:00"}},
		"from 24:00":                  {`"from": "08:00"`, `"from": "24:00"`, []string{"agreements[0].service_hours.weekly[0].from", "24:00"}},
		"holiday":                     {`"holidays": ["2026-03-09"]`, `"holidays": ["9 March"]`, []string{"agreements[0].service_hours.holidays[0]", "9 March"}},
		"mode of maintenance":         {`"mode": "exclude"`, `"mode": "skip"`, []string{"agreements[0].maintenance.mode", "skip", "ignore, exclude, forgive"}},
		"cap negative":                {`"cap_s": 7200`, `"cap_s": -1`, []string{"agreements[0].maintenance.cap_s", "-1"}},
		"notice negative":             {`"notice_s": 86400`, `"notice_s": -1`, []string{"agreements[0].maintenance.notice_s", "-1"}},
		"excuse nobody":               {`"excuse": ["acquirer"]`, `"excuse": ["bank"]`, []string{"agreements[0].upstream.excuse[0]", "bank"}},
		"excuse itself":               {`"excuse": ["acquirer"]`, `"excuse": ["tickets"]`, []string{"agreements[0].upstream.excuse[0]", "its own service"}},
		"excuse one that depends":     {`"excuse": ["acquirer"]`, `"excuse": ["portal"]`, []string{"agreements[0].upstream.excuse[0]", "portal", "depends on"}},
		"linger negative":             {`"linger_s": 120`, `"linger_s": -120`, []string{"agreements[0].upstream.linger_s"}},
		"unmeasured":                  {`"unmeasured": "exclude"`, `"unmeasured": "ignore"`, []string{"agreements[0].unmeasured", "exclude, down, up"}},
		"credit above 100":            {`"credit_percent": "10"`, `"credit_percent": "110"`, []string{"agreements[0].credits[0].credit_percent", "110"}},
		"latency of no check":         {`"latency": {"check": "page"`, `"latency": {"check": "pages"`, []string{"agreements[0].latency.check", "pages"}},
		"latency limit zero":          {`"limit_ms": 300`, `"limit_ms": 0`, []string{"agreements[0].latency.limit_ms", "above 0"}},
		"adjustment of nothing":       {`"agreement": "gold"`, `"agreement": "silver"`, []string{"adjustments[0].agreement", "silver"}},
		"adjustment backwards":        {`"to": "2026-03-02T11:00:00Z"`, `"to": "2026-03-02T10:00:00Z"`, []string{"adjustments[0].to", "not after"}},
		"adjustment to maintenance":   {`"class": "excused"`, `"class": "maintenance"`, []string{"adjustments[0].class", "maintenance"}},
		"two adjustments of one id":   {`"adjustments": [`, `"adjustments": [{"id": "a1", "agreement": "gold", "from": "2026-03-02T10:00:00Z", "to": "2026-03-02T11:00:00Z", "class": "up", "approved": false}, `, []string{"adjustments[1].id", "a1"}},
	} {
		if strings.Count(good, c.old) < 1 {
			t.Errorf("%s: %q is not in the bundle", name, c.old)
			continue
		}
		_, err := compile(strings.Replace(good, c.old, c.new, 1))
		if err == nil {
			t.Errorf("%s: accepted", name)
			continue
		}
		for _, word := range c.says {
			if !strings.Contains(err.Error(), word) {
				t.Errorf("%s: %q does not say %q", name, err, word)
			}
		}
	}
}

func read(c *definition.Compiled, text string) (*evidence.Measurements, error) {
	return evidence.ReadMeasurements(c, "measurements.csv", func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }, nil)
}

// Every kind of bad input in measurements.csv.
func TestBadRowsAreRefused(t *testing.T) {
	c := compiled(t, good)
	const head = "check,location,at,outcome,total_ms\n"
	const one = "page,tolvik,2026-03-02T10:00:00Z,ok,12\n"
	for name, x := range map[string]struct {
		text string
		says []string
	}{
		"nothing":                   {"", []string{"empty", "check,location,at,outcome"}},
		"no header":                 {one, []string{"line 1", "no column"}},
		"a column missing":          {"check,location,at,total_ms\n", []string{"line 1", "no column outcome"}},
		"a column twice":            {"check,location,at,outcome,at\n", []string{"line 1", "two columns", "at"}},
		"a column without a name":   {"check,location,at,outcome,\n", []string{"line 1", "column 5"}},
		"too few fields":            {head + "page,tolvik,2026-03-02T10:00:00Z\n", []string{"line 2", "3 fields", "5"}},
		"too many fields":           {head + one + "page,tolvik,2026-03-02T10:01:00Z,ok,12,13\n", []string{"line 3", "6 fields"}},
		"an empty check":            {head + ",tolvik,2026-03-02T10:00:00Z,ok,12\n", []string{"line 2", "empty"}},
		"a time without offset":     {head + "page,tolvik,2026-03-02T10:00:00,ok,12\n", []string{"line 2", "at", "RFC 3339"}},
		"25 o'clock":                {head + "page,tolvik,2026-03-02T25:00:00Z,ok,12\n", []string{"line 2", "2026-03-02T25:00:00Z"}},
		"30 February":               {head + "page,tolvik,2026-02-30T10:00:00Z,ok,12\n", []string{"line 2", "2026-02-30"}},
		"finer than milliseconds":   {head + "page,tolvik,2026-03-02T10:00:00.0005Z,ok,12\n", []string{"line 2", "millisecond"}},
		"an outcome":                {head + "page,tolvik,2026-03-02T10:00:00Z,good,12\n", []string{"line 2", "good", "ok, degraded, failed, error"}},
		"a measure in words":        {head + "page,tolvik,2026-03-02T10:00:00Z,ok,fast\n", []string{"line 2", "total_ms", "fast"}},
		"a measure beyond numbers":  {head + "page,tolvik,2026-03-02T10:00:00Z,ok,1e999\n", []string{"line 2", "total_ms", "1e999"}},
		"not a number":              {head + "page,tolvik,2026-03-02T10:00:00Z,ok,NaN\n", []string{"line 2", "NaN"}},
		"hexadecimal":               {head + "page,tolvik,2026-03-02T10:00:00Z,ok,0x10\n", []string{"line 2", "0x10"}},
		"an open quote":             {head + "\"page,tolvik,2026-03-02T10:00:00Z,ok,1\n", []string{"line 2", "quote"}},
		"rows that contradict":      {head + one + "page,tolvik,2026-03-02T10:00:00Z,failed,12\n", []string{"lines 2 and 3", "differ"}},
		"in a measure only":         {head + one + "page,tolvik,2026-03-02T10:00:00Z,ok,12.5\n", []string{"lines 2 and 3", "differ"}},
		"far apart and out of time": {head + one + "page,tolvik,2026-03-02T11:00:00Z,ok,1\npage,tolvik,2026-03-02T09:00:00Z,ok,1\npage,tolvik,2026-03-02T10:00:00.000Z,degraded,12\n", []string{"lines 2 and 5", "differ"}},
		"among those left out":      {head + "x,y,2026-03-02T10:00:00Z,ok,1\nx,y,2026-03-02T10:00:00Z,ok,2\n", []string{"lines 2 and 3", "differ"}},
		"a line beyond reason":      {head + strings.Repeat("a", 2<<20) + "\n", []string{"line 2", "longer than 1 MiB"}},
	} {
		_, err := read(c, x.text)
		var fault *evidence.RowFault
		if !errors.As(err, &fault) {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for _, word := range x.says {
			if !strings.Contains(err.Error(), word) {
				t.Errorf("%s: %q does not say %q", name, err, word)
			}
		}
	}
}

// What looks untidy and is allowed.
func TestUntidyRowsAreRead(t *testing.T) {
	c := compiled(t, good)
	text := "\xef\xbb\xbflocation,check,\"note_ms\",outcome,at\r\n" +
		"tolvik,page,,ok,2026-03-02T10:00:00Z\r\n\r\n" +
		"tolvik,page,\"1.50\",ok,2026-03-02T11:01:00.000+01:00\n" +
		"tolvik,page,1.5,ok,2026-03-02T10:01:00Z\n" + // equal in all parsed values
		"tolvik,page,-0,error,2026-03-02T10:01:00Z\n" + // no measurement: contradicts nothing
		"\"tol\"\"vik\",page,15e-1,ok,2026-03-02T10:01:00Z"
	m, err := read(c, text)
	if err != nil {
		t.Fatal(err)
	}
	s := m.Stretches("page", "tolvik")
	if len(s) != 1 || s[0].Count != 2 || m.LeftOut != 1 {
		t.Errorf("stretches %+v, left out %d", s, m.LeftOut)
	}
}

// Rows in any order are judged the same, also when they are too many to be
// sorted at once.
func TestSortingInSlices(t *testing.T) {
	c := month(t, 2, 2)
	text := string(rows(2, 2, 20_000))
	head, body, _ := strings.Cut(text, "\n")
	lines := strings.SplitAfter(body, "\n")
	lines = lines[:len(lines)-1]
	want := accounts(t, c, text)
	r := rand.New(rand.NewPCG(1, 2))
	r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	shuffled := head + "\n" + strings.Join(lines, "")
	for _, most := range []int64{1, 500, 7_000, 1 << 30} {
		evidence.SetMostSorted(t, most)
		if got := accounts(t, c, shuffled); got != want {
			t.Errorf("with %d rows at once the account differs", most)
		}
	}
}

func accounts(t testing.TB, c *definition.Compiled, text string) string {
	t.Helper()
	m, err := read(c, text)
	if err != nil {
		t.Fatal(err)
	}
	list, err := account.NewEvidence(c, m.Stretches, m.Timing).All()
	if err != nil {
		t.Fatal(err)
	}
	out, _ := json.Marshal(list)
	return string(out)
}

// FuzzBundle feeds the reader anything: it never panics, and what it accepts
// can be accounted, with classes that partition the covered time.
func FuzzBundle(f *testing.F) {
	f.Add(good)
	f.Add(strings.ReplaceAll(good, "majority", "any"))
	f.Add(strings.Replace(good, `"quorum": "majority"`, `"rolling": {"runs": 2, "locations": 2, "window_s": 600}`, 1))
	f.Add(`{"format":"kestite-evidence/1","period":{"timezone":"UTC","start":"2026-01-01T00:00:00","end":"2026-01-02T00:00:00"},"services":[{"id":"a","kind":"business"}],"agreements":[{"id":"g","service":"a","target_percent":99}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := compile(text)
		if err != nil || c.Span.Length() > 4000*24*3600*1000 {
			return
		}
		m, err := read(c, "check,location,at,outcome,total_ms\npage,tolvik,2026-03-02T10:00:00Z,ok,12\npage,eskerby,2026-03-02T10:01:00Z,failed,\n")
		if err != nil {
			t.Fatal(err)
		}
		list, err := account.NewEvidence(c, m.Stretches, m.Timing).All()
		if err != nil {
			return
		}
		for _, a := range list {
			at := a.From
			for _, i := range a.Intervals {
				if i.From != at || i.To <= i.From {
					t.Fatalf("a hole or an overlap at %s: %+v", at, i)
				}
				at = i.To
			}
			if at != a.To {
				t.Fatalf("the intervals end at %s, the account at %s", at, a.To)
			}
		}
	})
}

// FuzzRows feeds the row reader anything: it never panics, refuses with a
// RowFault, and reads the same from rows in reverse.
func FuzzRows(f *testing.F) {
	c, err := compile(good)
	if err != nil {
		f.Fatal(err)
	}
	f.Add("check,location,at,outcome,total_ms\n", "page,tolvik,2026-03-02T10:00:00Z,ok,12\npage,tolvik,2026-03-02T10:01:00Z,failed,\n")
	f.Add("outcome,at,location,check\r\n", "\"ok\",2026-03-02T10:00:00.123Z,eskerby,page\r\nerror,2026-03-02T10:00:00.123Z,eskerby,page")
	f.Fuzz(func(t *testing.T, head, body string) {
		m, err := read(c, head+body)
		var fault *evidence.RowFault
		if err != nil {
			if !errors.As(err, &fault) {
				t.Fatalf("refused without a place: %v", err)
			}
			return
		}
		if strings.Count(head, "\n") != 1 || !strings.HasSuffix(head, "\n") || strings.Contains(body, "\r") {
			return
		}
		lines := strings.Split(body, "\n")
		for i, j := 0, len(lines)-1; i < j; i, j = i+1, j-1 {
			lines[i], lines[j] = lines[j], lines[i]
		}
		back, err := read(c, head+strings.Join(lines, "\n"))
		if err != nil {
			t.Fatalf("refused in reverse: %v", err)
		}
		for _, l := range []string{"tolvik", "eskerby"} {
			if a, b := fmt.Sprint(m.Stretches("page", l)), fmt.Sprint(back.Stretches("page", l)); a != b {
				t.Fatalf("%s: %s, in reverse %s", l, a, b)
			}
		}
		if m.Rows != back.Rows || m.LeftOut != back.LeftOut {
			t.Fatalf("%d rows, %d left out; in reverse %d, %d", m.Rows, m.LeftOut, back.Rows, back.LeftOut)
		}
	})
}
