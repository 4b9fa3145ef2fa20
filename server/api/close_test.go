package api_test

import (
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/closing"
	"kestite/core/span"
	"kestite/server/api"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// closeOf is an agreement with a month that is over, in which nothing was measured.
func closeOf(t *testing.T) (f *fixture, id, month string, from span.Instant, look func(*servertest.Client) api.ClosePage) {
	t.Helper()
	f = setUp(t)
	id = f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) { s["from"] = "2026-01-01" }))
	now := inOslo(t)
	month = now.AddDate(0, 0, -now.Day()).Format("2006-01")
	look = func(c *servertest.Client) api.ClosePage {
		t.Helper()
		var page api.ClosePage
		c.Must(http.MethodGet, "/closes/"+id+"?period="+month, nil, &page)
		return page
	}
	return f, id, month, look(f.manager).Period.From, look
}

func inOslo(t *testing.T) time.Time {
	t.Helper()
	loc, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	return storetest.Now().In(loc)
}

// refused says whether an answer has a status and says something.
func refused(t *testing.T, what string, a servertest.Answer, status int, says string) {
	t.Helper()
	if a.Status != status || !strings.Contains(string(a.Body), says) {
		t.Errorf("%s: %s; want %d and %q", what, a, status, says)
	}
}

// A month is closed by several people: its questions are answered, an adjustment is
// approved by another than who proposed it, the account is frozen and published as frozen.
func TestAClose(t *testing.T) {
	f, id, month, from, look := closeOf(t)
	operator, approver := servertest.As(t, f.srv, f.url, access.Operator), servertest.As(t, f.srv, f.url, access.Approver)
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	path := "/closes/" + id
	at := "?period=" + month

	page := look(operator)
	if page.Left != 1 || len(page.Questions) != 1 || page.Questions[0].Kind != closing.Unmeasured || page.Questions[0].MS != page.Figures.TotalMS.Agreed ||
		!page.MayAnswer || page.MayFreeze {
		t.Fatalf("%+v", page)
	}
	whole := page.Questions[0].Key
	freeze := func(c *servertest.Client, seen string) servertest.Answer {
		return c.Do(http.MethodPost, path+"/freeze"+at, map[string]any{"seen": seen})
	}
	refused(t, "freezing with a question open", freeze(f.manager, page.Seen), 409, "one question is open")
	refused(t, "freezing by an operator", freeze(operator, page.Seen), 403, "publish")
	refused(t, "an answer of a viewer", viewer.Do(http.MethodPut, path+"/answers"+at, map[string]any{"keys": []string{whole}, "text": "x"}), 403, "operate")
	refused(t, "an answer without words", operator.Do(http.MethodPut, path+"/answers"+at, map[string]any{"keys": []string{whole}, "text": " "}), 422, "say what is known")

	// What nobody measured is called up for an hour, by what the ticket machines wrote.
	adjust := map[string]any{"agreement": id, "period": month, "from": from.String(), "to": from.Add(span.Hour).String(), "class": "up", "cause": "measurement",
		"reason": "The machines sold tickets all along.", "reference": "LOG-7"}
	var would api.WouldAdjust
	operator.Must(http.MethodPost, "/adjustments/preview", adjust, &would)
	if would.Before.TotalMS.Up != 0 || would.After.TotalMS.Up != int64(span.Hour) || would.After.Verdict != "met" || would.Before.Verdict != "not-applicable" ||
		!strings.Contains(strings.Join(would.Differs, " "), "The verdict would be met then; it is not-applicable.") {
		t.Errorf("%+v", would)
	}
	var proposed struct{ ID string }
	operator.Must(http.MethodPost, "/adjustments", adjust, &proposed)
	decide := func(c *servertest.Client, does, note string) servertest.Answer {
		return c.Do(http.MethodPost, "/adjustments/"+proposed.ID+"/decision", map[string]any{"does": does, "note": note})
	}
	refused(t, "approving what one proposed", decide(operator, "approve", ""), 403, "approve what others ask for")
	refused(t, "refusing without a word", decide(approver, "refuse", ""), 422, "say why")
	refused(t, "withdrawing what another proposed", decide(approver, "withdraw", ""), 409, "alone can withdraw")
	page = look(approver)
	if page.Left != 2 || page.Questions[0].Kind != closing.Waiting || !page.Adjustments[0].May || page.Figures.TotalMS.Up != 0 {
		t.Errorf("with an adjustment waiting: %+v", page)
	}
	if a := decide(approver, "approve", "The log agrees."); a.Status >= 300 {
		t.Fatal(a)
	}
	refused(t, "approving twice", decide(f.manager, "approve", ""), 409, "approved by")
	page = look(operator)
	if page.Figures.TotalMS.Up != int64(span.Hour) || page.Left != 1 || page.Questions[0].Key == whole || page.Adjustments[0].Decider == nil {
		t.Errorf("after it: %+v", page)
	}

	// Two answer at once: the second sees that.
	answer := func(c *servertest.Client, text string, seen *time.Time) servertest.Answer {
		return c.Do(http.MethodPut, path+"/answers"+at, map[string]any{"keys": []string{page.Questions[0].Key}, "text": text, "cause": "other", "seen": seen})
	}
	refused(t, "an answer to what is asked no more", operator.Do(http.MethodPut, path+"/answers"+at, map[string]any{"keys": []string{whole}, "text": "x"}), 409, "changed meanwhile")
	if a := answer(operator, "Measuring began in November.", nil); a.Status >= 300 {
		t.Fatal(a)
	}
	refused(t, "a second answer", answer(f.manager, "No idea.", nil), 409, "changed meanwhile")
	answered := look(f.manager)
	if said := answered.Questions[0].Answer; answered.Left != 0 || said == nil || said.Text != "Measuring began in November." || said.By == "" {
		t.Fatalf("%+v", answered.Questions)
	}
	if a := answer(f.manager, "Measuring began on 1 November.", answered.Questions[0].Answer.At); a.Status >= 300 {
		t.Errorf("changing an answer that was seen: %s", a)
	}
	refused(t, "freezing what was not seen", freeze(f.manager, answered.Seen), 409, "changed meanwhile")

	// Frozen once, whoever asks how often.
	page = look(f.manager)
	var wins sync.WaitGroup
	taken := make(chan int, 6)
	for range 6 {
		wins.Go(func() { taken <- freeze(f.manager, page.Seen).Status })
	}
	wins.Wait()
	close(taken)
	done := 0
	for status := range taken {
		if status < 300 {
			done++
		} else if status != 409 {
			t.Errorf("freezing at once: %d", status)
		}
	}
	if done != 1 {
		t.Errorf("frozen %d times", done)
	}
	frozen := look(f.manager)
	if frozen.Frozen == nil || len(frozen.Frozen.Differs) != 0 || frozen.Frozen.Figures.TotalMS.Up != int64(span.Hour) || frozen.MayAnswer {
		t.Fatalf("%+v", frozen.Frozen)
	}
	refused(t, "an adjustment of what is frozen", operator.Do(http.MethodPost, "/adjustments", adjust), 409, "frozen")
	refused(t, "an answer on what is frozen", answer(operator, "x", nil), 409, "frozen")
	edited := f.manager.Edit("/agreements/"+id, agreement(f.service, func(s map[string]any) { s["from"], s["target_percent"] = "2026-01-01", "98" }))
	edited["reason"], edited["corrects"] = "typed wrongly", month
	refused(t, "a correction of what is frozen", f.manager.Do(http.MethodPut, "/agreements/"+id, edited), 422, "frozen account")

	// The report says what was frozen, whatever is measured or defined since.
	f.manager.Must(http.MethodPut, "/services/"+f.service, f.manager.Edit("/services/"+f.service, map[string]any{"name": "Tickets", "kind": "business", "combine": "worst"}), nil)
	var draft struct{ ID string }
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": month}, &draft)
	var report api.ReportPage
	f.manager.Must(http.MethodGet, "/reports/"+draft.ID, nil, &report)
	if report.ServiceName != "Ticket sales" || report.Figures.TotalMS.Up != int64(span.Hour) || report.Frozen == nil || len(report.Adjustments) != 1 ||
		report.Adjustments[0].ApprovedBy == "" || report.Adjustments[0].MS != int64(span.Hour) {
		t.Errorf("%+v", report)
	}
	f.manager.Publish("/reports/" + draft.ID)
	refused(t, "unfreezing without a reason", f.manager.Do(http.MethodPost, path+"/unfreeze"+at, map[string]any{"reason": ""}), 422, "say why")
	f.manager.Must(http.MethodPost, path+"/unfreeze"+at, map[string]any{"reason": "The customer objects."}, nil)
	refused(t, "unfreezing twice", f.manager.Do(http.MethodPost, path+"/unfreeze"+at, map[string]any{"reason": "again"}), 409, "not frozen")
	if page = look(f.manager); page.Frozen != nil || len(page.Unfrozen) != 1 || page.Unfrozen[0].Reason != "The customer objects." || page.Report != draft.ID {
		t.Errorf("%+v", page)
	}
}

