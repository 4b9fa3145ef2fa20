package demo

import (
	"bytes"
	"context"
	"image"
	"image/color"
	"image/png"
	"math"
	"time"

	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/report"
	"kestite/server/store/gen/db"
)

// layouts are how reports look for the demo's audiences, by id.
var layouts = map[string]definition.LayoutSpec{
	"customers": {Name: "For customers", Accent: "#1f5f6b", Publisher: "Skerry Line, service operations", Statistics: []string{"p50", "p95", "p99"},
		Note: "Everything but what suppliers owe us"},
	"own-house": {Name: "For our own house", Landscape: true, Accent: "#5b4a8a", Note: "With what suppliers owe us",
		Sections: []string{definition.SectionTime, definition.SectionTrend, definition.SectionResponse, definition.SectionOutages, definition.SectionIncidents, definition.SectionMaintenance, definition.SectionClaims, definition.SectionRemark}},
}

// emblem is Skerry Line's: a hull above two waves. Nobody's, and drawn here.
func emblem() ([]byte, error) {
	const wide, high = 320, 120
	ink := color.NRGBA{0x1f, 0x5f, 0x6b, 0xff}
	out := image.NewNRGBA(image.Rect(0, 0, wide, high))
	for y := range high {
		for x := range wide {
			hull := y >= 34 && y < 62 && x >= 40+(y-34) && x < 280-2*(y-34)
			deck := y >= 14 && y < 34 && x >= 90 && x < 210-(y-14)/2
			wave := func(middle float64) bool {
				return math.Abs(float64(y)-middle-5*math.Sin(float64(x)/20)) < 3.5 && x > 20 && x < 300
			}
			if hull || deck || wave(80) || wave(98) {
				out.SetNRGBA(x, y, ink)
			}
		}
	}
	var buf bytes.Buffer
	err := png.Encode(&buf, out)
	return buf.Bytes(), err
}

// layOut makes the layouts, with the emblem on that for customers.
func layOut(ctx context.Context, s *api.Server, at time.Time, by string, create func(kind, id string, spec catalogue.Spec) error) error {
	file, err := emblem()
	if err != nil {
		return err
	}
	logo, err := report.ReadLogo(file)
	if err != nil {
		return err
	}
	if err := s.Store.AddLogo(ctx, db.AddLogoParams{Digest: logo.Digest(), Png: logo.PNG, Width: int32(logo.Width), Height: int32(logo.Height), MadeBy: by, MadeAt: at}); err != nil {
		return err
	}
	for id, spec := range layouts {
		if id == "customers" {
			spec.Logo = logo.Digest()
		}
		if err := create(catalogue.Layout, id, spec); err != nil {
			return err
		}
	}
	return nil
}
