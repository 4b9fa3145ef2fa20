package publication

import (
	"errors"
	"testing"

	"kestite/core/access"
	"kestite/core/definition"
	"kestite/core/span"
)

func TestWhoApproves(t *testing.T) {
	for _, of := range []struct {
		role   access.Role
		by     string
		denied bool
		fault  bool
	}{{access.Approver, "b", false, false}, {access.Manager, "b", false, false}, {access.Administrator, "a", false, true}, {access.Operator, "b", true, false}, {access.Customer, "b", true, false}} {
		err := Approves("a", of.by, access.Rights{Role: of.role})
		var denied *access.Denied
		var fault *definition.Fault
		if errors.As(err, &denied) != of.denied || errors.As(err, &fault) != of.fault {
			t.Errorf("%s as %s: %v", of.by, of.role, err)
		}
	}
}

func TestWhatIsPublished(t *testing.T) {
	for name, of := range map[string]struct {
		needed bool
		of     *Approval
		good   bool
	}{
		"not needed": {false, nil, true}, "nobody": {true, nil, false}, "a second person": {true, &Approval{"b", "s"}, true},
		"who drafted it": {true, &Approval{"a", "s"}, false}, "of something else": {true, &Approval{"b", "r"}, false}, "who publishes it": {true, &Approval{"p", "s"}, false},
	} {
		if err := Publishable(of.needed, of.of, "a", "p", "s"); (err == nil) != of.good {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestObjections(t *testing.T) {
	const published = span.Instant(1_000_000)
	for name, of := range map[string]struct {
		text  string
		after int64
		days  int
		good  bool
	}{
		"in time": {"x", span.Day, 1, true}, "a moment late": {"x", span.Day + 1, 1, false}, "without end": {"x", 1000 * span.Day, 0, true}, "no words": {" \t\n", 0, 0, false},
	} {
		if err := Objects(of.text, published, published.Add(of.after), of.days); (err == nil) != of.good {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, of := range []struct {
		was, to State
		answer  string
		good    bool
	}{{Open, Stands, "x", true}, {Open, Revised, "x", true}, {Open, Withdrawn, "", true}, {Open, Stands, " ", false}, {Open, Open, "x", false}, {Open, "", "x", false}, {Stands, Revised, "x", false}, {Withdrawn, Stands, "x", false}} {
		if err := Ends(of.was, of.to, of.answer); (err == nil) != of.good {
			t.Errorf("%s to %s with %q: %v", of.was, of.to, of.answer, err)
		}
	}
}
