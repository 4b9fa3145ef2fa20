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

// CodecNames are the names of the codecs.
func CodecNames() []string {
	out := make([]string, len(Codecs))
	for i, c := range Codecs {
		out[i] = c.Name
	}
	return out
}

// CodecNamed finds a codec, G.711 where the name is none.
func CodecNamed(name string) Codec {
	for _, c := range Codecs {
		if c.Name == name {
			return c
		}
	}
	return G711
}

// Rating is the transmission rating factor R, 0 to 93.2, of the E-model (ITU-T
// G.107), all its parameters but delay, codec and loss at their defaults. The
// delay one way is half the round trip and the jitter buffer, taken as twice the
// jitter. Times are in ms, loss in percent.
func (c Codec) Rating(roundTripMS, jitterMS, lossPercent float64) float64 {
	delay := max(0, roundTripMS/2+2*jitterMS)
	effective := c.Ie + (95-c.Ie)*lossPercent/(lossPercent+c.Bpl) // §7.5, random loss
	return min(best, math.Max(0, undisturbed-delayed(delay)-effective))
}

// Defaults of the E-model (ITU-T G.107 Table 2), in dB and dBm0p.
const (
	sendLoudness    = 8.0   // SLR
	receiveLoudness = 2.0   // RLR
	sidetone        = 15.0  // STMR
	dFactor         = 3.0   // D of the sending and of the receiving side
	talkerEcho      = 65.0  // TELR
	echoPath        = 110.0 // WEPL
	circuitNoise    = -70.0 // Nc
	noiseFloor      = -64.0 // Nfor
	roomNoise       = 35.0  // Ps and Pr, dB(A)
	quantising      = 1.0   // qdu
	best            = 93.2  // R where nothing impairs, as the recommendation gives it
)

// What does not depend on delay, codec and loss: noise No (§7.2), the basic
// signal-to-noise ratio Ro (§7.2), and the two less what is simultaneous to the voice, Ro − Is (§7.3).
var (
	noise       = totalNoise()
	ratio       = 15 - 1.5*(sendLoudness+noise)
	undisturbed = ratio - simultaneous(noise, ratio)
)

// totalNoise is No, the power sum of all noise sources (equations 7-3 to 7-7).
func totalNoise() float64 {
	const overall = sendLoudness + receiveLoudness
	sending := roomNoise - sendLoudness - dFactor - 100 + 0.004*square(roomNoise-overall-dFactor-14)
	pre := roomNoise + 10*math.Log10(1+math.Pow(10, (10-(sidetone+dFactor))/10))
	receiving := receiveLoudness - 121 + pre + 0.008*square(pre-35)
	sum := 0.0
	for _, level := range []float64{circuitNoise, sending, receiving, noiseFloor + receiveLoudness} {
		sum += math.Pow(10, level/10)
	}
	return 10 * math.Log10(sum)
}

// simultaneous is Is: loudness, sidetone and quantising (equations 7-8 to 7-16).
func simultaneous(no, ro float64) float64 {
	x := sendLoudness + receiveLoudness + 0.2*(64+no-receiveLoudness)
	loud := 20 * (root(8, x/8) - x/8)
	masked := -10 * math.Log10(math.Pow(10, -sidetone/10)+math.Pow(10, -talkerEcho/10))
	side := 12*root(8, (masked-13)/6) - 28*root(35, (masked+1)/19.4) - 13*root(13, (masked-3)/33) + 29
	q := 37 - 15*math.Log10(quantising)
	g := 1.07 + 0.258*q + 0.0602*q*q
	y, z := (ro-100)/15+46/8.4-g/9, 46.0/30-g/40
	return loud + side + 15*math.Log10(1+math.Pow(10, y)+math.Pow(10, z))
}

// delayed is Id, the impairment by a delay one way in ms: talker echo, listener
// echo, and the delay itself (equations 7-18 to 7-28).
func delayed(t float64) float64 {
	audible := talkerEcho - 40*math.Log10((1+t/10)/(1+t/150)) + 6*math.Exp(-0.3*t*t)
	apart := (-1.5*(noise-receiveLoudness) - (80 + 2.5*(audible-14))) / 2
	talker := (apart + math.Sqrt(square(apart)+100) - 1) * (1 - math.Exp(-t))
	apart = (ratio - 10.5*(echoPath+7)*math.Pow(2*t+1, -0.25)) / 2
	listener := apart + math.Sqrt(square(apart)+169)
	long := 0.0
	if t > 100 {
		x := math.Log2(t / 100)
		long = 25 * (root(6, x) - 3*root(6, x/3) + 2)
	}
	return talker + listener + long
}

func square(x float64) float64 { return x * x }

// root is the n-th root of 1 + xⁿ.
func root(n, x float64) float64 { return math.Pow(1+math.Pow(x, n), 1/n) }

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
