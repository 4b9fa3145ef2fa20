package notifying_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/server/jobs"
	"kestite/server/notifying"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
)

// within are hours of every day that begin some hours from now, and last some more.
func within(begin, lasts time.Duration) *definition.WeeklyPlan {
	from := storetest.Now().UTC().Add(begin)
	return &definition.WeeklyPlan{Timezone: "UTC", Weekly: []definition.WeeklyRow{
		{Days: []string{"MO", "TU", "WE", "TH", "FR", "SA", "SU"}, From: from.Format("15:04"), To: from.Add(lasts).Format("15:04")}}}
}

func digestIn(in time.Duration) *definition.Digest {
	return &definition.Digest{Timezone: "UTC", At: []string{storetest.Now().UTC().Add(in).Format("15:04")}}
}

// What is due outside of hours stands in one message at the time of the digest, with what
// became of it; who knows of it by a digest hears its end by the next one.
func TestDigestsAreSent(t *testing.T) {
	q := newQuay(t)
	digest := digestIn(3 * time.Hour)
	digest.At = append(digest.At, storetest.Now().UTC().Add(6*time.Hour).Format("15:04"))
	q.make(catalogue.NoticePlan, "night", definition.NoticePlanSpec{Name: "Minor matters", Hours: within(10*time.Hour, 2*time.Hour), Outside: definition.OutsideDigest, Digest: digest,
		Steps: []definition.NoticeStep{{Tell: q.to("runa"), By: []string{definition.Mail}}, {AfterS: 600, Tell: q.to("work", "runa"), By: []string{definition.Mail}}}})
	q.service("gates", "night")
	q.service("crew", "night")
	q.measured(time.Minute, measure.Failed, "gates", "crew")
	q.after(0)
	q.wants("outside of hours")
	q.measured(0, measure.OK, "crew")
	q.after(2 * time.Hour)
	q.wants("before the digest")
	for range 2 { // again, nothing more
		q.after(3*time.Hour + 2*time.Minute)
	}
	got := q.kept.All()
	if len(got) != 2 {
		t.Fatalf("the digest is %d messages: %+v", len(got), got)
	}
	mail, hook := got[0], got[1]
	if mail.Method != "mail" {
		mail, hook = hook, mail
	}
	if mail.Subject != "Minor matters: 2 incidents, 1 not over" || !strings.Contains(mail.Text, "Gates has been down") || !strings.Contains(mail.Text, "Crew was down") {
		t.Errorf("the digest says %q: %s", mail.Subject, mail.Text)
	}
	if !strings.Contains(hook.Text, "Minor matters: 1 incident, 1 not over") {
		t.Errorf("of what lasted ten minutes the desk gets %s", hook.Text)
	}
	if log := q.log(); !slices.Contains(log, "begun mail held it stood in a digest") || slices.ContainsFunc(log, func(l string) bool { return strings.Contains(l, "next digest") }) {
		t.Errorf("after the digest the log says %q", log)
	}
	q.arrived()
	q.measured(0, measure.OK, "gates")
	q.after(4 * time.Hour)
	q.wants("its end, before the next digest")
	q.after(6*time.Hour + 2*time.Minute)
	got = q.kept.All()
	if len(got) != 2 || !strings.Contains(got[0].Text+got[1].Text, "all over") {
		t.Errorf("the next digest is %+v", got)
	}
	q.arrived()
	q.after(30 * time.Hour)
	q.wants("and no more")
}

// Two servers that make digests at once send each of them once; what became of a plan that
// was retired meanwhile is told all the same.
func TestADigestIsSentOnceAndAlways(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "daily", definition.NoticePlanSpec{Name: "Daily", Digest: digestIn(2 * time.Hour),
		Steps: []definition.NoticeStep{{Tell: q.to("runa"), By: []string{definition.Mail}}}})
	q.service("gates", "")
	m := q.manager()
	spec := definition.ServiceSpec{Name: "Gates", Kind: "business", Combine: "worst", Notices: &definition.NoticeChoice{Plan: "daily"}}
	m.Must("PUT", "/services/gates", map[string]any{"revision": 1, "spec": spec}, nil)
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	q.wants("before the digest")
	spec.Notices = nil
	m.Must("PUT", "/services/gates", map[string]any{"revision": 2, "spec": spec}, nil)
	m.Must("DELETE", "/notice-plans/daily", nil, nil)
	q.ahead = 2*time.Hour + 2*time.Minute
	done := make(chan error, 4)
	for range 4 {
		go func() { done <- errors.Join(q.keep.Round(ctx), q.keep.Deliver(ctx)) }()
	}
	for range 4 {
		if err := <-done; err != nil {
			t.Fatal(err)
		}
	}
	q.after(q.ahead)
	q.wants("the digest", "mail runa@skerry.example Daily: 1 incident, 1 not over")
}

// manager is somebody who may define, by the API.
func (q *quay) manager() *servertest.Client { return servertest.As(q.T, q.srv, q.url, access.Manager) }