// What cannot be closed or adjusted is told, and nothing of it is done.
func TestWhatCannotBeClosed(t *testing.T) {
	f, id, month, from, look := closeOf(t)
	now := inOslo(t).Format("2006-01")
	refused(t, "a period in progress", f.manager.Do(http.MethodGet, "/closes/"+id+"?period="+now, nil), 422, "not over")
	refused(t, "a period that is none", f.manager.Do(http.MethodGet, "/closes/"+id+"?period=2026-13", nil), 422, "period")
	refused(t, "an agreement that is none", f.manager.Do(http.MethodGet, "/closes/nothing?period="+month, nil), 404, "")
	good := map[string]any{"agreement": id, "period": month, "from": from.String(), "to": from.Add(span.Hour).String(), "class": "excused", "cause": "customer", "reason": "They asked for it."}
	for what, change := range map[string]map[string]any{
		"none of that agreement":   {"agreement": "nothing"},
		"before the period":        {"from": from.Add(-1).String()},
		"after the period":         {"to": from.Add(40 * span.Day).String()},
		"no time":                  {"to": from.String()},
		"an end before its begin":  {"to": from.Add(-span.Hour).String()},
		"no class":                 {"class": "fine"},
		"no cause":                 {"cause": "bad luck"},
		"no reason":                {"reason": "  "},
		"a reason that is a novel": {"reason": strings.Repeat("x", 2001)},
		"an instant that is none":  {"from": "yesterday"},
		"the year 99999":           {"to": "99999-01-01T00:00:00Z"},
		"a byte that is no text":   {"reason": "a\x00b"},
	} {
		bad := map[string]any{}
		for k, v := range good {
			bad[k] = v
		}
		for k, v := range change {
			bad[k] = v
		}
		if a := f.manager.Do(http.MethodPost, "/adjustments", bad); a.Status < 400 || a.Status >= 500 {
			t.Errorf("%s: %s", what, a)
		}
	}
	if page := look(f.manager); len(page.Adjustments) != 0 || page.Figures.TotalMS.Excused != 0 {
		t.Errorf("%+v", page.Adjustments)
	}
	// Through the door for all definitions there is no way to approve one's own.
	refused(t, "as a change", f.manager.Do(http.MethodPost, "/changes", map[string]any{"steps": []any{map[string]any{"does": "make", "kind": "adjustment", "spec": good}}}), 422, "kind")
	// A manager, who may approve others', cannot approve his own; and may withdraw it.
	var made struct{ ID string }
	f.manager.Must(http.MethodPost, "/adjustments", good, &made)
	refused(t, "one's own", f.manager.Do(http.MethodPost, "/adjustments/"+made.ID+"/decision", map[string]any{"does": "approve"}), 409, "somebody else has to decide")
	f.manager.Must(http.MethodPost, "/adjustments/"+made.ID+"/decision", map[string]any{"does": "withdraw"}, nil)
	if page := look(f.manager); page.Figures.TotalMS.Excused != 0 || page.Adjustments[0].State != "withdrawn" || page.Left != 1 {
		t.Errorf("%+v", page)
	}
}

