package closing

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

const minute = span.Instant(span.Minute)

func facts() Facts {
	return Facts{
		Account: &account.Account{Verdict: account.Met, CoveragePercent: "99.9000", Intervals: []account.Interval{
			{From: 0, To: 10 * minute, Class: account.Up},
			{From: 10 * minute, To: 15 * minute, Class: account.Unmeasured},
			{From: 15 * minute, To: 20 * minute, Class: account.Up},
			{From: 20 * minute, To: 20*minute + 59_999, Class: account.Unmeasured},
			{From: 21 * minute, To: 21*minute + 1, Class: account.Unmeasured},
			{From: 22 * minute, To: 30 * minute, Class: account.Down},
			{From: 40 * minute, To: 50 * minute, Class: account.Down},
			{From: 50 * minute, To: 60 * minute, Class: account.Excused},
		}},
		Lost:  []account.Lost{{Window: "gangway", Planned: span.Span{From: 5 * minute, To: 9 * minute}, Refused: []account.Refusal{{Why: account.LateNotice, MS: 1000}, {Why: account.CapUsed, MS: 500}}}},
		Edits: []Edit{{"check", "gates-http", 2, 33 * minute}},
		Incidents: []Review{
			{ID: 7, Span: span.Span{From: 22 * minute, To: 31 * minute}, Reviewed: true, Cause: "A fuse."},
			{ID: 8, Span: span.Span{From: 40 * minute, To: span.End}},
		},
		Proposed: map[string]definition.AdjustmentSpec{"a-1": {From: 10 * minute, To: 15 * minute, Class: "up", Reason: "The log.", Proposer: definition.Signature{Name: "Runa"}}},
	}
}

// Each kind of question is asked once, in order, with what is known of it.
func TestQuestions(t *testing.T) {
	list := Questions(facts())
	var got []string
	for _, q := range list {
		said := ""
		if q.Answer != nil {
			said = " = " + q.Answer.Text
		}
		got = append(got, fmt.Sprintf("%s %d %d %s%s", q.Kind, q.MS, q.Count, q.Subject, said))
	}
	want := []string{
		"adjustment 300000 1 a-1", "unmeasured 300000 1 ", "unmeasured 60000 2 ", "outage 480000 1 7 = A fuse.", "outage 600000 1 8",
		"work 1500 1 gangway", "edited 0 2 gates-http",
	}
	if len(got) != len(want)+1 || !slices.Equal(got[:len(want)], want) || !strings.HasPrefix(got[len(want)], "incident ") {
		t.Errorf("%q", got)
	}
	if by, all := Left(list); all != 7 || by[Outage] != 1 || by[Unmeasured] != 2 || by[Waiting] != 1 {
		t.Errorf("%v %d", by, all)
	}
	f := facts()
	f.Account.Verdict = account.Insufficient
	if q := Questions(f)[1]; q.Kind != Coverage {
		t.Errorf("an insufficient verdict asks %+v", q)
	}
}

// An answer stands as long as what it answers is the same, and no words settle an
// adjustment that waits.
func TestAnswersAreToWhatWasAsked(t *testing.T) {
	f := facts()
	for _, q := range Questions(f) {
		f.Answers = append(f.Answers, Answer{Key: q.Key, Text: "known"})
	}
	list := Questions(f)
	if by, all := Left(list); all != 1 || by[Waiting] != 1 {
		t.Errorf("%v", by)
	}
	moved := map[string]func(*Facts){
		"a longer gap": func(f *Facts) { f.Account.Intervals[1].To += minute; f.Account.Intervals[2].From += minute },
		"one short gap more": func(f *Facts) {
			f.Account.Intervals[0].To--
			f.Account.Intervals = append(f.Account.Intervals, account.Interval{From: 70 * minute, To: 70*minute + 1, Class: account.Unmeasured})
		},
		"an outage that is less": func(f *Facts) { f.Account.Intervals[6].To-- },
		"edited again":           func(f *Facts) { f.Edits[0].Last++ },
	}
	for what, move := range moved {
		g := facts()
		g.Answers = f.Answers
		move(&g)
		if by, all := Left(Questions(g)); all != 2 {
			t.Errorf("%s: %v are open", what, by)
		}
	}
}