// By day one plan tells, by night another, and each what still lasts when its time begins.
func TestAnotherPlanTellsOutsideOfHours(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "night", definition.NoticePlanSpec{Name: "Night", Steps: []definition.NoticeStep{{Tell: q.to("work")}}})
	q.make(catalogue.NoticePlan, "day", definition.NoticePlanSpec{Name: "Day", Hours: within(2*time.Hour, time.Hour), Outside: definition.OutsidePlan, Instead: "night",
		Steps: []definition.NoticeStep{{Tell: q.to("runa"), By: []string{definition.Mail}}}})
	q.service("gates", "day")
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	q.wants("by night", "webhook /work Gates has been down")
	q.after(2*time.Hour + 2*time.Minute)
	q.wants("as the day begins", "mail runa@skerry.example [critical] Gates down")
	q.measured(0, measure.OK, "gates")
	q.after(2*time.Hour + 10*time.Minute)
	over := q.arrived()
	if len(over) != 2 || !strings.HasPrefix(over[0], "mail runa@skerry.example Over: Gates") {
		t.Errorf("its end is told as %q", over)
	}
}

func script(t *testing.T, dir, name, text string, mode os.FileMode) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, []byte("#!/bin/sh\n"+text+"\n"), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
}

// A script gets the message and its arguments as they are, whatever stands in them, and
// only one of the directory is run.
func TestScripts(t *testing.T) {
	dir, elsewhere := t.TempDir(), t.TempDir()
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	script(t, dir, "tell", `for a in "$@"; do printf '<%s>' "$a"; done; cat >`+elsewhere+`/text; printf ' %s %s' "$KESTITE_SEVERITY" "$KESTITE_DELIVERY"`, 0o755)
	script(t, dir, "fails", "echo no such lamp >&2; exit 3", 0o755)
	script(t, dir, "quiet", "exit 0", 0o755)
	script(t, dir, "endless", "while true; do echo all work and no play; done | head -c 10000000", 0o755)
	script(t, dir, "leaves", "sleep 30 &", 0o755)
	script(t, dir, "open", "exit 0", 0o777)
	script(t, dir, "plain", "exit 0", 0o644)
	script(t, elsewhere, "other", "exit 0", 0o755)
	if err := os.Symlink(filepath.Join(elsewhere, "other"), filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	s := notifying.Sender{Scripts: dir}
	m := letter
	touched := filepath.Join(t.TempDir(), "touched")
	m.Values = map[string]string{"headline": "--fatal $(touch " + touched + "); `id` \"quoted\" \x00", "severity": "critical", "service": "-rf"}
	for _, c := range []struct {
		name string
		args []string
		want string // of the answer, or of the error after "!"; "!!": for good
	}{
		{"tell", []string{"--service", "{service}", "{headline}", "a {severity} one"},
			"<--service>< -rf>< --fatal $(touch " + touched + "); `id` \"quoted\" ><a critical one> critical kestite-delivery-7"},
		{"quiet", nil, "ended with status 0"},
		{"fails", nil, "!exit status 3 no such lamp"},
		{"endless", nil, "all work and no play"},
		{"leaves", nil, "left something running"},
		{"missing", nil, "!there is no script missing"},
		{"../" + filepath.Base(elsewhere) + "/other", nil, "!there is no script"},
		{"link", nil, "!!points elsewhere"},
		{"open", nil, "!!chmod go-w"},
		{"plain", nil, "!!chmod +x"},
	} {
		answer, err := s.Script(ctx, definition.ContactSpec{Kind: definition.Script, Address: c.name, Args: c.args}, m)
		got := answer
		var refused *notifying.Refused
		if err != nil {
			got = "!" + err.Error()
			if errors.As(err, &refused) {
				got = "!" + got
			}
		}
		if !strings.Contains(got, strings.TrimLeft(c.want, "!")) || strings.Count(got[:min(2, len(got))], "!") != strings.Count(c.want[:min(2, len(c.want))], "!") {
			t.Errorf("%s %q: %s\nwant %s", c.name, c.args, got, c.want)
		}
	}
	if text, err := os.ReadFile(filepath.Join(elsewhere, "text")); err != nil || string(text) != m.Subject+"\n\n"+m.Text+"\n" {
		t.Errorf("its input was %q, %v", text, err)
	}
	if _, err := os.Stat(touched); err == nil {
		t.Error("a shell read an argument")
	}
	if _, err := (&notifying.Sender{}).Script(ctx, definition.ContactSpec{Address: "quiet"}, m); err == nil || !strings.Contains(err.Error(), "--scripts") {
		t.Errorf("where scripts are off it says %v", err)
	}
	for dir, want := range map[string]string{dir: "", "": "", elsewhere + "/text": "no directory", "scripts": "", filepath.Join(dir, "none"): "no such file"} {
		if err := notifying.CheckScripts(dir); (err == nil) != (want == "" && dir != "scripts") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("the directory %q: %v, want %q", dir, err, want)
		}
	}
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := notifying.CheckScripts(dir); err == nil {
		t.Error("a directory that everybody may write to was taken")
	}
}

