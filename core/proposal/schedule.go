package proposal

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/core/span"
)

// Schedule is how often, from how many places and with how much patience something
// is measured: as much of a check as its cost and its consequences depend on. It
// may come from a form that is not finished, so everything may be absent.
type Schedule struct {
	Kind      string              `json:"kind" enum:"ping,http,tcp,certificate,dns,path,udp,report-in,derived"`
	IntervalS int64               `json:"interval_s,omitempty" minimum:"0" maximum:"86400"`
	TimeoutMS int64               `json:"timeout_ms,omitempty" minimum:"0" maximum:"60000"`
	Confirm   int64               `json:"confirm,omitempty" minimum:"0" maximum:"100"`
	RetryS    int64               `json:"retry_s,omitempty" minimum:"0" maximum:"3600"`
	Rolling   *definition.Rolling `json:"rolling,omitempty"`
	Locations int64               `json:"locations,omitempty" minimum:"0" maximum:"10000" doc:"How many"`
	Limits    []measure.Limit     `json:"limits,omitempty" maxItems:"100"`
	Packets   int64               `json:"packets,omitempty" minimum:"0" maximum:"3000" doc:"That one run sends to the target; 0: as many as the kind does"`
	SizeBytes int64               `json:"size_bytes,omitempty" minimum:"0" maximum:"1000000" doc:"Of a packet, or of what is sent with a request; 0: as the kind does"`
	Codec     string              `json:"codec,omitempty" enum:"g711,g729,"`
}

// ScheduleOf is that of a check.
func ScheduleOf(c definition.CheckSpec) Schedule {
	s := Schedule{Kind: c.Kind, IntervalS: c.IntervalS, TimeoutMS: c.TimeoutMS, Confirm: c.Confirm, RetryS: c.RetryS, Rolling: c.Rolling,
		Locations: int64(len(c.Locations)), Limits: c.Limits}
	switch {
	case c.Ping != nil:
		s.Packets, s.SizeBytes = int64(c.Ping.Packets), int64(c.Ping.SizeBytes)
	case c.HTTP != nil:
		s.SizeBytes = int64(len(c.HTTP.Body))
	case c.Path != nil:
		s.Packets, s.SizeBytes = int64(c.Path.Rounds), int64(c.Path.SizeBytes)
	case c.UDP != nil:
		s.Packets, s.Codec = int64(c.UDP.Packets), c.UDP.Codec
	}
	return s
}

// packets is how many packets one run sends whose loss is told; 0 where none is.
func (s Schedule) packets() int64 {
	usual := map[string]int64{measure.Ping.Name: 5, measure.Path.Name: 3, measure.UDP.Name: 100}[s.Kind]
	if usual > 0 && s.Packets > 0 {
		return s.Packets
	}
	return usual
}

// Effect is what a schedule means, in sentences for whoever fills in its form.
type Effect struct {
	Load
	Cost        string   `json:"cost" doc:"What it costs, and whether that is more than networks like"`
	DetectionMS int64    `json:"detection_ms" doc:"After how long a failure is certain at the latest; 0: that cannot be told yet"`
	Detection   string   `json:"detection"`
	Window      string   `json:"window,omitempty" doc:"Of a rolling rule: how many runs its window holds"`
	TooShort    bool     `json:"too_short" doc:"The window of the rolling rule can never hold what it asks for"`
	Limits      []string `json:"limits" doc:"Of each limit what its measurements are too few to tell; empty where that is nothing"`
}

// Effect is what the schedule means.
func (s Schedule) Effect() Effect {
	out := Effect{Load: s.Load(), Cost: s.cost(), Limits: make([]string, len(s.Limits))}
	out.DetectionMS, out.Detection = s.detection()
	if s.Rolling != nil && s.IntervalS > 0 {
		out.Window, out.TooShort = s.window()
	}
	for i, l := range s.Limits {
		out.Limits[i] = s.tooFine(l)
	}
	return out
}

func (s Schedule) cost() string {
	if s.IntervalS <= 0 || s.Locations <= 0 {
		return "Choose an interval and at least one location."
	}
	text := s.Load().String() + "."
	kind, _ := measure.KindNamed(s.Kind)
	if least := starts[s.Kind].leastS; s.IntervalS < least {
		text += fmt.Sprintf(" Every %s is more often than the %s recommended for %s; some networks block this.", seconds(s.IntervalS),
			seconds(least), kind.Text)
	}
	return text
}