// Six people decide at once: one decision stands.
func TestOneDecisionOnAnAdjustment(t *testing.T) {
	f, id, month, from, look := closeOf(t)
	var made struct{ ID string }
	f.manager.Must(http.MethodPost, "/adjustments", map[string]any{"agreement": id, "period": month, "from": from.String(), "to": from.Add(span.Hour).String(),
		"class": "up", "reason": "It was up."}, &made)
	var all sync.WaitGroup
	taken := make(chan int, 6)
	for i := range 6 {
		c := servertest.With(t, f.srv, f.url, []string{"a", "b", "c", "d", "e", "f"}[i], access.Rights{Role: access.Approver})
		does := []string{"approve", "refuse"}[i%2]
		all.Go(func() {
			taken <- c.Do(http.MethodPost, "/adjustments/"+made.ID+"/decision", map[string]any{"does": does, "note": "as I see it"}).Status
		})
	}
	all.Wait()
	close(taken)
	done := 0
	for status := range taken {
		if status < 300 {
			done++
		} else if status != 409 {
			t.Errorf("%d", status)
		}
	}
	page := look(f.manager)
	if state := page.Adjustments[0].State; done != 1 || (page.Figures.TotalMS.Up > 0) != (state == "approved") {
		t.Errorf("%d decisions, it is %s, %d ms up", done, state, page.Figures.TotalMS.Up)
	}
}

// The list counts what the page asks.
func TestTheListOfCloses(t *testing.T) {
	f, id, month, from, look := closeOf(t)
	f.manager.Create("/agreements", agreement(f.service, func(s map[string]any) { s["name"] = "Of today"; s["from"] = inOslo(t).Format("2006-01-02") }))
	f.manager.Must(http.MethodPost, "/adjustments", map[string]any{"agreement": id, "period": month, "from": from.String(), "to": from.Add(span.Hour).String(),
		"class": "up", "reason": "It was up."}, nil)
	var list api.Closes
	f.manager.Must(http.MethodGet, "/closes", nil, &list)
	page := look(f.manager)
	if len(list.Lines) != 1 || list.Span.Name != month {
		t.Fatalf("%+v", list)
	}
	if l := list.Lines[0]; l.Left != page.Left || l.All != len(page.Questions) || l.Open[closing.Waiting] != 1 || l.Open[closing.Unmeasured] != 1 || l.Verdict != page.Figures.Verdict {
		t.Errorf("%+v beside %+v", l, page)
	}
}
