package definition

import "cmp"

// Severities of an incident, from the least.
const (
	Minor    = "minor"
	Major    = "major"
	Critical = "critical"
	// None opens no incident.
	None = "none"
)

// Severities are all of them, from the least.
var Severities = []string{Minor, Major, Critical}

// ReopenS is for how long after its end, in s, the same trouble opens its incident again
// where the service says nothing else.
const ReopenS = 600

// TroublePolicy says what of a service opens an incident, and how severe it is. What is
// left out is as by default: see Trouble.
type TroublePolicy struct {
	Down     string `json:"down,omitempty" enum:"critical,major,minor,none" doc:"How severe it is that the service is down; none opens no incident. Default: critical for a business service, major for others"`
	Degraded string `json:"degraded,omitempty" enum:"critical,major,minor,none" doc:"How severe it is that the service is degraded. Default: minor"`
	Informs  string `json:"informs,omitempty" enum:"critical,major,minor,none" doc:"How severe it is that a check fails that informs only. Default: minor"`
	ReopenS  *int64 `json:"reopen_s,omitempty" minimum:"0" maximum:"86400" doc:"Trouble that is back within so many seconds opens its incident again, instead of another one. Default: 600"`
}

// Trouble is what opens incidents of a service, with the defaults filled in.
func (s ServiceSpec) Trouble() TroublePolicy {
	out := TroublePolicy{}
	if s.Incidents != nil {
		out = *s.Incidents
	}
	down := Major
	if s.Kind == "business" {
		down = Critical
	}
	out.Down, out.Degraded, out.Informs = cmp.Or(out.Down, down), cmp.Or(out.Degraded, Minor), cmp.Or(out.Informs, Minor)
	if out.ReopenS == nil {
		n := int64(ReopenS)
		out.ReopenS = &n
	}
	return out
}
