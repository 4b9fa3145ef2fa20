package standing

import (
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/span"
)

func TestStripSaysSharesOfColumns(t *testing.T) {
	over := span.Span{From: 1000, To: 2000} // ten columns of 100 ms
	for _, c := range []struct {
		want      string
		intervals []account.Interval
	}{
		{"10", nil},
		{"10u", []account.Interval{{From: 1000, To: 2000, Class: account.Up}}},
		{"10u", []account.Interval{{From: 0, To: 9000, Class: account.Up}}},
		{"3u 1u96d4 6u", []account.Interval{
			{From: 1000, To: 1396, Class: account.Up}, {From: 1396, To: 1400, Class: account.Down}, {From: 1400, To: 2000, Class: account.Up},
		}},
		{"1u50d50 2d 1u90d10 1u35 5", []account.Interval{
			{From: 900, To: 1050, Class: account.Up}, {From: 1050, To: 1310, Class: account.Down}, {From: 1310, To: 1435, Class: account.Up},
		}},
		{"1u99d1 9n", []account.Interval{ // never so little that it is lost
			{From: 1000, To: 1099, Class: account.Up}, {From: 1099, To: 1100, Class: account.Down}, {From: 1100, To: 2000, Class: account.Unmeasured},
		}},
		{"1o20u20g10d10t10m10s10x5n5 9", []account.Interval{
			{From: 1000, To: 1020, Class: account.Outside}, {From: 1020, To: 1040, Class: account.Up}, {From: 1040, To: 1050, Class: account.Degraded},
			{From: 1050, To: 1060, Class: account.Down}, {From: 1060, To: 1070, Class: account.Tolerated},
			{From: 1070, To: 1080, Class: account.Maintenance}, {From: 1080, To: 1090, Class: account.Upstream},
			{From: 1090, To: 1095, Class: account.Excused}, {From: 1095, To: 1100, Class: account.Unmeasured},
		}},
	} {
		if got := Strip(c.intervals, over, 10); got != c.want {
			t.Errorf("%q, not %q", got, c.want)
		}
	}
}

// Whatever happened, the columns are all there, and the time of each class is what the
// intervals say, as exactly as whole per cents of a column can.
func TestStripKeepsTime(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for round := range 500 {
		over := span.Span{From: 1_795_000_000_000, To: 1_795_000_000_000 + span.Instant(1+r.Int64N(3_000_000_000))}
		columns := 1 + r.IntN(MostColumns)
		var intervals []account.Interval
		var want, spare [len(letters)]float64
		at := over.From
		for at < over.To && r.IntN(60) > 0 {
			to := min(over.To, at+1+span.Instant(r.Int64N(over.Length()/20+2)))
			class := account.Class(r.IntN(len(letters)))
			intervals = append(intervals, account.Interval{From: at, To: to, Class: class})
			want[class] += float64(to - at)
			spare[class] += 4 // it may begin or end in a column, or lie in one, and a share is rounded
			at = to
		}
		text := Strip(intervals, over, columns)
		var got [len(letters)]float64
		width, n := float64(over.Length())/float64(columns), 0
		for _, run := range strings.Fields(text) {
			count, rest := number(run)
			n += count
			for rest != "" {
				class := strings.IndexByte(string(letters[:]), rest[0])
				share, after := number(rest[1:])
				if len(after) == len(rest)-1 {
					share = 100
				}
				got[class] += float64(share) / 100 * width * float64(count)
				rest = after
			}
		}
		if n != columns {
			t.Fatalf("round %d: %d columns of %d in %q", round, n, columns, text)
		}
		for class := range letters {
			if d := got[class] - want[class]; d > spare[class]*(width/100+2) || -d > spare[class]*(width/100+2) {
				t.Fatalf("round %d: %c has %.0f ms, not %.0f, in %q", round, letters[class], got[class], want[class], text)
			}
		}
	}
}

// number reads digits, and returns what follows them.
func number(text string) (int, string) {
	n := 0
	for n < len(text) && text[n] >= '0' && text[n] <= '9' {
		n++
	}
	v, _ := strconv.Atoi(text[:n])
	return v, text[n:]
}
