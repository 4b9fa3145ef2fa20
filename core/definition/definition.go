// Package definition holds what people define — services, checks, windows,
// agreements — as plain values, in the form the open evidence format writes
// them, and the rules that a set of them must keep.
package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/big"
	"regexp"
	"strconv"

	"kestite/core/measure"
	"kestite/core/span"
)

// Kinds of service.
const (
	Business   = "business"
	Supporting = "supporting"
	Supplier   = "supplier"
)

// Combine rules of a service's deciding checks.
const (
	Worst = "worst"
	Best  = "best"
)

// Roles of a check.
const (
	Decides = "decides"
	Informs = "informs"
)

// Modes of the maintenance clause.
const (
	MaintenanceIgnore  = "ignore"
	MaintenanceExclude = "exclude"
	MaintenanceForgive = "forgive"
)

// How unmeasured time counts.
const (
	UnmeasuredExclude = "exclude"
	UnmeasuredDown    = "down"
	UnmeasuredUp      = "up"
)

// Always is the service_hours of an agreement without a weekly plan.
const Always = "always"

// Service is one revision of what is answered for: what it is during [From, Until).
type Service struct {
	ID        string  `json:"id" required:"true"`
	Kind      string  `json:"kind" required:"true" enum:"business,supporting,supplier"`
	Combine   string  `json:"combine" default:"worst" enum:"worst,best"`
	Checks    []Check `json:"checks"`
	DependsOn []Group `json:"depends_on"`

	From  *span.Instant `json:"from,omitempty"`
	Until *span.Instant `json:"until,omitempty"`
}

// Group is a dependency on a number of services out of several.
type Group struct {
	Services []string `json:"services" required:"true"`
	Need     Need     `json:"need" default:"all"`
}

// Check is one revision of a check: its settings during [From, Until).
type Check struct {
	ID          string        `json:"id" required:"true"`
	Kind        string        `json:"kind" required:"true"`
	IntervalS   int64         `json:"interval_s" required:"true" min:"1"`
	StaleAfterS int64         `json:"stale_after_s" required:"true" min:"1"`
	Confirm     int64         `json:"confirm" default:"1" min:"1"`
	Recover     int64         `json:"recover" default:"1" min:"1"`
	Rolling     *Rolling      `json:"rolling,omitempty"`
	Quorum      Quorum        `json:"quorum" default:"majority"`
	Role        string        `json:"role" default:"decides" enum:"decides,informs"`
	Locations   []string      `json:"locations" required:"true"`
	From        *span.Instant `json:"from,omitempty"`
	Until       *span.Instant `json:"until,omitempty"`
}

// Types of window.
const (
	Planned   = "planned"
	Emergency = "emergency"
)

// Window is one revision of work on services, once or recurring in wall time:
// it decides on the occurrences that start during [From, Until).
type Window struct {
	ID          string       `json:"id" required:"true"`
	Services    []string     `json:"services" required:"true"`
	Type        string       `json:"type,omitempty" default:"planned" enum:"planned,emergency"`
	Start       string       `json:"start" required:"true"`
	Timezone    string       `json:"timezone" required:"true"`
	DurationS   int64        `json:"duration_s" required:"true" min:"1"`
	RRule       string       `json:"rrule,omitempty"`
	Exdates     []string     `json:"exdates"`
	AnnouncedAt span.Instant `json:"announced_at" required:"true"`

	From  *span.Instant `json:"from,omitempty"`
	Until *span.Instant `json:"until,omitempty"`
}

// OfType is the window's type; planned where nothing is said.
func (w Window) OfType() string {
	if w.Type == "" {
		return Planned
	}
	return w.Type
}

// Agreement is what was promised for a service.
type Agreement struct {
	ID                    string        `json:"id" required:"true"`
	Service               string        `json:"service" required:"true"`
	TargetPercent         Percent       `json:"target_percent" required:"true"`
	ServiceHours          ServiceHours  `json:"service_hours" default:"always"`
	From                  *span.Instant `json:"from,omitempty"`
	Until                 *span.Instant `json:"until,omitempty"`
	Maintenance           Maintenance   `json:"maintenance"`
	Upstream              Upstream      `json:"upstream"`
	DegradedWeightPercent Percent       `json:"degraded_weight_percent" default:"0"`
	Unmeasured            string        `json:"unmeasured" default:"exclude" enum:"exclude,down,up"`
	MinOutageS            int64         `json:"min_outage_s" default:"0" min:"0"`
	MinCoveragePercent    Percent       `json:"min_coverage_percent" default:"0"`
	Credits               []Credit      `json:"credits"`
	Latency               *Latency      `json:"latency,omitempty"`
	Objectives            *Objectives   `json:"objectives,omitempty"`
}

