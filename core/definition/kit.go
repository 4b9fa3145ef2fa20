package definition

import (
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"kestite/core/measure"
)

// KitSpec is a reusable set of checks with parameters: {host} in a text of a
// check stands for the value of the parameter host.
type KitSpec struct {
	Name       string      `json:"name" minLength:"1" maxLength:"80"`
	Note       string      `json:"note,omitempty" maxLength:"2000"`
	Parameters []Parameter `json:"parameters,omitempty" maxItems:"20"`
	Checks     []CheckSpec `json:"checks" bounds:"filled" minItems:"1" maxItems:"100" doc:"Service and locations are those it is applied to; what stands here is not used"`
}

// Parameter is what differs from one use of a kit to the next.
type Parameter struct {
	Name    string `json:"name" minLength:"1" maxLength:"40" doc:"Small letters, digits and _"`
	Text    string `json:"text,omitempty" maxLength:"200" doc:"What it is, for who applies the kit"`
	Default string `json:"default" maxLength:"2000" doc:"Taken where no value is given"`
}

var (
	parameterName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	placeholder   = regexp.MustCompile(`\{([a-z][a-z0-9_]*)\}`)
)

// Validate of a kit: with its defaults it makes valid checks.
func (k KitSpec) Validate() error {
	if err := called("name", k.Name); err != nil {
		return err
	}
	if len(k.Checks) == 0 {
		return fault("checks", "a kit needs at least one check")
	}
	seen := map[string]bool{}
	for i, p := range k.Parameters {
		path := fmt.Sprintf("parameters[%d].name", i)
		if !parameterName.MatchString(p.Name) {
			return fault(path, "%q is no name of a parameter; it has small letters, digits and _, and begins with a letter", p.Name)
		}
		if seen[p.Name] {
			return fault(path, "%q stands there twice", p.Name)
		}
		seen[p.Name] = true
	}
	_, err := k.Fill("service", []string{"location"}, nil)
	return err
}

// Fill makes the checks of a kit for a service, measured from locations, with
// values for parameters. A fault names the check's place in the kit.
func (k KitSpec) Fill(service string, locations []string, values map[string]string) ([]CheckSpec, error) {
	given := map[string]string{}
	for _, p := range k.Parameters {
		given[p.Name] = p.Default
	}
	for name, v := range values {
		if _, known := given[name]; !known {
			return nil, fault("values."+name, "the kit has no parameter %q", name)
		}
		if strings.TrimSpace(v) != "" {
			given[name] = strings.TrimSpace(v)
		}
	}
	out := make([]CheckSpec, len(k.Checks))
	for i, c := range k.Checks {
		c.Service, c.Locations = service, locations
		if Inward(c.Kind) {
			c.Locations = []string{Server}
		}
		path := fmt.Sprintf("checks[%d]", i)
		text, err := json.Marshal(c)
		if err != nil {
			return nil, err
		}
		unknown := ""
		text = placeholder.ReplaceAllFunc(text, func(found []byte) []byte {
			v, known := given[string(found[1:len(found)-1])]
			if !known {
				unknown = string(found)
				return found
			}
			quoted, _ := json.Marshal(v) // a string always marshals
			return quoted[1 : len(quoted)-1]
		})
		if unknown != "" {
			return nil, fault(path, "%s stands in it, and the kit has no such parameter", unknown)
		}
		if err := json.Unmarshal(text, &out[i]); err != nil {
			return nil, fault(path, "with these values it cannot be read: %v", err)
		}
		if err := Valid(out[i]); err != nil {
			return nil, Within(path, err)
		}
	}
	return out, nil
}

// KitOf makes a kit of checks: the host that their targets have in common with the first
// becomes the parameter host, and what their service is called the parameter service,
// wherever these stand as whole words. Checks that are made of others, and those that a
// pair plan keeps, are left out.
func KitOf(name, service string, checks []CheckSpec) (KitSpec, error) {
	out := KitSpec{Name: name, Checks: []CheckSpec{}}
	host := ""
	for _, c := range checks {
		if c.Pair != nil || c.Kind == measure.Derived.Name {
			continue
		}
		c.Service, c.Locations = "any", []string{"any"}
		out.Checks = append(out.Checks, c)
		if host == "" {
			host = HostIn(c.Target)
		}
	}
	if host != "" {
		out.Parameters = append(out.Parameters, Parameter{Name: "host", Text: "Host of the service", Default: host})
	}
	if service != "" {
		out.Parameters = append(out.Parameters, Parameter{Name: "service", Text: "What it is called in names of checks", Default: service})
	}
	text, err := json.Marshal(out.Checks)
	if err != nil {
		return out, err
	}
	var tree any
	if err := json.Unmarshal(text, &tree); err != nil {
		return out, err
	}
	for _, p := range out.Parameters {
		tree = everyText(tree, func(s string) string { return wordFor(s, p.Default, "{"+p.Name+"}") })
	}
	if text, err = json.Marshal(tree); err != nil {
		return out, err
	}
	out.Checks = nil
	return out, json.Unmarshal(text, &out.Checks)
}

// HostIn is the host of a target: of a URL, of host:port, or the target itself; of none "".
func HostIn(target string) string {
	if u, err := url.Parse(target); err == nil && u.Host != "" {
		return u.Hostname()
	}
	if host, _, err := HostPort(target); err == nil {
		return host
	}
	return target
}

// everyText is a JSON value with each text in it changed.
func everyText(v any, change func(string) string) any {
	switch v := v.(type) {
	case string:
		return change(v)
	case []any:
		for i := range v {
			v[i] = everyText(v[i], change)
		}
	case map[string]any:
		for k := range v {
			v[k] = everyText(v[k], change)
		}
	}
	return v
}

// wordFor puts another word in place of each that stands in a text as a whole: not as a
// part of a longer word or host name.
func wordFor(text, word, other string) string {
	var out strings.Builder
	for {
		at := strings.Index(text, word)
		if at < 0 {
			out.WriteString(text)
			return out.String()
		}
		before, _ := utf8.DecodeLastRuneInString(text[:at])
		after := text[at+len(word):]
		if partOfWord(before) || before == '.' || goesOn(after) {
			out.WriteString(text[:at+len(word)])
		} else {
			out.WriteString(text[:at] + other)
		}
		text = after
	}
}

func partOfWord(r rune) bool {
	return r == '-' || r == '_' || r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r))
}

// goesOn says whether a word goes on with what follows: with a letter or digit, or with a
// dot and one, as a host name does.
func goesOn(after string) bool {
	first, size := utf8.DecodeRuneInString(after)
	if first == '.' {
		first, _ = utf8.DecodeRuneInString(after[size:])
	}
	return after != "" && partOfWord(first)
}
