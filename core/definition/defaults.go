package definition

import (
	"fmt"
	"slices"
	"strings"
)

// CheckDefaults are values that the checks of a service follow. Absent ones
// each check says for itself.
type CheckDefaults struct {
	IntervalS   int64    `json:"interval_s,omitempty" minimum:"0" maximum:"86400" doc:"0: none"`
	TimeoutMS   int64    `json:"timeout_ms,omitempty" minimum:"0" maximum:"60000" doc:"0: none"`
	StaleAfterS int64    `json:"stale_after_s,omitempty" minimum:"0" maximum:"604800" doc:"0: none"`
	Confirm     int64    `json:"confirm,omitempty" minimum:"0" maximum:"100" doc:"0: none"`
	Recover     int64    `json:"recover,omitempty" minimum:"0" maximum:"100" doc:"0: none"`
	RetryS      int64    `json:"retry_s,omitempty" minimum:"0" maximum:"3600" doc:"0: none"`
	Rolling     *Rolling `json:"rolling,omitempty"`
	Quorum      string   `json:"quorum,omitempty" doc:"any, majority, all or a whole number; empty: none"`
	Locations   []string `json:"locations,omitempty"`
}

// follow is a field that a check can follow.
type follow struct {
	has  func(CheckDefaults) bool
	take func(*CheckSpec, CheckDefaults)
}

// follows are those fields by their names in JSON.
var follows = map[string]follow{
	"interval_s":    {func(d CheckDefaults) bool { return d.IntervalS > 0 }, func(c *CheckSpec, d CheckDefaults) { c.IntervalS = d.IntervalS }},
	"timeout_ms":    {func(d CheckDefaults) bool { return d.TimeoutMS > 0 }, func(c *CheckSpec, d CheckDefaults) { c.TimeoutMS = d.TimeoutMS }},
	"stale_after_s": {func(d CheckDefaults) bool { return d.StaleAfterS > 0 }, func(c *CheckSpec, d CheckDefaults) { c.StaleAfterS = d.StaleAfterS }},
	"confirm":       {func(d CheckDefaults) bool { return d.Confirm > 0 }, func(c *CheckSpec, d CheckDefaults) { c.Confirm = d.Confirm }},
	"recover":       {func(d CheckDefaults) bool { return d.Recover > 0 }, func(c *CheckSpec, d CheckDefaults) { c.Recover = d.Recover }},
	"retry_s":       {func(d CheckDefaults) bool { return d.RetryS > 0 }, func(c *CheckSpec, d CheckDefaults) { c.RetryS = d.RetryS }},
	"rolling":       {func(d CheckDefaults) bool { return d.Rolling != nil }, func(c *CheckSpec, d CheckDefaults) { c.Rolling, c.RetryS = d.Rolling, 0 }}, // which counts no retries
	"quorum":        {func(d CheckDefaults) bool { return d.Quorum != "" }, func(c *CheckSpec, d CheckDefaults) { c.Quorum = d.Quorum }},
	"locations":     {func(d CheckDefaults) bool { return len(d.Locations) > 0 }, func(c *CheckSpec, d CheckDefaults) { c.Locations = slices.Clone(d.Locations) }},
}

// Following returns the check with the values of the defaults in the fields
// that it follows. A field for which there is no default keeps its value and is
// followed no more.
func (c CheckSpec) Following(d *CheckDefaults) CheckSpec {
	if d == nil {
		d = &CheckDefaults{}
	}
	var kept []string
	for _, name := range c.Follows {
		if f, known := follows[name]; known && !f.has(*d) {
			continue
		} else if known {
			f.take(&c, *d)
		}
		kept = append(kept, name) // an unknown name is Validate's to refuse
	}
	c.Follows = kept
	return c
}

// validFollows says what is wrong with the names of the fields that a check follows.
func validFollows(names []string) error {
	for i, name := range names {
		if _, known := follows[name]; !known {
			var all []string
			for n := range follows {
				all = append(all, n)
			}
			slices.Sort(all)
			return fault(fmt.Sprintf("follows[%d]", i), "%q is no field that a service has a default for; it is one of %s", name, strings.Join(all, ", "))
		}
		if slices.Contains(names[:i], name) {
			return fault(fmt.Sprintf("follows[%d]", i), "%s is named twice", name)
		}
	}
	return nil
}

// Validate of defaults, as far as can be told without the checks.
func (d CheckDefaults) Validate() error {
	if d.Quorum != "" {
		var q Quorum
		if err := q.SetScalar(quorumValue(d.Quorum)); err != nil {
			return fault("quorum", "%v", err)
		}
	}
	if d.IntervalS > 0 && d.IntervalS < 5 {
		return fault("interval_s", "%d s is more often than every 5 s", d.IntervalS)
	}
	if d.Rolling != nil && d.RetryS > 0 {
		return fault("retry_s", "a rolling rule counts the runs of the schedule; leave the retries away")
	}
	return nil
}
