package definition

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
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
