package report

import (
	"strings"

	"kestite/core/catalogue"
	"kestite/core/definition"
)

// Laid is the layout that a report was published by.
type Laid struct {
	Name         string   `json:"name,omitempty"` // empty: nobody chose one
	Sections     []string `json:"sections"`
	Show         string   `json:"show"`
	Statistics   []string `json:"statistics"`
	Paper        string   `json:"paper"`
	Landscape    bool     `json:"landscape,omitempty"`
	Publisher    string   `json:"publisher,omitempty"`
	Accent       string   `json:"accent,omitempty"`
	Logo         string   `json:"logo,omitempty"`          // SHA-256 of logo-publisher.png
	CustomerLogo string   `json:"customer_logo,omitempty"` // SHA-256 of logo-customer.png
}

// LaidBy is the layout of the reports of an agreement: its contract's, else its customer's.
func LaidBy(snap *catalogue.Snapshot, spec definition.AgreementSpec) Laid {
	id := ""
	out := Laid{}
	if e := snap.Customers[spec.Customer]; e != nil {
		c := e.Current().Spec
		id, out.CustomerLogo = c.Layout, c.Logo
	}
	if e := snap.Contracts[spec.Contract]; e != nil && e.Current().Spec.Layout != "" {
		id = e.Current().Spec.Layout
	}
	var l definition.LayoutSpec
	if e := snap.Layouts[id]; e != nil {
		l = e.Current().Spec
	}
	return out.by(l)
}

// LaidAs is a layout as a report follows it.
func LaidAs(l definition.LayoutSpec) Laid { return Laid{}.by(l) }

func (out Laid) by(l definition.LayoutSpec) Laid {
	out.Name, out.Sections, out.Show, out.Statistics, out.Paper = l.Name, l.Sections, l.Show, l.Statistics, l.Paper
	out.Landscape, out.Publisher, out.Accent, out.Logo = l.Landscape, l.Publisher, l.Accent, l.Logo
	if len(out.Sections) == 0 {
		out.Sections = definition.UsualSections()
	}
	if out.Show == "" {
		out.Show = definition.ShowBoth
	}
	if len(out.Statistics) == 0 {
		out.Statistics = []string{"p50", "p95"}
	}
	if out.Paper == "" {
		out.Paper = definition.PaperA4
	}
	return out
}

// laid is the layout of a report; one from before there were layouts has what it had.
func (c Content) laid() Laid {
	if c.Layout != nil {
		return *c.Layout
	}
	return Laid{}.by(definition.LayoutSpec{Sections: []string{definition.SectionTime, definition.SectionOutages, definition.SectionAdjustments, definition.SectionRemark,
		definition.SectionPromise, definition.SectionMethod}})
}

func (l Laid) graphs() bool { return l.Show != definition.ShowTables }
func (l Laid) tables() bool { return l.Show != definition.ShowGraphs }

// paper is the name of the paper as printing libraries and style sheets have it.
func (l Laid) paper() string {
	if l.Paper == definition.PaperLetter {
		return "Letter"
	}
	return strings.ToUpper(definition.PaperA4)
}

// digests are the logos that it names, by what they are of.
func (l Laid) digests() map[string]string {
	out := map[string]string{}
	if l.Logo != "" {
		out["publisher"] = l.Logo
	}
	if l.CustomerLogo != "" {
		out["customer"] = l.CustomerLogo
	}
	return out
}
