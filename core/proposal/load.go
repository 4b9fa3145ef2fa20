package proposal

import (
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
	if c.IntervalS <= 0 {
		return Load{}
	}
	runs := (day*int64(len(c.Locations)) + c.IntervalS/2) / c.IntervalS
	return Load{runs, runs * bytesOf(c)}
}

// bytesOf is what one run sends and receives, roughly.
func bytesOf(c definition.CheckSpec) int64 {
	const (
		icmpHeaders = 28 // IPv4 and ICMP, RFC 791 and 792
		rtpHeaders  = 28 // IPv4 and UDP beside the payload
	)
	switch c.Kind {
	case measure.HTTP.Name:
		body := 0
		if c.HTTP != nil {
			body = len(c.HTTP.Body)
		}
		return 2000 + int64(body)
	case measure.Ping.Name:
		packets, size := 5, 56
		if c.Ping != nil {
			packets, size = c.Ping.Packets, c.Ping.SizeBytes
		}
		return int64(packets) * 2 * int64(size+icmpHeaders)
	case measure.TCP.Name:
		return 400 // handshake and close
	case measure.Certificate.Name:
		return 6000
	case measure.DNS.Name:
		return 250
	case measure.Path.Name:
		const hops = 12 // of a path of usual length
		p := c.Path.Filled()
		return int64(p.Rounds) * hops * 2 * int64(max(60, p.SizeBytes))
	case measure.UDP.Name:
		u := c.UDP.Filled()
		payload := 172
		if u.Codec == measure.G729.Name {
			payload = 32
		}
		return int64(u.Packets) * 2 * int64(payload+rtpHeaders)
	case measure.ReportIn.Name:
		return 800
	}
	return 0
}
