package report

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

var part = regexp.MustCompile(`(\d+(?:\.\d+)?) (d|h|min|ms|s)\b`)

// read is a duration as it is printed, ms.
func read(t *testing.T, text string) int64 {
	t.Helper()
	unit := map[string]float64{"d": 86_400_000, "h": 3_600_000, "min": 60_000, "s": 1000, "ms": 1}
	sum := 0.0
	found := part.FindAllStringSubmatch(text, -1)
	if len(found) == 0 {
		t.Fatalf("%q is no duration", text)
	}
	for _, m := range found {
		n, err := strconv.ParseFloat(m[1], 64)
		if err != nil {
			t.Fatal(err)
		}
		sum += n * unit[m[2]]
	}
	if strings.HasPrefix(strings.TrimSpace(text), "−") {
		sum = -sum
	}
	return int64(sum + 0.5*float64(map[bool]int{true: -1, false: 1}[sum < 0]))
}

var lead = regexp.MustCompile(`^Allowance for the period (.+), used (.+), left (.+)\. Sampling`)

// What stands in one sentence or row adds up as it is printed, whatever the milliseconds are.
func TestWhatIsPrintedAddsUp(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 26))
		some := func() int64 { return r.Int64N([]int64{900, 5_000, 90_000, 9_000_000, 400_000_000}[r.IntN(5)]) }
		from := span.Instant(1_790_000_000_000 + r.Int64N(40_000_000_000))
		c := Content{Timezone: "Europe/Oslo", Account: account.Account{From: from, To: from.Add(30 * span.Day), AllowanceMS: some(), DowntimeMS: some(), CoveragePercent: "100.0000"}}
		at := from
		for n := range 12 {
			to := at.Add(1 + some()/4)
			class := []account.Class{account.Up, account.Down, account.Outside}[n%3]
			c.Account.Intervals = append(c.Account.Intervals, account.Interval{From: at, To: to, Class: class})
			at = to
		}
		c.Account.To = at
		c.Outages = OutagesOf(&c.Account)
		length := int64(at - from)
		for range 1 + r.IntN(4) {
			begin := from.Add(r.Int64N(length))
			c.Adjustments = append(c.Adjustments, Adjusted{definition.Adjustment{From: begin, To: begin.Add(1 + r.Int64N(length)), Class: "excused",
				Cause: causes[r.IntN(len(causes))]}, some()})
		}

		m := lead.FindStringSubmatch(leadWords(c, oslo)[0])
		if m == nil {
			t.Fatal(leadWords(c, oslo)[0])
		}
		if read(t, m[1])-read(t, m[2]) != read(t, m[3]) {
			t.Errorf("seed %d: %s", seed, m[0])
		}
		rows := c.outageBlocks(oslo)[0].Table.Rows
		for n, row := range rows {
			begin, end := printedAt(t, row.Cells[1].Text, oslo), printedAt(t, row.Cells[2].Text, oslo)
			if lasts := read(t, row.Cells[3].Text); end.Sub(begin).Milliseconds() != lasts || lasts != c.Outages[n].MS {
				t.Errorf("seed %d: %s to %s is %s", seed, row.Cells[1].Text, row.Cells[2].Text, row.Cells[3].Text)
			}
		}
		// By cause, no instant counts twice: together they are what any of them touches of the agreed time.
		var touched, agreed span.Set
		for _, a := range c.Adjustments {
			touched = append(touched, span.Span{From: a.From, To: a.To})
		}
		for _, i := range c.Account.Intervals {
			if i.Class != account.Outside {
				agreed = append(agreed, span.Span{From: i.From, To: i.To})
			}
		}
		sum := int64(0)
		if words := AdjustmentWords(c, oslo); len(c.Adjustments) > 1 {
			_, list, _ := strings.Cut(words[len(words)-1], ": ")
			if list != "" {
				sum = read(t, list)
			}
		} else {
			for _, ms := range c.causes() {
				sum += ms
			}
		}
		if want := span.Union(touched...).Intersect(span.Union(agreed...)).Length(); sum != want {
			t.Errorf("seed %d: by cause %d ms, and %d are touched", seed, sum, want)
		}
		for _, l := range StatementOf(c).Figures {
			if l.Name == label("line.left") && read(t, l.Text) != c.Account.AllowanceMS-c.Account.DowntimeMS {
				t.Errorf("seed %d: %s", seed, fmt.Sprint(l))
			}
		}
	}
}

func printedAt(t *testing.T, text string, loc *time.Location) time.Time {
	t.Helper()
	at, err := time.ParseInLocation("Mon 2 Jan 2006 15:04:05.999 MST", text, loc)
	if err != nil {
		t.Fatal(err)
	}
	return at
}
