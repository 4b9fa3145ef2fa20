package publication

import (
	"errors"
	"testing"

	"kestite/core/access"
	"kestite/core/account"
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

// A schedule publishes at once what nobody has to look at, for somebody who stands for it.
func TestWhatASchedulePublishes(t *testing.T) {
	mikkel := &Standing{Name: "Mikkel", Until: "2026-12-01", May: true}
	for name, of := range map[string]struct {
		of      *Standing
		today   string
		verdict account.Verdict
		adjust  int
		path    string
	}{
		"met": {mikkel, "2026-11-28", account.Met, 0, ""}, "missed": {mikkel, "2026-11-28", account.Missed, 0, ""}, "on the last day": {mikkel, "2026-12-01", account.Met, 0, ""},
		"nobody": {nil, "2026-11-28", account.Met, 0, "approval"}, "after its end": {mikkel, "2026-12-02", account.Met, 0, "approval"},
		"without end":  {&Standing{Name: "Mikkel", May: true}, "2099-01-01", account.Met, 0, ""},
		"who may not":  {&Standing{Name: "Mikkel"}, "2026-11-28", account.Met, 0, "approval"},
		"adjusted":     {mikkel, "2026-11-28", account.Met, 1, "adjustments"},
		"insufficient": {mikkel, "2026-11-28", account.Insufficient, 0, "verdict"}, "no hours": {mikkel, "2026-11-28", account.NotApplicable, 0, "verdict"},
	} {
		err := AtOnce(of.of, of.today, of.verdict, of.adjust)
		var fault *definition.Fault
		if (err == nil) != (of.path == "") || err != nil && (!errors.As(err, &fault) || fault.Path != of.path) {
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
