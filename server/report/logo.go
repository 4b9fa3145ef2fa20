package report

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	_ "image/gif"  // what people have as a logo
	_ "image/jpeg" // likewise
	"image/png"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"kestite/core/definition"
	"kestite/core/seal"
	"kestite/server/store/gen/db"
)

// Limits of logos.
const (
	MostLogoBytes  = 1 << 20   // of the file that is uploaded
	mostLogoPixels = 4_000_000 // when it is drawn
	mostLogoSide   = 1200      // pixels that are kept
)

// ReadLogo draws a picture anew as PNG: nothing of the file is kept but what can be seen.
// The error is a *definition.Fault of logo where it is no picture, or too large.
func ReadLogo(file []byte) (Logo, error) {
	if len(file) > MostLogoBytes {
		return Logo{}, definition.Faultf("logo", "is larger than %d kB; save it smaller", MostLogoBytes>>10)
	}
	of, kind, err := image.DecodeConfig(bytes.NewReader(file))
	if err != nil {
		return Logo{}, definition.Faultf("logo", "is no picture that can be read; take a PNG, JPEG or GIF file (an SVG may hold scripts: save it as PNG)")
	}
	if of.Width < 1 || of.Height < 1 || of.Width*of.Height > mostLogoPixels {
		return Logo{}, definition.Faultf("logo", "is %d × %d pixels; %d million together are the most", of.Width, of.Height, mostLogoPixels/1_000_000)
	}
	if of.Width > mostLogoSide || of.Height > mostLogoSide {
		return Logo{}, definition.Faultf("logo", "is %d × %d pixels; %d are the most in each direction, and more than paper shows", of.Width, of.Height, mostLogoSide)
	}
	picture, _, err := image.Decode(bytes.NewReader(file))
	if err != nil {
		return Logo{}, definition.Faultf("logo", "is a %s file that is broken: %v", kind, err)
	}
	// One form for all: 8 bits of red, green, blue and opacity, which every reader of PNG takes.
	plain := image.NewNRGBA(image.Rect(0, 0, of.Width, of.Height))
	for y := range of.Height {
		for x := range of.Width {
			plain.Set(x, y, picture.At(picture.Bounds().Min.X+x, picture.Bounds().Min.Y+y))
		}
	}
	var buf bytes.Buffer
	if err := png.Encode(&buf, plain); err != nil {
		return Logo{}, err
	}
	return Logo{PNG: buf.Bytes(), Width: of.Width, Height: of.Height}, nil
}

// Digest names a logo.
func (l Logo) Digest() string { return seal.Digest(l.PNG) }

// Logos are the pictures that a layout names.
func (l Laid) Logos(ctx context.Context, q *db.Queries) ([]Logo, error) {
	var out []Logo
	named := l.digests()
	for _, of := range slices.Backward(slices.Sorted(maps.Keys(named))) {
		row, err := q.Logo(ctx, named[of])
		if errors.Is(err, pgx.ErrNoRows) {
			return nil, fmt.Errorf("the logo of the %s is not there: %s", of, named[of])
		}
		if err != nil {
			return nil, err
		}
		out = append(out, Logo{of, row.Png, int(row.Width), int(row.Height)})
	}
	return out, nil
}

// Logos are the pictures that a report shows.
func (c Content) Logos(ctx context.Context, q *db.Queries) ([]Logo, error) {
	return c.laid().Logos(ctx, q)
}
