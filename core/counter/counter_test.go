package counter

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/span"
)

// made is an account of ten thousand seconds whose classes follow one another at random.
func made(r *rand.Rand) *account.Account {
	classes := []account.Class{account.Up, account.Down, account.Degraded, account.Maintenance, account.Outside, account.Unmeasured, account.Excused, account.Up, account.Down}
	a := &account.Account{From: 1_000_000, To: 11_000_000}
	for at := a.From; at < a.To; {
		to := min(a.To, at.Add(1000+r.Int64N(400_000)))
		a.Intervals = append(a.Intervals, account.Interval{From: at, To: to, Class: classes[r.IntN(len(classes))]})
		at = to
	}
	return a
}

func classAt(a *account.Account, i span.Instant) account.Class {
	for _, v := range a.Intervals {
		if v.From <= i && i < v.To {
			return v.Class
		}
	}
	panic("outside")
}

// A list that is the account's own differs nowhere; of one that was edited at random every
// difference is found, and none that is not there: compared instant by instant.
func TestEveryEditOfAListIsFound(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		a := made(r)
		var list []Outage
		for _, i := range a.Intervals {
			if i.Class == account.Down {
				list = append(list, Outage{From: i.From, To: i.To})
			}
		}
		if c := Compare(a, list); len(c.Differences) != 0 || c.OursMS != c.TheirsMS || c.BothMS != c.OursMS {
			t.Fatalf("seed %d: its own list differs: %+v", seed, c)
		}
		for range 1 + r.IntN(6) { // leave out, shift, lengthen, invent
			switch n := r.IntN(4); {
			case n == 0 && len(list) > 0:
				k := r.IntN(len(list))
				list = append(list[:k], list[k+1:]...)
			case n == 1 && len(list) > 0:
				k := r.IntN(len(list))
				by := r.Int64N(200_000) - 100_000
				list[k].From, list[k].To = list[k].From.Add(by), list[k].To.Add(by)
			case n == 2 && len(list) > 0:
				k := r.IntN(len(list))
				list[k].To = list[k].To.Add(r.Int64N(500_000))
			default:
				from := a.From.Add(r.Int64N(12_000_000) - 1_000_000)
				list = append(list, Outage{From: from, To: from.Add(1 + r.Int64N(300_000))})
			}
		}
		c := Compare(a, list)
		said := func(i span.Instant) bool {
			for _, o := range list {
				if o.From <= i && i < o.To {
					return true
				}
			}
			return false
		}
		at := func(i span.Instant) *Difference {
			for k, d := range c.Differences {
				if d.From <= i && i < d.To {
					return &c.Differences[k]
				}
			}
			return nil
		}
		var sum int64
		for _, d := range c.Differences {
			sum += d.MS
		}
		if c.TheirsMS+c.OursMS-2*c.BothMS != sum {
			t.Fatalf("seed %d: %d and %d with %d in both, and differences of %d", seed, c.TheirsMS, c.OursMS, c.BothMS, sum)
		}
		for range 3000 {
			i := a.From.Add(r.Int64N(10_000_000))
			class, theirs := classAt(a, i), said(i)
			d := at(i)
			switch differs := theirs != (class == account.Down); {
			case differs != (d != nil):
				t.Fatalf("seed %d: at %d it is %s, listed %v, and the difference is %+v", seed, i, class, theirs, d)
			case d != nil && (d.Class != class.String() || (d.Who == Theirs) != theirs || d.Why == ""):
				t.Fatalf("seed %d: at %d it is %s, listed %v: %+v", seed, i, class, theirs, d)
			}
		}
	}
}

func TestListsAsPeopleWriteThem(t *testing.T) {
	loc, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for name, of := range map[string]struct{ text, want, left string }{
		"commas":          {"from,to,what\n2026-10-09 07:40,2026-10-09 08:05,Gate 3\n", "05:40:00 06:05:00 Gate 3", ""},
		"semicolons":      {"Beginn;Ende\n9.10.2026 07:40;9.10.2026 08:05:30", "05:40:00 06:05:30 ", ""},
		"with zones":      {"2026-10-09T07:40:00+02:00\t2026-10-09T06:05:00Z\tGate\t3", "05:40:00 06:05:00 Gate 3", ""},
		"a clock change":  {"2026-10-25 01:30,2026-10-25 04:00", "23:30:00 03:00:00 ", ""},
		"in any order":    {"2026-10-09 10:00,2026-10-09 11:00\n2026-10-09 07:00,2026-10-09 08:00", "05:00:00 06:00:00 |08:00:00 09:00:00 ", ""},
		"poison":          {"2026-10-09 07:00,2026-10-09 08:00\nNaN,Inf\n2026-10-09 08:00,2026-10-09 07:00\n,\n1e39,2026-10-09 08:00\n0000-00-00 00:00,2026-10-09 08:00\nx", "05:00:00 06:00:00 ", "2 3 4 5 6 7"},
		"a mark and CRLF": {"\ufeff2026-10-09 07:00,2026-10-09 08:00\r\n", "05:00:00 06:00:00 ", ""},
		"nothing":         {"", "", ""},
		"a calendar": {strings.ReplaceAll("BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nBEGIN:VEVENT\nUID:1\nDTSTAMP:20261010T000000Z\nDTSTART:20261009T054000Z\nDTEND:20261009T060500Z\nSUMMARY:Gate 3\nEND:VEVENT\nEND:VCALENDAR\n", "\n", "\r\n"),
			"05:40:00 06:05:00 Gate 3", ""},
	} {
		list, left, err := Read(of.text, loc, span.Of(time.Date(2026, 11, 1, 0, 0, 0, 0, loc)))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var got, bad []string
		for _, o := range list {
			got = append(got, o.From.Time().Format(time.TimeOnly)+" "+o.To.Time().Format(time.TimeOnly)+" "+o.Text)
		}
		for _, l := range left {
			bad = append(bad, fmt.Sprint(l.Line))
		}
		if strings.Join(got, "|") != of.want || strings.Join(bad, " ") != of.left {
			t.Errorf("%s: %q, left %v %+v", name, got, bad, left)
		}
	}
	if _, _, err := Read(strings.Repeat("2026-10-09 07:00,2026-10-09 08:00\n", Most+1), loc, 0); err == nil {
		t.Error("more than the most are taken")
	}
	if _, _, err := Read(strings.Repeat("x", MostBytes+1), loc, 0); err == nil {
		t.Error("a file that is too long is taken")
	}
}

