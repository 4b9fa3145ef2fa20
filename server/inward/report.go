package inward

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Report is what another system reports in.
type Report struct {
	Outcome string             `json:"outcome,omitempty" enum:"ok,degraded,failed" default:"ok"`
	Detail  string             `json:"detail,omitempty" maxLength:"2000"`
	Numbers map[string]float64 `json:"numbers,omitempty" doc:"By the names that the check gives them"`
}

// Read takes a report from a request: from its body (JSON; nothing says that all
// is well) or from the query: outcome, detail, and numbers by name. The error is
// a *definition.Fault where the report is at fault.
func Read(r *http.Request) (Report, error) {
	const most = 64 << 10
	body, err := io.ReadAll(io.LimitReader(r.Body, most))
	if err != nil {
		return Report{}, err
	}
	var report Report
	if len(body) > 0 {
		if err := json.Unmarshal(body, &report); err != nil {
			return report, &definition.Fault{Path: "body", Message: fmt.Sprintf("the report cannot be read: %v; send JSON such as {\"outcome\":\"ok\",\"numbers\":{\"bookings\":4}}, or nothing", err)}
		}
	}
	for name, values := range r.URL.Query() {
		switch name {
		case "outcome":
			report.Outcome = values[0]
		case "detail":
			report.Detail = values[0]
		default:
			v, err := strconv.ParseFloat(values[0], 64)
			if err != nil {
				return report, &definition.Fault{Path: "numbers." + name, Message: strconv.Quote(values[0]) + " is no number"}
			}
			if report.Numbers == nil {
				report.Numbers = map[string]float64{}
			}
			report.Numbers[name] = v
		}
	}
	return report, nil
}

// Says returns the outcome and the measures that a report stands for, where the
// check names its numbers so. The error is a *definition.Fault.
func (r Report) Says(numbers []string) (measure.Outcome, map[string]float64, error) {
	outcome, known := map[string]measure.Outcome{"": measure.OK, "ok": measure.OK, "degraded": measure.Degraded, "failed": measure.Failed}[r.Outcome]
	if !known {
		return 0, nil, &definition.Fault{Path: "outcome", Message: fmt.Sprintf("%q is no outcome; it is ok, degraded or failed", r.Outcome)}
	}
	measures := map[string]float64{}
	for name, v := range r.Numbers {
		i := slices.Index(numbers, name)
		if i < 0 {
			return 0, nil, &definition.Fault{Path: "numbers." + name, Message: fmt.Sprintf("the check has no number %q; add it to the check's numbers first", name)}
		}
		if !measure.Usable(v) {
			return 0, nil, definition.Faultf("numbers."+name, "%v is no number that can be kept; it lies between -1e15 and 1e15", v)
		}
		measures[measure.ReportIn.Measures[i+1].Name] = v
	}
	return outcome, measures, nil
}