// Maintenance says what granted windows do to the account. CapS nil is no cap,
// Within nil any time, Emergency nil grants no emergency work.
type Maintenance struct {
	Mode      string              `json:"mode" default:"ignore" enum:"ignore,exclude,forgive"`
	NoticeS   int64               `json:"notice_s" default:"0" min:"0"`
	CapS      *int64              `json:"cap_s" min:"0"`
	Within    *ServiceHours       `json:"within,omitempty"`
	Emergency *EmergencyAllowance `json:"emergency,omitempty"`
}

// EmergencyAllowance is what is granted of emergency work. CapS nil is no cap.
type EmergencyAllowance struct {
	NoticeS int64  `json:"notice_s" default:"0" min:"0" minimum:"0"`
	CapS    *int64 `json:"cap_s,omitempty" min:"0" minimum:"0"`
}

// Objectives are promises beside availability; nil ones were not made.
type Objectives struct {
	OutagesAtMost  *int64 `json:"outages_at_most,omitempty" min:"0" minimum:"0" maximum:"100000"`
	LongestOutageS *int64 `json:"longest_outage_s,omitempty" min:"0" minimum:"0" maximum:"31622400" doc:"Seconds"`
	MTTRS          *int64 `json:"mttr_s,omitempty" min:"0" minimum:"0" maximum:"31622400" doc:"Mean time to restore, seconds"`
}

// Any says whether there is any of them.
func (o *Objectives) Any() bool {
	return o != nil && (o.OutagesAtMost != nil || o.LongestOutageS != nil || o.MTTRS != nil)
}

// Upstream names services whose downtime excuses ours.
type Upstream struct {
	Excuse  []string `json:"excuse"`
	LeadS   int64    `json:"lead_s" default:"0" min:"0"`
	LingerS int64    `json:"linger_s" default:"0" min:"0"`
}

// Credit is a band: below this availability, this much credit.
type Credit struct {
	BelowPercent  Percent `json:"below_percent" required:"true"`
	CreditPercent Percent `json:"credit_percent" required:"true"`
}

// Latency is the objective on the response time of one check's measurements.
type Latency struct {
	Check string `json:"check" required:"true"`
	// LimitMS has three decimals at most; Limit gives it exactly.
	LimitMS       float64 `json:"limit_ms" required:"true" above:"0" exclusiveMinimum:"0" maximum:"1000000000"`
	TargetPercent Percent `json:"target_percent" required:"true"`
}

// Limit is the limit in whole thousandths of a millisecond, as measures are kept.
func (l Latency) Limit() int64 { return measure.Thousandths(l.LimitMS) }

// Adjustment overrides the class of a stretch of an account once approved.
type Adjustment struct {
	ID        string       `json:"id" required:"true"`
	Agreement string       `json:"agreement" required:"true"`
	From      span.Instant `json:"from" required:"true"`
	To        span.Instant `json:"to" required:"true"`
	Class     string       `json:"class" required:"true" enum:"excused,up,degraded,down,unmeasured"`
	Approved  bool         `json:"approved" required:"true"`
	Reason    string       `json:"reason,omitempty"`
	// What follows is told, and counts for nothing.
	Cause      string        `json:"cause,omitempty" default:"other" enum:"force-majeure,customer,third-party,measurement,other"`
	Reference  string        `json:"reference,omitempty"`
	ProposedBy string        `json:"proposed_by,omitempty"`
	ApprovedBy string        `json:"approved_by,omitempty"`
	ApprovedAt *span.Instant `json:"approved_at,omitempty"`
}

// Percent is a decimal percentage between 0 and 100, kept as it was written.
type Percent string

var decimal = regexp.MustCompile(`^-?[0-9]{1,30}(\.[0-9]{1,60})?$`)

// ParsePercent reads a decimal such as "99.95".
func ParsePercent(s string) (Percent, error) {
	if !decimal.MatchString(s) {
		return "", fmt.Errorf("%q is no decimal number; write it as 99.95", s)
	}
	p := Percent(s)
	if r := p.Rat(); r.Sign() < 0 || r.Cmp(big.NewRat(100, 1)) > 0 {
		return "", fmt.Errorf("%s is out of range; it is between 0 and 100", s)
	}
	return p, nil
}

// Rat returns the exact value; the zero Percent is 0.
func (p Percent) Rat() *big.Rat {
	r := new(big.Rat)
	if p != "" {
		r.SetString(string(p))
	}
	return r
}