// detection is after how many ms a failure is certain at the latest, with the sum:
// an interval until it is measured, the repetitions that confirm it, and the time
// that the last one is waited for (accounting.md, confirmation and rolling rules).
func (s Schedule) detection() (ms int64, words string) {
	if s.IntervalS <= 0 || s.TimeoutMS <= 0 || s.Locations <= 0 {
		return 0, ""
	}
	if r := s.Rolling; r != nil {
		if r.Runs <= 0 {
			return 0, ""
		}
		each := s.each(r)
		ms = each*s.IntervalS*span.Second + s.TimeoutMS
		return ms, fmt.Sprintf("A failure that all locations see is certain at most %s after it begins (%d × %s, %s timeout); each failed run then counts from its own instant.",
			span.WordsUp(ms), each, seconds(s.IntervalS), span.Words(s.TimeoutMS))
	}
	if s.Confirm <= 0 {
		return 0, ""
	}
	again := s.RetryS
	if again <= 0 {
		again = s.IntervalS
	}
	parts := []string{seconds(s.IntervalS) + " until it is measured"}
	if s.Confirm > 1 {
		parts = append(parts, fmt.Sprintf("%d × %s to confirm", s.Confirm-1, seconds(again)))
	}
	parts = append(parts, span.Words(s.TimeoutMS)+" timeout")
	ms = (s.IntervalS+(s.Confirm-1)*again)*span.Second + s.TimeoutMS
	return ms, fmt.Sprintf("A failure is certain at most %s after it begins (%s); it then counts from its first failed measurement.",
		span.WordsUp(ms), strings.Join(parts, " + "))
}

// each is how many runs each location must fail, where all see the same.
func (s Schedule) each(r *definition.Rolling) int64 { return (r.Runs + s.Locations - 1) / s.Locations }

// window says how many runs the window of the rolling rule holds, and whether
// these are too few for what it asks.
func (s Schedule) window() (words string, tooShort bool) {
	r := s.Rolling
	if s.Locations <= 0 {
		return "", false
	}
	held := r.WindowS / s.IntervalS
	all := held * s.Locations
	places := "locations"
	if s.Locations == 1 {
		places = "location"
	}
	sum := fmt.Sprintf("%s hold %d runs a location, × %d %s = %d", seconds(r.WindowS), held, s.Locations, places, all)
	switch {
	case all < r.Runs:
		return fmt.Sprintf("The window is too short: %s, and %d must fail. Take at least %s.", sum, r.Runs, seconds(s.each(r)*s.IntervalS)), true
	case r.Locations > s.Locations:
		return fmt.Sprintf("%d locations can never agree: it is measured from %d.", r.Locations, s.Locations), true
	}
	return fmt.Sprintf("%s; %d of them must fail.", sum, r.Runs), false
}

// tooFine says of a limit on loss what the packets cannot resolve: one lost of n is
// 100/n percent already.
func (s Schedule) tooFine(l measure.Limit) string {
	n := s.packets()
	if l.Measure != "loss_percent" || n == 0 {
		return ""
	}
	runs := int64(1)
	if l.MeanS > 0 && s.IntervalS > 0 {
		runs = max(1, l.MeanS/s.IntervalS)
	}
	step := 100 / float64(n*runs)
	for _, b := range []*float64{l.DegradedAbove, l.FailedAbove} {
		if b == nil || !(*b > 0 && *b < step) {
			continue
		}
		a := ""
		if runs > 1 {
			a = " a run"
		}
		need := math.Ceil(100 / *b / float64(runs))
		advice := fmt.Sprintf("Send %.0f packets%s, or take a mean over a longer time.", need, a)
		if need > mostPackets {
			advice = "Take a mean over a longer time."
		}
		return fmt.Sprintf("%s %% cannot be told: one lost packet of %d is %s %% already. %s",
			strconv.FormatFloat(*b, 'g', -1, 64), n*runs, number(step), advice)
	}
	return ""
}

const mostPackets = 3000 // that a run of any kind may send

// Resolution says how many samples the allowance of a month of 30 days is at a
// target, and which interval would be fine enough where
// these are fewer than 20. It is empty where there is nothing to say.
func Resolution(target definition.Percent, intervalS int64) string {
	target, err := definition.ParsePercent(string(target))
	if err != nil || intervalS <= 0 {
		return ""
	}
	percent, _ := target.Rat().Float64()
	const month, enough = 30 * day, 20
	allowance := (100 - percent) / 100 * month
	samples := allowance / float64(intervalS)
	text := fmt.Sprintf("A month at %s %% allows %s of downtime: %.1f samples at %s.", target, span.Words(int64(math.Round(allowance*1000))),
		samples, seconds(intervalS))
	if samples >= enough || allowance == 0 {
		return text
	}
	better := int64(5) // s; no check measures more often
	for _, i := range []int64{10, 15, 20, 30, 60, 120} {
		if allowance/float64(i) >= enough {
			better = i
		}
	}
	if allowance/float64(better) < enough {
		return fmt.Sprintf("%s That is coarse, and %s, the shortest interval, is too: a target this high can hardly be proved.", text,
			seconds(better))
	}
	return fmt.Sprintf("%s That is coarse; measure every %s.", text, seconds(better))
}

func seconds(s int64) string { return span.Words(s * span.Second) }
