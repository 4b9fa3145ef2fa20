package planning

import (
	"fmt"
	"slices"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
)

// Tones of what is said.
const (
	Calm  = "calm"  // it costs nothing
	Costs = "costs" // it costs downtime that the allowance bears
	Bad   = "bad"   // the agreement cannot be met with it
)

// Said is what work does to an agreement, in words.
type Said struct {
	Mark string   // in two or three words
	Tone string   // Calm, Costs or Bad
	Why  []string // sentences
}

// Words says what work does to an agreement; needs names what the service needs of
// those at work, where the window does not name it itself.
func Words(w *account.Work, before *account.Account, a definition.Agreement, needs string, zone *time.Location) Said {
	out := Said{Tone: Calm}
	if w.ServiceMS == 0 && w.DisplacedMS == 0 {
		out.Mark = "outside hours"
		return out
	}
	for _, r := range w.Refused {
		out.Why = append(out.Why, refusal(r, w, a, needs, zone))
	}
	if w.DisplacedMS > 0 {
		out.Why = append(out.Why, fmt.Sprintf("Other work loses %s of the cap to it.", span.Words(w.DisplacedMS)))
	}
	if cap := capOf(a, w); cap != "" {
		out.Why = append(out.Why, cap)
	}
	switch {
	case w.DowntimeMS == 0 && w.GrantedMS > 0:
		out.Mark = "granted"
	case w.DowntimeMS == 0:
		out.Mark = "too short to count"
	case w.Verdict == account.Missed && before.Verdict != account.Missed:
		out.Mark, out.Tone = "cannot be met with it", Bad
	case slices.ContainsFunc(w.Refused, func(r account.Refusal) bool { return r.Why == account.LateNotice }):
		out.Mark, out.Tone = "notice broken", Costs
	default:
		out.Mark, out.Tone = span.WordsUp(w.DowntimeMS)+" of downtime", Costs
	}
	return out
}

func refusal(r account.Refusal, w *account.Work, a definition.Agreement, needs string, zone *time.Location) string {
	ms := span.Words(r.MS)
	switch r.Why {
	case account.NotGranting:
		return "Its clauses take no account of maintenance."
	case account.NotNamed:
		return fmt.Sprintf("It needs %s, and the work does not name it: %s count.", needs, ms)
	case account.NotEmergency:
		return "Its clauses grant no emergency work."
	case account.LateNotice:
		asked := notice(a, w)
		there := "and there are " + span.Words(int64(w.Late.Start-w.Late.Announced))
		if w.Late.Start < w.Late.Announced {
			there = "and it was announced after it began"
		}
		return fmt.Sprintf("%s before is asked, %s: %s count. Announced now, the notice is kept from %s on.", span.Words(asked), there, ms,
			w.Late.Announced.Add(asked).Time().In(zone).Format("Mon 2 Jan 15:04"))
	case account.NotWithin:
		return fmt.Sprintf("%s lie outside the times agreed for work.", ms)
	}
	return fmt.Sprintf("%s are more than its cap has left.", ms)
}

// notice is how long before its start work of the type must be announced, ms.
func notice(a definition.Agreement, w *account.Work) int64 {
	if w.Type == definition.Emergency && a.Maintenance.Emergency != nil {
		return a.Maintenance.Emergency.NoticeS * span.Second
	}
	return a.Maintenance.NoticeS * span.Second
}

// capOf says how much of a cap is used, where there is one.
func capOf(a definition.Agreement, w *account.Work) string {
	cap := a.Maintenance.CapS
	if w.Type == definition.Emergency {
		if cap = nil; a.Maintenance.Emergency != nil {
			cap = a.Maintenance.Emergency.CapS
		}
	}
	if cap == nil || a.Maintenance.Mode == definition.MaintenanceIgnore || a.Maintenance.Mode == "" {
		return ""
	}
	return fmt.Sprintf("Of its cap, %s of %s are used then.", span.Words(w.CapUsedMS), span.Words(*cap*span.Second))
}

// SlotWords says why a slot costs what it costs; of is how many agreements it touches.
func SlotWords(s Slot, of int) []string {
	var out []string
	switch {
	case of == 0:
		out = append(out, "no agreement is touched")
	case s.Outside == of:
		out = append(out, "outside the hours of "+all(of))
	case s.Outside > 0:
		out = append(out, fmt.Sprintf("outside the hours of %d of %d agreements", s.Outside, of))
	}
	if s.GrantedMS > 0 {
		out = append(out, span.Words(s.GrantedMS)+" granted as maintenance")
	}
	if s.Usual > 0 {
		out = append(out, fmt.Sprintf("%s at this time of the week in 13 months", times(s.Usual)))
	}
	return out
}

func all(n int) string {
	switch n {
	case 1:
		return "its agreement"
	case 2:
		return "both agreements"
	}
	return fmt.Sprintf("all %d agreements", n)
}

func times(n int) string {
	switch n {
	case 1:
		return "failed once"
	case 2:
		return "failed twice"
	}
	return fmt.Sprintf("failed %d times", n)
}