// Questions have keys of their own, however many there are.
func TestKeysTellQuestionsApart(t *testing.T) {
	f := facts()
	for i := range 10_000 {
		at := span.Instant(i) * 10 * minute
		f.Account.Intervals = append(f.Account.Intervals, account.Interval{From: 100*minute + at, To: 102*minute + at, Class: []account.Class{account.Down, account.Unmeasured}[i%2]})
	}
	seen := map[string]bool{}
	list := Questions(f)
	for _, q := range list {
		if seen[q.Key] {
			t.Fatalf("twice %s", q.Key)
		}
		seen[q.Key] = true
	}
	if len(list) != 10_008 {
		t.Errorf("%d questions", len(list))
	}
}

// Two persons: who proposed never approves, and nobody decides twice.
func TestDecide(t *testing.T) {
	runa, mikkel := definition.Signature{ID: "r", Name: "Runa"}, definition.Signature{ID: "m", Name: "Mikkel"}
	open := definition.AdjustmentSpec{Agreement: "gates", From: 0, To: 1, Class: "up", Cause: "other", Reason: "x", State: definition.Proposed, Proposer: runa}
	for _, c := range []struct {
		state, note string
		by          definition.Signature
		fault       string
	}{
		{definition.Approved, "", mikkel, ""}, {definition.Refused, "no", mikkel, ""}, {definition.Withdrawn, "", runa, ""},
		{definition.Approved, "", runa, "state"}, {definition.Refused, "no", runa, "state"}, {definition.Withdrawn, "", mikkel, "state"},
		{definition.Refused, "", mikkel, "note"}, {definition.Proposed, "", mikkel, "state"}, {"", "", mikkel, "state"}, {"fine", "", mikkel, "state"},
	} {
		got, err := Decide(open, c.state, c.note, c.by)
		if c.fault == "" {
			if err != nil || got.State != c.state || got.Decider.ID != c.by.ID || got.Validate() != nil {
				t.Errorf("%s by %s: %+v, %v, %v", c.state, c.by.Name, got, err, got.Validate())
			}
			for _, again := range []string{definition.Approved, definition.Refused, definition.Withdrawn} {
				if _, err := Decide(got, again, "again", mikkel); err == nil {
					t.Errorf("%s after %s", again, c.state)
				}
			}
			continue
		}
		if f, is := err.(*definition.Fault); !is || f.Path != c.fault {
			t.Errorf("%s by %s: %v", c.state, c.by.Name, err)
		}
	}
	own := open
	own.State, own.Decider = definition.Approved, &runa
	if own.Validate() == nil {
		t.Error("an adjustment that its proposer approved is valid")
	}
	half := definition.AdjustmentSpec{State: definition.Approved} // as somebody may have written it into the database
	if half.Entry("x").Approved {
		t.Error("approved by nobody")
	}
}

// What differs is said with its figures; what does not, is not.
func TestDiffer(t *testing.T) {
	p := func(s string) *string { return &s }
	kept := account.Account{Verdict: account.Met, AvailabilityPercent: p("99.9500"), DowntimeMS: 1000, CreditPercent: "0"}
	if d := Differ(&kept, &kept); !d.Same || d.Turned || len(d.Words) != 0 {
		t.Errorf("%+v", d)
	}
	today := kept
	today.Verdict, today.AvailabilityPercent, today.DowntimeMS, today.CreditPercent = account.Missed, p("99.9469"), 62_000, "5"
	d := Differ(&kept, &today)
	text := strings.Join(d.Words, " ")
	for _, want := range []string{"The verdict is missed today; it was met.", "0.0031 points lower today: 99.9469 % instead of 99.9500 %.", "The downtime is 1 min 01 s more today.", "The credit is 5 % today; it was 0 %."} {
		if !strings.Contains(text, want) {
			t.Errorf("%q lacks %q", text, want)
		}
	}
	if !d.Turned || d.Same {
		t.Errorf("%+v", d)
	}
	gone := kept
	gone.AvailabilityPercent = nil
	if text := strings.Join(Change(&kept, &gone).Words, " "); text != "The availability would be none then; it is 99.9500 %." {
		t.Errorf("%q", text)
	}
	moved := kept
	moved.Intervals = []account.Interval{{From: 0, To: 1}}
	if text := strings.Join(Differ(&kept, &moved).Words, " "); text != "Its times lie otherwise today, and add up to the same." {
		t.Errorf("%q", text)
	}
}
