package cli

import (
	"encoding/json"
	"fmt"
	"io"

	"kestite/core/account"
	"kestite/core/evidence"
	"kestite/core/span"
	"kestite/core/verdict"
)

// explained is an explanation with the lines of measurements.csv behind it.
type explained struct {
	account.Explanation
	Measurements []laneLines `json:"measurements"`
}

// laneLines are the rows of one (check, location) that decided its state.
type laneLines struct {
	Service  string          `json:"service"`
	Check    string          `json:"check"`
	Location string          `json:"location"`
	Lines    []evidence.Line `json:"lines"`
}

// explainAt writes, for each agreement, why an instant counts as it does.
func explainAt(w io.Writer, r *evidenceRead, instant, format string) error {
	at, err := span.ParseInstant(instant)
	if err != nil {
		return &Refused{fmt.Errorf("--explain: %w", err)}
	}
	covered := r.bundle.Span
	if !r.bundle.Final() {
		covered.To = *r.bundle.AsOf
	}
	if !covered.Contains(at) {
		return &Refused{fmt.Errorf("--explain: %s is not in the time that is accounted, which is from %s to before %s", at, covered.From, covered.To)}
	}
	list := make([]explained, 0, len(r.accounts))
	for _, a := range r.accounts {
		list = append(list, explained{Explanation: r.evidence.Explain(a, r.sources, at), Measurements: []laneLines{}})
	}
	if r.rows == nil {
		for i := range list {
			list[i].judgedOnly()
		}
	} else if err := r.findLines(list); err != nil {
		return err
	}
	if format == "json" {
		enc := json.NewEncoder(w)
		enc.SetIndent("", " ")
		return enc.Encode(list)
	}
	for i, x := range list {
		if i > 0 {
			fmt.Fprintln(w)
		}
		x.write(w)
	}
	return nil
}

func (x *explained) services() []verdict.ServiceReason {
	return append([]verdict.ServiceReason{x.Service}, x.Behind...)
}

// judgedOnly leaves out the measurements that made a state: they are not there to count.
func (x *explained) judgedOnly() {
	for _, s := range x.services() {
		for _, c := range s.Checks {
			for n := range c.Locations {
				c.Locations[n].Because = nil
			}
		}
	}
}

// findLines fills in the measurements of all explanations in one pass.
func (r *evidenceRead) findLines(list []explained) error {
	var asked []evidence.Asked
	var into []*laneLines
	for i := range list {
		x := &list[i]
		for _, s := range x.services() {
			for _, c := range s.Checks {
				for _, l := range c.Locations {
					a := evidence.Asked{Check: c.Check, Location: l.Location, Stretch: span.Span{From: 1}, At: s.At}
					if l.First != nil {
						a.Stretch = span.Span{From: *l.First, To: *l.Last}
					}
					for _, other := range c.Locations {
						for _, b := range other.Because {
							if b.Location == l.Location {
								a.Because = append(a.Because, b)
							}
						}
					}
					asked = append(asked, a)
					x.Measurements = append(x.Measurements,
						laneLines{Service: s.Service, Check: c.Check, Location: l.Location, Lines: []evidence.Line{}})
				}
			}
		}
		for n := range x.Measurements {
			into = append(into, &x.Measurements[n])
		}
	}
	open, name, err := r.source.measurements()
	if err != nil {
		return err
	}
	lines, err := evidence.FindLines(r.bundle, name, open, asked)
	if err != nil {
		return err
	}
	for i := range into {
		into[i].Lines = append(into[i].Lines, lines[i]...)
	}
	return nil
}

func (x *explained) write(w io.Writer) {
	// Names and reasons are of who made the archive: each stays in its line.
	line := func(format string, args ...any) { fmt.Fprintln(w, inLine(fmt.Sprintf(format, args...))) }
	line("%s at %s: %s", x.Agreement, x.At, x.Class)
	for _, r := range x.Rules {
		mark := " "
		if r.Decides {
			mark = "*"
		}
		line("%s %d  %s", mark, r.Number, r.Text)
	}
	n := 0
	for _, s := range x.services() {
		fmt.Fprintln(w)
		line("service %s at %s: %s", s.Service, s.At, s.State)
		line("  %s", s.Text)
		for _, g := range s.Groups {
			line("  group %s: %s", g.Text, g.State)
			for i, id := range g.Services {
				line("    %s: %s", id, g.States[i])
			}
		}
		for _, c := range s.Checks {
			line("  check %s: %s", c.Check, c.State)
			line("    %s", c.Text)
			for _, l := range c.Locations {
				line("    location %s: %s", l.Location, l.State)
				line("      %s", l.Text)
				if n < len(x.Measurements) {
					for _, m := range x.Measurements[n].Lines {
						line("      line %d  %s  %s  (%s)", m.Line, m.At, m.Outcome, m.Role)
					}
				}
				n++
			}
		}
	}
}
