package definition

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Sections of a report, in the order in which they stand where nobody chose another.
const (
	SectionTime        = "time"        // the statement of time, and the figures that follow from it
	SectionOutages     = "outages"     // each with its cause and its incident
	SectionMaintenance = "maintenance" // the work that was done, and what of it is granted
	SectionAdjustments = "adjustments" // with who and why, summed by cause
	SectionObjectives  = "objectives"  // the promises beside availability
	SectionResponse    = "response"    // percentiles of response times by location
	SectionTrend       = "trend"       // the last thirteen periods
	SectionIncidents   = "incidents"
	SectionCredits     = "credits" // what is owed and settled for the agreement
	SectionClaims      = "claims"  // what suppliers owe for the period, of services that this one needs
	SectionRemark      = "remark"
	SectionPromise     = "promise" // the clauses
	SectionMethod      = "method"  // how it was measured, and what the words mean
)

// AllSections are the sections that a report can have, in order.
func AllSections() []string {
	return []string{SectionTime, SectionOutages, SectionMaintenance, SectionAdjustments, SectionObjectives, SectionResponse, SectionTrend,
		SectionIncidents, SectionCredits, SectionClaims, SectionRemark, SectionPromise, SectionMethod}
}

// UsualSections are those of a report whose audience has no layout: what suppliers owe is
// for nobody whom the layout does not say it is for.
func UsualSections() []string {
	return slices.DeleteFunc(AllSections(), func(s string) bool { return s == SectionClaims })
}

// What a layout shows.
const (
	ShowBoth   = "both"
	ShowGraphs = "graphs"
	ShowTables = "tables"
)

// Paper sizes.
const (
	PaperA4     = "a4"
	PaperLetter = "letter"
)

// Statistics of response times that a layout can name.
func Statistics() []string { return []string{"p50", "p90", "p95", "p99", "longest"} }

// LayoutSpec is how reports look and what they tell, for an audience.
type LayoutSpec struct {
	Name       string   `json:"name" minLength:"1" maxLength:"120"`
	Sections   []string `json:"sections,omitempty" maxItems:"13" doc:"In order; absent: all but what suppliers owe"`
	Show       string   `json:"show,omitempty" enum:"both,graphs,tables" doc:"What the period, the trend and the response times are shown by; absent: both"`
	Statistics []string `json:"statistics,omitempty" maxItems:"5" doc:"Of response times: p50, p90, p95, p99, longest; absent: p50 and p95"`
	Paper      string   `json:"paper,omitempty" enum:"a4,letter" doc:"Absent: a4"`
	Landscape  bool     `json:"landscape,omitempty"`
	Publisher  string   `json:"publisher,omitempty" maxLength:"120" doc:"Who publishes, as its head prints it; absent: the organisation"`
	Logo       string   `json:"logo,omitempty" maxLength:"64" doc:"The publisher's, by the SHA-256 that uploading it gave"`
	Accent     string   `json:"accent,omitempty" maxLength:"7" doc:"Colour of headings and lines, #1f5f6b"`
	Note       string   `json:"note,omitempty" maxLength:"2000"`
}

// Called is what people call what a spec defines.
func (l LayoutSpec) Called() string { return l.Name }

// LogoDigests are the logos that it names.
func (l LayoutSpec) LogoDigests() []string { return digests(l.Logo) }

// Validate of a layout.
func (l LayoutSpec) Validate() error {
	if err := called("name", l.Name); err != nil {
		return err
	}
	if err := chosen("sections", l.Sections, AllSections()); err != nil {
		return err
	}
	if err := chosen("statistics", l.Statistics, Statistics()); err != nil {
		return err
	}
	if !slices.Contains([]string{"", ShowBoth, ShowGraphs, ShowTables}, l.Show) {
		return fault("show", "%q is none of both, graphs and tables", l.Show)
	}
	if !slices.Contains([]string{"", PaperA4, PaperLetter}, l.Paper) {
		return fault("paper", "%q is none of a4 and letter", l.Paper)
	}
	if err := plain("publisher", l.Publisher); err != nil {
		return err
	}
	if err := logo("logo", l.Logo); err != nil {
		return err
	}
	if l.Accent == "" {
		return nil
	}
	r, g, b, is := ParseColour(l.Accent)
	if !is {
		return fault("accent", "%q is no colour; write it as #1f5f6b", l.Accent)
	}
	const least = 3.0 // WCAG 2.2, 1.4.11
	if c := contrastOnWhite(r, g, b); c < least {
		return fault("accent", "%s is too light to be seen on paper: its contrast is %.1f, and has to be %.0f at least; take a darker one", l.Accent, c, least)
	}
	return nil
}

// chosen refuses what cannot be chosen, and what is chosen twice.
func chosen(path string, list, from []string) error {
	for i, s := range list {
		if !slices.Contains(from, s) {
			return fault(fmt.Sprintf("%s[%d]", path, i), "%q is none of %s", s, strings.Join(from, ", "))
		}
		if slices.Contains(list[:i], s) {
			return fault(fmt.Sprintf("%s[%d]", path, i), "%s stands there twice; take one away", s)
		}
	}
	return nil
}

// ParseColour reads #rrggbb.
func ParseColour(s string) (r, g, b int, is bool) {
	if len(s) != 7 || s[0] != '#' {
		return 0, 0, 0, false
	}
	v, err := strconv.ParseUint(s[1:], 16, 32)
	return int(v >> 16), int(v >> 8 & 255), int(v & 255), err == nil
}

// contrastOnWhite is the contrast ratio with white (WCAG 2.2, relative luminance).
func contrastOnWhite(r, g, b int) float64 {
	linear := func(v int) float64 {
		c := float64(v) / 255
		if c <= 0.04045 {
			return c / 12.92
		}
		return math.Pow((c+0.055)/1.055, 2.4)
	}
	return 1.05 / (0.2126*linear(r) + 0.7152*linear(g) + 0.0722*linear(b) + 0.05)
}

var digest = regexp.MustCompile(`^[0-9a-f]{64}$`)

func logo(path, of string) error {
	if of != "" && !digest.MatchString(of) {
		return fault(path, "%q is not what uploading a logo gives: 64 hexadecimal digits", of)
	}
	return nil
}

// digests are the logos of a field that has one.
func digests(of string) []string {
	if of == "" {
		return nil
	}
	return []string{of}
}

// PersonOf is somebody to talk to at a customer.
type PersonOf struct {
	Name  string `json:"name" minLength:"1" maxLength:"120"`
	Role  string `json:"role,omitempty" maxLength:"120" doc:"What they are asked about: service manager, billing"`
	Mail  string `json:"mail,omitempty" maxLength:"254"`
	Phone string `json:"phone,omitempty" maxLength:"40"`
}

// people refuses persons that nobody could reach.
func people(path string, list []PersonOf) error {
	for i, p := range list {
		at := fmt.Sprintf("%s[%d]", path, i)
		if err := called(at+".name", p.Name); err != nil {
			return err
		}
		for _, text := range [][2]string{{"role", p.Role}, {"phone", p.Phone}} {
			if err := plain(at+"."+text[0], text[1]); err != nil {
				return err
			}
		}
		if p.Mail == "" && p.Phone == "" {
			return fault(at+".mail", "say how to reach %s: by mail or by phone", p.Name)
		}
		if p.Mail == "" {
			continue
		}
		if err := MailAddress(at+".mail", p.Mail); err != nil {
			return err
		}
	}
	return nil
}
