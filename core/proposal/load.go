package proposal

import (
	"fmt"
	"strconv"

	"kestite/core/definition"
	"kestite/core/measure"
)

const day = 86_400 // s

// Load is what a check's schedule costs.
type Load struct {
	RunsPerDay  int64 `json:"runs_per_day"`
	BytesPerDay int64 `json:"bytes_per_day" doc:"On the wire, roughly, headers included"`
}

// Plus is the sum of two.
func (l Load) Plus(o Load) Load {
	return Load{l.RunsPerDay + o.RunsPerDay, l.BytesPerDay + o.BytesPerDay}
}

// LoadOf is what a check costs, of all its locations together, on its interval.
func LoadOf(c definition.CheckSpec) Load {
	return ScheduleOf(c).Load()
}

// Load is what the schedule costs.
func (s Schedule) Load() Load {
	if s.IntervalS <= 0 {
		return Load{}
	}
	runs := (day*s.Locations + s.IntervalS/2) / s.IntervalS
	return Load{runs, runs * s.bytes()}
}

// String is the load in words: "2,880 runs a day, about 2.5 MB a day".
func (l Load) String() string {
	return fmt.Sprintf("%s runs a day, about %s a day", Thousands(l.RunsPerDay), size(l.BytesPerDay))
}

// Thousands writes a count with its thousands parted.
func Thousands(n int64) string {
	digits := strconv.FormatInt(n, 10)
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// size writes bytes in decimal units, rounded up: "12 kB", "2.5 MB".
func size(bytes int64) string {
	switch {
	case bytes >= 1e9:
		return fmt.Sprintf("%.1f GB", float64(bytes)/1e9)
	case bytes >= 1e6:
		return fmt.Sprintf("%.1f MB", float64(bytes)/1e6)
	}
	return fmt.Sprintf("%d kB", (bytes+999)/1000)
}

// bytes is what one run sends and receives, roughly.
func (s Schedule) bytes() int64 {
	const (
		icmpHeaders = 28 // IPv4 and ICMP, RFC 791 and 792
		rtpHeaders  = 28 // IPv4 and UDP beside the payload
	)
	switch s.Kind {
	case measure.HTTP.Name:
		return 2000 + s.SizeBytes
	case measure.Ping.Name:
		payload := int64(56)
		if s.SizeBytes > 0 {
			payload = s.SizeBytes
		}
		return s.packets() * 2 * (payload + icmpHeaders)
	case measure.TCP.Name:
		return 400 // handshake and close
	case measure.Certificate.Name:
		return 6000
	case measure.DNS.Name:
		return 250
	case measure.Path.Name:
		const hops = 12 // of a path of usual length
		return s.packets() * hops * 2 * max(60, s.SizeBytes)
	case measure.UDP.Name:
		payload := int64(172)
		if s.Codec == measure.G729.Name {
			payload = 32
		}
		return s.packets() * 2 * (payload + rtpHeaders)
	case measure.ReportIn.Name:
		return 800
	}
	return 0
}