// An incident reaches a script as it reaches anything else, and what it said stands in the log.
func TestAScriptIsTold(t *testing.T) {
	q := newQuay(t)
	dir := t.TempDir()
	script(t, dir, "lamp", `echo "lamp on for $1"`, 0o755)
	q.keep.Sender.Scripts = dir
	q.make(catalogue.Contact, "lamp", definition.ContactSpec{Name: "Lamp", Kind: definition.Script, Address: "lamp", Args: []string{"{service}"}})
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", NoAllClear: true, Steps: []definition.NoticeStep{{Tell: q.to("lamp")}}})
	q.service("gates", "duty")
	q.measured(time.Second, measure.Failed, "gates")
	q.after(0)
	var view struct {
		Items []struct{ Kind, State, Answer string }
	}
	m := q.manager()
	m.Must("GET", fmt.Sprintf("/incidents/%d/notices", q.incident("gates")), nil, &view)
	if len(view.Items) != 1 || view.Items[0].State != "sent" || view.Items[0].Answer != "lamp on for Gates" {
		t.Errorf("the log says %+v", view.Items)
	}
	q.keep.Sender.Scripts = ""
	var gaps struct {
		Items []struct{ Kind, ID, Text string }
	}
	m.Must("GET", "/notice-gaps", nil, &gaps)
	if !slices.ContainsFunc(gaps.Items, func(g struct{ Kind, ID, Text string }) bool {
		return g.ID == "lamp" && strings.Contains(g.Text, "--scripts")
	}) {
		t.Errorf("nothing says that scripts are off: %+v", gaps.Items)
	}
}

// Work that was planned while no server was there to tell it is told all the same, and
// that it is late.
func TestPlannedWorkIsToldLate(t *testing.T) {
	q := newQuay(t)
	q.service("gates", "")
	q.make(catalogue.Window, "motors", definition.WindowSpec{Name: "New motors", Services: []string{"gates"}, Timezone: "UTC",
		Start: storetest.Now().Add(72 * time.Hour).UTC().Format("2006-01-02T15:04:05"), DurationS: 3600, Tell: q.to("work")})
	if _, err := q.srv.API.Store.Exec(ctx, "DELETE FROM notice"); err != nil { // as if an earlier version had planned it, and died
		t.Fatal(err)
	}
	for range 2 {
		q.after(time.Second)
	}
	got := q.kept.All()
	if len(got) != 1 || !strings.Contains(got[0].Text, "This message is late, by ") {
		t.Errorf("two days later it is told as %+v", got)
	}
}

// What was told more than 396 days ago is dropped with what became of it, but of what is
// open, and what waits to be sent; nothing newer goes.
func TestOldDeliveriesAreDropped(t *testing.T) {
	q := newQuay(t)
	q.make(catalogue.NoticePlan, "duty", definition.NoticePlanSpec{Name: "Duty", MostPerHour: 1, Steps: []definition.NoticeStep{{Tell: q.to("work", "runa")}}})
	var all []string
	for n := range 4 {
		all = append(all, fmt.Sprintf("gate%d", n))
		q.service(all[n], "duty")
	}
	q.measured(time.Second, measure.Failed, all...)
	q.after(0)
	q.after(70 * time.Second)
	q.measured(0, measure.OK, all[:3]...)
	q.after(2 * time.Minute)
	count := func() (notices, deliveries int) {
		t.Helper()
		if err := q.srv.API.Store.QueryRow(ctx, "SELECT (SELECT count(*) FROM notice), (SELECT count(*) FROM delivery)").Scan(&notices, &deliveries); err != nil {
			t.Fatal(err)
		}
		return notices, deliveries
	}
	before, sent := count()
	drop := func() {
		t.Helper()
		if err := jobs.DropNotices(ctx, q.srv.API.Store, storetest.Now()); err != nil {
			t.Fatal(err)
		}
	}
	drop()
	if n, d := count(); n != before || d != sent {
		t.Errorf("of %d and %d that are new %d and %d are left", before, sent, n, d)
	}
	open := q.incident(all[3])
	for _, sql := range []string{"UPDATE notice SET made_at = made_at - interval '400 days'",
		fmt.Sprintf("UPDATE incident SET resolved_at = resolved_at - interval '400 days', ended_at = ended_at - interval '400 days', began_at = began_at - interval '400 days', known_at = known_at - interval '400 days' WHERE id <> %d", open)} {
		if _, err := q.srv.API.Store.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	drop()
	var others int
	if err := q.srv.API.Store.QueryRow(ctx, "SELECT count(*) FROM notice WHERE incident IS DISTINCT FROM $1", open).Scan(&others); err != nil {
		t.Fatal(err)
	}
	n, d := count()
	if others != 0 || n == 0 || d == 0 || n >= before || d >= sent {
		t.Errorf("of %d and %d that are old %d and %d are left, %d of what is over", before, sent, n, d, others)
	}
	q.after(3 * time.Minute)
	q.measured(0, measure.OK, all[3])
	q.after(4 * time.Minute)
	if log := q.log(); !slices.ContainsFunc(log, func(l string) bool { return strings.HasPrefix(l, "clear ") }) {
		t.Errorf("of what was open the end is not told: %q", log)
	}
}