func FuzzRead(f *testing.F) {
	f.Add("from,to\n2026-10-09 07:40,2026-10-09 08:05,Gate 3\n")
	f.Add("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nDTSTART:20261009T054000Z\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")
	f.Add("\"\x00;\xff\n9.10.2026 07:40;9.10.2026 08:05")
	f.Fuzz(func(t *testing.T, text string) {
		list, _, err := Read(text, time.UTC, 0)
		if err != nil {
			return
		}
		for i, o := range list {
			if o.To <= o.From || i > 0 && list[i-1].From > o.From {
				t.Fatalf("%+v after %+v", o, list[max(0, i-1)])
			}
		}
	})
}

// Times without a zone are read on the zone's clocks, where they change too: RFC 5545 §3.3.5.
func TestWallTimesAtClockChanges(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for wall, want := range map[string]string{
		"2026-03-29 01:59:59": "2026-03-29T00:59:59.000Z",
		"2026-03-29 02:00:00": "2026-03-29T01:00:00.000Z", // skipped: with the offset before
		"2026-03-29 02:30":    "2026-03-29T01:30:00.000Z",
		"29.3.2026 02:30":     "2026-03-29T01:30:00.000Z",
		"2026-03-29 03:00":    "2026-03-29T01:00:00.000Z",
		"2026-10-25 01:59":    "2026-10-24T23:59:00.000Z",
		"2026-10-25 02:00":    "2026-10-25T00:00:00.000Z", // twice: the first
		"2026-10-25T02:30":    "2026-10-25T00:30:00.000Z",
		"2026-10-25 03:00":    "2026-10-25T02:00:00.000Z",
	} {
		list, left, err := Read(wall+", 2026-12-31 00:00", oslo, 0)
		if err != nil || len(left) > 0 || len(list) != 1 || list[0].From.String() != want {
			t.Errorf("%s: %v %v %v, want %s", wall, list, left, err, want)
		}
	}
}

// A line is a record: a quote that is not closed is told and harms no other; one that is
// closed soon goes on over lines. The separator is that of the list, whatever its first line has.
func TestLinesAreRecords(t *testing.T) {
	const a, b, c = "2026-03-01 03:00", "2026-03-01 03:25", "2026-03-02 04:00"
	for name, x := range map[string]struct {
		text string
		read string // lines and texts
		left string // lines
	}{
		"a quote that is not closed":     {a + "," + b + ",\"Gate 3\n" + b + "," + c + ",then\n" + a + "," + c + "\n" + a + "," + c + "\n", "2 then;3 ;4 ", "1"},
		"in the last line":               {a + "," + b + "\n" + b + "," + c + ",\"open", "1 ", "2"},
		"closed in the third line":       {a + "," + b + ",\"Gate\n3\nstood\"\n" + b + "," + c, "1 Gate\n3\nstood;4 ", ""},
		"closed in the fourth":           {a + "," + b + ",\"Gate\n3\nstood\nstill\"\n" + b + "," + c, "5 ", "1,2,3,4"},
		"a quote within":                 {a + "," + b + ",Gate \"3\" stood\n" + b + "," + c, "1 Gate \"3\" stood;2 ", ""},
		"doubled quotes":                 {a + "," + b + ",\"Gate \"\"3\"\", stood\"\n" + b + "," + c, "1 Gate \"3\", stood;2 ", ""},
		"a first line without separator": {"Our outages\n" + a + ";" + b + ";Gate 3, stood\n" + b + ";" + c, "2 Gate 3, stood;3 ", ""},
		"a first line with another":      {"Outages; of all gates\n" + a + "," + b + ",x;y\n" + b + "," + c, "2 x;y;3 ", ""},
		"tabs, and commas in the texts":  {a + "\t" + b + "\tGate 3, 4\n" + b + "\t" + c + "\t, ", "1 Gate 3, 4;2 ,", ""},
		"lines that end otherwise":       {a + "," + b + "\r" + b + "," + c + "\r\n\r\n" + a + "," + c, "1 ;2 ;4 ", ""},
	} {
		list, left, err := Read(x.text, time.UTC, 0)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		slices.SortFunc(list, func(a, b Outage) int { return a.Line - b.Line })
		var read, bad []string
		for _, o := range list {
			read = append(read, fmt.Sprint(o.Line, " ", o.Text))
		}
		for _, l := range left {
			bad = append(bad, fmt.Sprint(l.Line))
		}
		if strings.Join(read, ";") != x.read || strings.Join(bad, ",") != x.left {
			t.Errorf("%s: read %q, left %q, want %q and %q", name, read, bad, x.read, x.left)
		}
	}
}
