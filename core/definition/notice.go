package definition

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"kestite/core/calendar"
	"kestite/core/span"
)

// NoticePlanSpec says who is told what of an incident, how and when.
type NoticePlanSpec struct {
	Name        string       `json:"name" minLength:"1" maxLength:"80"`
	Steps       []NoticeStep `json:"steps" minItems:"1" maxItems:"20"`
	NoAllClear  bool         `json:"no_all_clear,omitempty" doc:"Those who were told are not told that it is over"`
	RemindS     int64        `json:"remind_s,omitempty" minimum:"0" maximum:"604800" doc:"Who acknowledged it is reminded after so many seconds, and again; 0: never"`
	Everywhere  bool         `json:"everywhere,omitempty" doc:"For every incident that meets the conditions; otherwise for those of services that name the plan, or whose team does"`
	Severities  []string     `json:"severities,omitempty" maxItems:"3" enum:"critical,major,minor" doc:"Condition: how severe it is; absent: any"`
	About       []string     `json:"about,omitempty" maxItems:"4" enum:"service,check,location,agreement" doc:"Condition: what it is about; absent: anything"`
	CheckKinds  []string     `json:"check_kinds,omitempty" maxItems:"9" doc:"Condition on incidents of checks: their kinds; absent: any"`
	Tags        []string     `json:"tags,omitempty" maxItems:"20" doc:"Condition: the service has one of these tags; absent: any"`
	Selections  []string     `json:"selections,omitempty" maxItems:"20" doc:"Condition: it is about something in one of these selections, by id; absent: anything"`
	Agreed      string       `json:"agreed,omitempty" enum:"inside,outside" doc:"Condition on the moment: inside the service hours of some agreement of the service, or outside all of them; its clock stands still otherwise, and a service that was promised to nobody has no service hours. Absent: at any"`
	Hours       *WeeklyPlan  `json:"hours,omitempty" doc:"Steps are told within these; absent: always"`
	Outside     string       `json:"outside,omitempty" enum:"wait,digest,plan" doc:"What is due outside the hours waits for them (absent: that), stands in the next digest, or is left to another plan until they begin"`
	Instead     string       `json:"instead,omitempty" maxLength:"120" doc:"Id of the plan that tells outside the hours"`
	Digest      *Digest      `json:"digest,omitempty" doc:"When what is not told at once is told in one message; of a plan without hours that is all"`
	MostPerHour int          `json:"most_per_hour,omitempty" minimum:"0" maximum:"10000" doc:"So many incidents an hour begin a message of their own to one receiver; the rest is summed up in one. 0: no bound"`
	Note        string       `json:"note,omitempty" maxLength:"2000"`
}

// Digest is when what happened meanwhile is told in one message to each receiver.
type Digest struct {
	Timezone string   `json:"timezone" minLength:"1" doc:"On whose clocks"`
	At       []string `json:"at" minItems:"1" maxItems:"24" doc:"Times of day, 07:30"`
	Days     []string `json:"days,omitempty" maxItems:"7" enum:"MO,TU,WE,TH,FR,SA,SU" doc:"On these days; absent: every day"`
}

// What a plan does with what is due outside its hours.
const (
	OutsideWait   = "wait"
	OutsideDigest = "digest"
	OutsidePlan   = "plan"
)

// NoticeStep is what happens after a while that nobody has acknowledged the incident.
type NoticeStep struct {
	AfterS  int64       `json:"after_s" minimum:"0" maximum:"604800" doc:"So many seconds after it opened, unless it is acknowledged or over by then; the clock stands still while somebody has acknowledged it"`
	Tell    []Recipient `json:"tell" minItems:"1" maxItems:"20"`
	By      []string    `json:"by,omitempty" maxItems:"2" enum:"mail,sms" doc:"By which kinds of contact methods people are reached; absent: all they have"`
	RepeatS int64       `json:"repeat_s,omitempty" minimum:"0" maximum:"86400" doc:"Told again after so many seconds, and again; 0: once"`
	Most    int         `json:"most,omitempty" minimum:"0" maximum:"100" doc:"How often again at most; absent: 100"`
}

// MostRepeats is how often a step is repeated at most.
const MostRepeats = 100

// Recipient is one of a pool, a person or a shared contact method.
type Recipient struct {
	Pool    string `json:"pool,omitempty" maxLength:"120"`
	Person  string `json:"person,omitempty" maxLength:"120"`
	Contact string `json:"contact,omitempty" maxLength:"120"`
}

// Called is what people call what a spec defines.
func (p NoticePlanSpec) Called() string { return p.Name }

// Validate of a notice plan.
func (p NoticePlanSpec) Validate() error {
	if err := called("name", p.Name); err != nil {
		return err
	}
	if _, err := active("hours", p.Hours); err != nil {
		return err
	}
	before := int64(-1)
	for i, s := range p.Steps {
		path := fmt.Sprintf("steps[%d]", i)
		if s.AfterS < before {
			return fault(path+".after_s", "is before the step above it; put the steps in the order of time")
		}
		before = s.AfterS
		if s.RepeatS > 0 && s.RepeatS < 60 {
			return fault(path+".repeat_s", "%d s is too often; at least a minute lies between two messages", s.RepeatS)
		}
		if s.Most > 0 && s.RepeatS == 0 {
			return fault(path+".most", "stands beside no repetition; say how often again, or take it away")
		}
		if err := receivers(path+".tell", s.Tell); err != nil {
			return err
		}
	}
	for i, tag := range p.Tags {
		if err := called(fmt.Sprintf("tags[%d]", i), tag); err != nil {
			return err
		}
	}
	return p.validOutside()
}

