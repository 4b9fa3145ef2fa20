// Package measure is the vocabulary of single measurements: outcomes, measures
// with units, limits on them, and the arithmetic over samples.
package measure

import "fmt"

// Outcome is the result of one measurement.
type Outcome uint8

// The outcomes. Error means that the measuring itself could not be done: it is
// no measurement and says nothing about the target.
const (
	Error Outcome = iota
	OK
	Degraded
	Failed
)

var outcomeNames = [...]string{"error", "ok", "degraded", "failed"}

func (o Outcome) String() string { return outcomeNames[o] }

// ParseOutcome reads an outcome's word.
func ParseOutcome(s string) (Outcome, error) {
	for i, n := range outcomeNames {
		if n == s {
			return Outcome(i), nil
		}
	}
	return Error, fmt.Errorf("outcome '%s' is none of ok, degraded, failed, error", s)
}

// MarshalText writes the outcome's word.
func (o Outcome) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// UnmarshalText reads the outcome's word.
func (o *Outcome) UnmarshalText(text []byte) (err error) {
	*o, err = ParseOutcome(string(text))
	return err
}
