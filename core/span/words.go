package span

import (
	"fmt"
	"strings"
)

// Words writes ms for sentences and lists, in whole seconds, cut off: "1 h 04 min
// 09 s", "3 min 20 s", "12 s"; below a second "340 ms"; negative ones with a minus
// sign, cut towards less. Nothing is added up from it.
func Words(ms int64) string {
	switch {
	case ms < 0:
		return "−" + WordsUp(-ms)
	case ms < Second && ms > 0:
		return fmt.Sprintf("%d ms", ms)
	}
	return written(ms/Second, "")
}

// WordsUp is Words rounded up to the second: downtime is never shown as less than it is.
func WordsUp(ms int64) string {
	switch {
	case ms < 0:
		return "−" + Words(-ms)
	case ms < Second && ms > 0:
		return fmt.Sprintf("%d ms", ms)
	}
	return written((ms+Second-1)/Second, "")
}

// Exact writes ms for statements whose rows add up: to the millisecond, in hours
// at most, "25 min 26.140 s", "744 h 00 min 00.000 s".
func Exact(ms int64) string {
	if ms < 0 {
		return "−" + Exact(-ms)
	}
	return written(ms/Second, fmt.Sprintf(".%03d", ms%Second))
}

// written writes whole seconds with a fraction. Without one, zeros at the end
// are left away, and two days and more are counted in days.
func written(s int64, fraction string) string {
	h, min, sec := s/3600, s%3600/60, s%60
	var parts []string
	add := func(n int64, unit, tail string) {
		format := "%d"
		if len(parts) > 0 {
			format = "%02d"
		}
		parts = append(parts, fmt.Sprintf(format, n)+tail+" "+unit)
	}
	if fraction == "" && h >= 48 {
		parts = append(parts, fmt.Sprintf("%d d", h/24))
		h %= 24
	}
	if h > 0 || len(parts) > 0 && (min > 0 || sec > 0) {
		if len(parts) > 0 {
			parts = append(parts, fmt.Sprintf("%d h", h))
		} else {
			add(h, "h", "")
		}
	}
	if min > 0 || len(parts) > 0 && (sec > 0 || fraction != "") {
		add(min, "min", "")
	}
	if sec > 0 || fraction != "" || len(parts) == 0 {
		add(sec, "s", fraction)
	}
	return strings.Join(parts, " ")
}

// Balance writes an allowance, what is used of it and what is left, ms, for one sentence:
// what is left is the difference of the two as they are printed. The allowance is rounded
// down and what is used up, to whole seconds; to none where both are shorter than one.
func Balance(allowance, used int64) (allowed, spent, left string) {
	if max(allowance, used) >= Second {
		allowance, used = allowance/Second*Second, (used+Second-1)/Second*Second
	}
	return Words(allowance), Words(used), Words(allowance - used)
}
