package topology

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"kestite/core/definition"
)

// Needs is what one service needs, as a file says it.
type Needs struct {
	Service string                  `yaml:"service"`
	Needs   []definition.Dependency `yaml:"needs"`
	Line    int                     `yaml:"-"` // where it begins
}

// Formats of files of dependencies.
const (
	CSV  = "csv"
	YAML = "yaml"
)

// columns of a CSV file of dependencies: a line for each member of a group. A service
// that needs nothing has a line without a group.
var columns = []string{"service", "group", "need", "member"}

// Bounds on a file.
const (
	mostRows     = 20_000
	mostGroups   = 50
	mostFileNeed = 10_000
)

// Write writes what services need.
func Write(format string, list []Needs) ([]byte, error) {
	var out bytes.Buffer
	if format == YAML {
		type group struct {
			Services []string `yaml:"services"`
			Need     int      `yaml:"need,omitempty"`
		}
		type entry struct {
			Service string  `yaml:"service"`
			Needs   []group `yaml:"needs"`
		}
		all := []entry{}
		for _, n := range list {
			e := entry{n.Service, []group{}}
			for _, d := range n.Needs {
				e.Needs = append(e.Needs, group(d))
			}
			all = append(all, e)
		}
		err := yaml.NewEncoder(&out).Encode(all)
		return out.Bytes(), err
	}
	table := csv.NewWriter(&out)
	table.Write(columns)
	for _, n := range list {
		if len(n.Needs) == 0 {
			table.Write([]string{n.Service, "", "", ""})
		}
		for i, d := range n.Needs {
			need := "all"
			if d.Need > 0 {
				need = strconv.Itoa(d.Need)
			}
			for _, m := range d.Services {
				table.Write([]string{n.Service, strconv.Itoa(i + 1), need, m})
			}
		}
	}
	table.Flush()
	return out.Bytes(), table.Error()
}

// Read reads what services need: of each that the file names, all. The errors are
// *definition.Fault with the line as path, as many as there are wrong lines, up to 20.
func Read(format, text string) ([]Needs, []error) {
	if format == YAML {
		return readYAML(text)
	}
	return readCSV(text)
}

func lineFault(line int, format string, args ...any) error {
	return definition.Faultf(fmt.Sprintf("line %d", line), format, args...)
}

// readYAML reads a list of services; anchors are refused, because a few of them can stand
// for more than a machine holds.
func readYAML(text string) ([]Needs, []error) {
	var raw []struct {
		Service string `yaml:"service"`
		Needs   []struct {
			Services []string `yaml:"services"`
			Need     int      `yaml:"need"`
		} `yaml:"needs"`
	}
	for n, line := range strings.Split(text, "\n") {
		if at := strings.IndexAny(line, "&*"); at >= 0 && !strings.Contains(line[:at], "#") {
			return nil, []error{lineFault(n+1, "anchors and aliases (& and *) are not read; write out what they stand for")}
		}
	}
	if line := tooDeep(text); line > 0 {
		return nil, []error{lineFault(line, "lists stand in lists here more than %d deep", mostDeep)}
	}
	if err := decode(text, &raw); err != nil && !errors.Is(err, io.EOF) {
		first, _, _ := strings.Cut(yaml.FormatError(err, false, false), "\n")
		return nil, []error{definition.Faultf("text", "it cannot be read: %s", first)}
	}
	lines := entryLines(text)
	var out []Needs
	var errs []error
	seen := map[string]bool{}
	for i, r := range raw {
		n := Needs{Service: r.Service, Line: i + 1}
		if i < len(lines) {
			n.Line = lines[i]
		}
		for _, g := range r.Needs {
			n.Needs = append(n.Needs, definition.Dependency{Services: g.Services, Need: g.Need})
		}
		switch {
		case n.Service == "":
			errs = append(errs, lineFault(n.Line, "names no service; write service: and its id or name"))
		case seen[n.Service]:
			errs = append(errs, lineFault(n.Line, "%s stands there twice", n.Service))
		default:
			out = append(out, n)
		}
		seen[n.Service] = true
	}
	return checked(out, errs)
}

// decode reads strictly; what the library does not expect is an error too.
func decode(text string, into any) (err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("it is no YAML: it ends, or goes on, where it should not")
		}
	}()
	return yaml.NewDecoder(strings.NewReader(text), yaml.Strict()).Decode(into)
}