// SetScalar takes a decimal string or an integer from JSON.
func (p *Percent) SetScalar(v any) (err error) {
	switch v := v.(type) {
	case string:
		*p, err = ParsePercent(v)
	case json.Number:
		if _, failed := strconv.ParseInt(v.String(), 10, 64); failed != nil {
			return fmt.Errorf("%s is no integer; write percentages with decimals as a string, such as \"99.95\"", v)
		}
		*p, err = ParsePercent(v.String())
	default:
		err = fmt.Errorf("a decimal string or an integer is expected")
	}
	return err
}

// Quorum says how many locations must agree: "any", "majority", "all" or a count.
type Quorum string

// K returns the number k of n locations: the k-th worst speaks. The zero Quorum is majority.
func (q Quorum) K(n int) int {
	switch q {
	case "any":
		return 1
	case "majority", "":
		return n/2 + 1
	case "all":
		return n
	}
	k, _ := strconv.Atoi(string(q))
	return min(k, n)
}

// SetScalar takes a name or an integer from 1 from JSON.
func (q *Quorum) SetScalar(v any) error {
	switch v := v.(type) {
	case string:
		if v == "any" || v == "majority" || v == "all" {
			*q = Quorum(v)
			return nil
		}
		return fmt.Errorf("%q is not known; it is any, majority, all or a whole number from 1", v)
	case json.Number:
		n, err := strconv.Atoi(v.String())
		if err != nil || n < 1 {
			return fmt.Errorf("%s is not allowed; it is any, majority, all or a whole number from 1", v)
		}
		*q = Quorum(strconv.Itoa(n))
		return nil
	}
	return fmt.Errorf("any, majority, all or a whole number from 1 is expected")
}

// MarshalJSON writes a count as a number.
func (q Quorum) MarshalJSON() ([]byte, error) {
	if n, err := strconv.Atoi(string(q)); err == nil {
		return json.Marshal(n)
	}
	return json.Marshal(string(q))
}

// Need is how many members of a group must be up; 0 is all of them.
type Need int

// SetScalar takes "all" or an integer from 1 from JSON.
func (n *Need) SetScalar(v any) error {
	switch v := v.(type) {
	case string:
		if v == "all" {
			*n = 0
			return nil
		}
	case json.Number:
		k, err := strconv.Atoi(v.String())
		if err == nil && k >= 1 {
			*n = Need(k)
			return nil
		}
	}
	return fmt.Errorf("%v is not allowed; it is all or a whole number from 1", v)
}

// MarshalJSON writes 0 as "all".
func (n Need) MarshalJSON() ([]byte, error) {
	if n == 0 {
		return []byte(`"all"`), nil
	}
	return json.Marshal(int(n))
}

// ServiceHours is "always" (nil Plan) or a weekly plan.
type ServiceHours struct {
	Plan *WeeklyPlan
}

// WeeklyPlan gives hours by weekday in a zone.
type WeeklyPlan struct {
	Timezone string      `json:"timezone" required:"true"`
	Weekly   []WeeklyRow `json:"weekly"`
	Holidays []string    `json:"holidays"`
}

// WeeklyRow is one line of the plan; days are MO TU WE TH FR SA SU.
type WeeklyRow struct {
	Days []string `json:"days"`
	From string   `json:"from" required:"true"`
	To   string   `json:"to" required:"true"`
}

// SetScalar takes the word "always" from JSON.
func (h *ServiceHours) SetScalar(v any) error {
	if v != Always {
		return fmt.Errorf("%v is not allowed; it is always, or an object with timezone, weekly and holidays", v)
	}
	h.Plan = nil
	return nil
}

// SetObject returns what an object form decodes into.
func (h *ServiceHours) SetObject() any {
	h.Plan = &WeeklyPlan{}
	return h.Plan
}

// MarshalJSON writes "always" or the plan.
func (h ServiceHours) MarshalJSON() ([]byte, error) {
	if h.Plan == nil {
		return []byte(`"always"`), nil
	}
	return json.Marshal(h.Plan)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (q *Quorum) UnmarshalJSON(data []byte) error { return unmarshalScalar(data, q) }

// UnmarshalJSON reads what MarshalJSON writes.
func (n *Need) UnmarshalJSON(data []byte) error { return unmarshalScalar(data, n) }

// UnmarshalJSON reads what MarshalJSON writes.
func (h *ServiceHours) UnmarshalJSON(data []byte) error {
	if len(data) > 0 && data[0] == '{' {
		return json.Unmarshal(data, h.SetObject())
	}
	return unmarshalScalar(data, h)
}

func unmarshalScalar(data []byte, into interface{ SetScalar(any) error }) error {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		return err
	}
	return into.SetScalar(v)
}
