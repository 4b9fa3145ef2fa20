package measure

import "math"

// Codec is how speech is packed, with what the E-model needs to know of it
// (ITU-T G.113 Appendix I: equipment impairment factor and packet-loss
// robustness).
type Codec struct {
	Name      string
	SpacingMS int64 // between packets
	SizeBytes int   // of the UDP payload: speech and a 12-byte RTP header (RFC 3550)
	Ie, Bpl   float64
}

// Codecs that a UDP echo check can play.
var (
	G711   = Codec{"g711", 20, 172, 0, 25.1} // 64 kbit/s, with packet-loss concealment
	G729   = Codec{"g729", 20, 32, 11, 19}   // 8 kbit/s, Annex A
	Codecs = []Codec{G711, G729}
)

// CodecNamed finds a codec, G.711 where the name is none.
func CodecNamed(name string) Codec {
	for _, c := range Codecs {
		if c.Name == name {
			return c
		}
	}
	return G711
}

// Rating is the transmission rating factor R, 0 to 93.2, of ITU-T G.107 with all
// its other parameters at their defaults: R = 93.2 − Id − Ie,eff. Id follows the
// usual simplification of G.107 for echo-free connections (kinks at 177.3 ms),
// Ie,eff is that of §7.2 for random loss. The delay is half the round trip and
// the jitter buffer, taken as twice the jitter. Times are in ms, loss in percent.
func (c Codec) Rating(roundTripMS, jitterMS, lossPercent float64) float64 {
	const best, kink = 93.2, 177.3
	d := roundTripMS/2 + 2*jitterMS
	id := 0.024 * d
	if d > kink {
		id += 0.11 * (d - kink)
	}
	ie := c.Ie + (95-c.Ie)*lossPercent/(lossPercent+c.Bpl)
	return math.Max(0, best-id-ie)
}

// MOS is the mean opinion score, 1 to 4.5, that a rating stands for (ITU-T G.107 Annex B).
func MOS(r float64) float64 {
	switch {
	case r <= 0:
		return 1
	case r >= 100:
		return 4.5
	}
	return math.Max(1, 1+0.035*r+r*(r-60)*(100-r)*7e-6)
}

// Interarrival is the jitter of RFC 3550 §6.4.1 after all packets, from when each
// was sent and when it arrived, in the order of arrival and in one unit; the
// offset between the two clocks does not matter.
func Interarrival(sent, arrived []float64) float64 {
	const gain = 16
	j := 0.0
	for i := 1; i < len(sent); i++ {
		d := (arrived[i] - arrived[i-1]) - (sent[i] - sent[i-1])
		j += (math.Abs(d) - j) / gain
	}
	return j
}