// mostDeep is how deep lists may stand in lists.
const mostDeep = 20

// tooDeep is the first line at which brackets, or dashes at its beginning, open more than
// that; 0: none does.
func tooDeep(text string) int {
	depth := 0
	for n, line := range strings.Split(text, "\n") {
		begin := line[:len(line)-len(strings.TrimLeft(line, "-?: "))]
		if len(strings.Fields(begin)) > mostDeep {
			return n + 1
		}
		for _, r := range line {
			switch r {
			case '[', '{':
				if depth++; depth > mostDeep {
					return n + 1
				}
			case ']', '}':
				depth = max(0, depth-1)
			}
		}
	}
	return 0
}

// entryLines are the lines at which the entries of a list begin.
func entryLines(text string) []int {
	var out []int
	for n, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "-") && !strings.HasPrefix(line, "---") {
			out = append(out, n+1)
		}
	}
	return out
}

func readCSV(text string) ([]Needs, []error) {
	in := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	in.FieldsPerRecord = -1
	in.TrimLeadingSpace = true
	head, err := in.Read()
	if err != nil || !slices.Equal(head, columns) {
		return nil, []error{lineFault(1, "the first line is not %s", strings.Join(columns, ","))}
	}
	var out []Needs
	var errs []error
	at := map[string]int{}       // of a service in out
	groups := map[string][]int{} // which group of it stands where
	for rows := 0; ; rows++ {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var broken *csv.ParseError
		if errors.As(err, &broken) {
			return nil, append(errs, lineFault(broken.Line, "%v", broken.Err))
		}
		if err != nil {
			return nil, append(errs, definition.Faultf("text", "it cannot be read: %v", err))
		}
		line, _ := in.FieldPos(0)
		if rows >= mostRows {
			return nil, append(errs, lineFault(line, "there are more than %d lines", mostRows))
		}
		if len(row) != len(columns) {
			errs = append(errs, lineFault(line, "has %d columns in place of %s", len(row), strings.Join(columns, ",")))
			continue
		}
		service, member := row[0], row[3]
		if service == "" {
			errs = append(errs, lineFault(line, "names no service"))
			continue
		}
		n, known := at[service]
		if !known {
			n = len(out)
			at[service] = n
			out = append(out, Needs{Service: service, Line: line})
		}
		if row[1] == "" && row[2] == "" && member == "" {
			continue
		}
		number, err := strconv.Atoi(row[1])
		need, fault := needOf(row[2])
		switch {
		case err != nil || number < 1:
			errs = append(errs, lineFault(line, "%q is no number of a group; count them from 1", row[1]))
			continue
		case fault != "":
			errs = append(errs, lineFault(line, "%s", fault))
			continue
		case member == "":
			errs = append(errs, lineFault(line, "the group %d of %s has no member in this line", number, service))
			continue
		}
		i := slices.Index(groups[service], number)
		if i < 0 {
			groups[service] = append(groups[service], number)
			out[n].Needs = append(out[n].Needs, definition.Dependency{Need: need})
			i = len(groups[service]) - 1
		}
		d := &out[n].Needs[i]
		if d.Need != need {
			errs = append(errs, lineFault(line, "the group %d of %s needs another number in a line before", number, service))
			continue
		}
		d.Services = append(d.Services, member)
	}
	return checked(out, errs)
}

func needOf(text string) (int, string) {
	if text == "" || text == "all" {
		return 0, ""
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > mostFileNeed {
		return 0, fmt.Sprintf("%q is no number of members; write all, or how many are needed", text)
	}
	return n, ""
}

// checked says what is wrong with groups by themselves; at most 20 faults are told.
func checked(list []Needs, errs []error) ([]Needs, []error) {
	for _, n := range list {
		if len(n.Needs) > mostGroups {
			errs = append(errs, lineFault(n.Line, "%s has more than %d groups", n.Service, mostGroups))
		}
		for i, d := range n.Needs {
			switch {
			case len(d.Services) == 0:
				errs = append(errs, lineFault(n.Line, "the group %d of %s has no members", i+1, n.Service))
			case d.Need < 0 || d.Need > len(d.Services):
				errs = append(errs, lineFault(n.Line, "the group %d of %s needs %d of %d members", i+1, n.Service, d.Need, len(d.Services)))
			}
		}
	}
	if len(errs) > 0 {
		return nil, errs[:min(20, len(errs))]
	}
	return list, nil
}