// validOutside says what is wrong with what happens outside the hours.
func (p NoticePlanSpec) validOutside() error {
	if p.Digest != nil {
		if _, err := p.Digest.Compile(); err != nil {
			return Within("digest", err)
		}
	}
	switch {
	case p.Outside != "" && p.Hours == nil:
		return fault("outside", "a plan without hours has nothing outside them; give it hours, or take this away")
	case p.Outside == OutsidePlan && p.Instead == "":
		return fault("instead", "is missing; say which plan tells outside the hours")
	case p.Outside != OutsidePlan && p.Instead != "":
		return fault("instead", "is for what another plan tells outside the hours; say so in outside, or take it away")
	case p.Outside == OutsideDigest && p.Digest == nil:
		return fault("digest", "is missing; say at which times digests are sent")
	case p.Hours != nil && p.Outside != OutsideDigest && p.Digest != nil:
		return fault("digest", "is for what is due outside the hours; say so in outside, or take it away")
	}
	return nil
}

// CompiledDigest is a digest with its zone and times resolved.
type CompiledDigest struct {
	location *time.Location
	at       []int64 // ms after midnight, in order
	days     []time.Weekday
}

// Compile resolves a digest. The error is a *Fault.
func (d Digest) Compile() (CompiledDigest, error) {
	var out CompiledDigest
	var err error
	if out.location, err = calendar.Zone(d.Timezone); err != nil {
		return out, fault("timezone", "%v", err)
	}
	if len(d.At) == 0 {
		return out, fault("at", "is empty, which is never; add a time")
	}
	for i, at := range d.At {
		ms, err := calendar.ParseClock(at, false)
		if err != nil {
			return out, fault(fmt.Sprintf("at[%d]", i), "%v", err)
		}
		if slices.Contains(out.at, ms) {
			return out, fault(fmt.Sprintf("at[%d]", i), "%s stands there twice", at)
		}
		out.at = append(out.at, ms)
	}
	slices.Sort(out.at)
	for i, day := range d.Days {
		w, known := weekdays[day]
		if !known {
			return out, fault(fmt.Sprintf("days[%d]", i), "%q is no day; it is one of MO, TU, WE, TH, FR, SA, SU", day)
		}
		out.days = append(out.days, w)
	}
	return out, nil
}

// Next is when the next digest after an instant is sent.
func (d CompiledDigest) Next(after span.Instant) span.Instant {
	day := calendar.WallAt(after, d.location).At(0)
	for n := range 9 { // a week has each of its days, and one clock change less than a day
		of := day.AddDays(n)
		if len(d.days) > 0 && !slices.Contains(d.days, of.Weekday()) {
			continue
		}
		for _, ms := range d.at {
			if at := of.At(ms).Instant(d.location, calendar.Shift); at > after {
				return at
			}
		}
	}
	return after.Add(span.Day) // not reached: some day of eight in a row is one of them
}

// receivers refuses entries that name none or several, and one that stands there twice.
func receivers(path string, list []Recipient) error {
	for i, r := range list {
		n := 0
		for _, id := range []string{r.Pool, r.Person, r.Contact} {
			if id != "" {
				n++
			}
		}
		if n != 1 {
			return fault(fmt.Sprintf("%s[%d]", path, i), "names %d receivers; name one: a pool, a person or a contact method", n)
		}
		if slices.Contains(list[:i], r) {
			return fault(fmt.Sprintf("%s[%d]", path, i), "is told here already; take one of them away")
		}
	}
	return nil
}

// active resolves hours in which something may be used; nil is always.
func active(path string, w *WeeklyPlan) (calendar.Hours, error) {
	if w == nil {
		return calendar.Hours{}, nil
	}
	if len(w.Weekly) == 0 {
		return calendar.Hours{}, fault(path+".weekly", "is empty, which is never; add a row, or take the hours away")
	}
	h, err := CompileHours(ServiceHours{Plan: w})
	return h, Within(path, err)
}

// ActiveHours resolves hours in which something may be used; nil is always. The error is
// a *Fault.
func ActiveHours(w *WeeklyPlan) (calendar.Hours, error) { return active("active", w) }

// Recipients are all that a plan tells.
func (p NoticePlanSpec) Recipients() []Recipient {
	var out []Recipient
	for _, s := range p.Steps {
		for _, r := range s.Tell {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Marks tell the steps of a plan apart by whom they tell and how: a step keeps its mark
// when others are put before it, and when it is due earlier or later.
func (p NoticePlanSpec) Marks() []string {
	out := make([]string, len(p.Steps))
	times := map[string]int{}
	for i, s := range p.Steps {
		var b strings.Builder
		for _, r := range s.Tell {
			fmt.Fprintf(&b, "%q %q %q\n", r.Pool, r.Person, r.Contact)
		}
		fmt.Fprintf(&b, "%q", s.By)
		sum := sha256.Sum256([]byte(b.String()))
		mark := hex.EncodeToString(sum[:6])
		if times[mark]++; times[mark] > 1 {
			mark += fmt.Sprintf("+%d", times[mark])
		}
		out[i] = mark
	}
	return out
}

// Bounded is how often a step is repeated at most.
func (s NoticeStep) Bounded() int {
	switch {
	case s.RepeatS == 0:
		return 0
	case s.Most == 0:
		return MostRepeats
	}
	return s.Most
}

// In says by which of the kinds people are reached.
func (s NoticeStep) In(kind string) bool { return len(s.By) == 0 || slices.Contains(s.By, kind) }
