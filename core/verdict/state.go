// Package verdict turns measurements into states: of one location (confirm,
// recover, hold), of a check (the k-th worst location speaks), and of a service
// (its deciding checks, or its dependencies). The rules are docs/accounting.md
// §3–§5 and §9.
package verdict

// State is what is known of a location, check or service at an instant. The
// zero State is Unmeasured; the others are in order of severity.
type State uint8

// The states.
const (
	Unmeasured State = iota
	Up
	Degraded
	Down
	// absent marks a check that no revision names at an instant, inside this package only.
	absent
)

var stateNames = [...]string{"unmeasured", "up", "degraded", "down", "absent"}

func (s State) String() string { return stateNames[s] }

// MarshalText writes the state's word.
func (s State) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the state's word; anything else is Unmeasured.
func (s *State) UnmarshalText(text []byte) error {
	*s = Unmeasured
	for i, n := range stateNames[:absent] {
		if n == string(text) {
			*s = State(i)
		}
	}
	return nil
}

// Views are the three readings of the same instant: as the rules say, the worst
// and the best that sampling may have hidden (docs/accounting.md §9).
type Views [3]State

// Indices into Views.
const (
	Nominal = iota
	Low
	High
)

// Same returns Views that all read s.
func Same(s State) Views { return Views{s, s, s} }
