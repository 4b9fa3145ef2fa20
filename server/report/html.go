package report

import (
	"bytes"
	"embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"time"

	"kestite/web"
)

//go:embed pages
var pages embed.FS

var htmlPage = template.Must(template.New("").Funcs(template.FuncMap{"seen": seen, "data": dataOf, "ink": func(name string) string { return web.Colours[name].Hex() }}).ParseFS(pages, "pages/report.html.tmpl"))

// dataOf is a picture as it stands in a page.
func dataOf(png []byte) template.URL {
	return template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(png))
}

// HTML makes the report as a page that stands alone and prints: no scripts, nothing that
// is loaded from elsewhere. digest is empty for a draft.
func HTML(c Content, made time.Time, digest string, logos []Logo) ([]byte, error) {
	d, err := c.Document(made, digest, logos)
	if err != nil {
		return nil, err
	}
	return d.HTML()
}

// HTML makes the document as a page.
func (d *Document) HTML() ([]byte, error) {
	ink := map[string]string{"accent": d.Layout.Accent}
	for _, name := range []string{"text", "secondary", "divider", "background", "down"} {
		ink[name] = web.Colours[name].Hex()
	}
	if ink["accent"] == "" {
		ink["accent"] = ink["divider"]
	}
	paper := d.Layout.paper()
	if d.Layout.Landscape {
		paper += " landscape"
	}
	view := map[string]any{"D": d, "Ink": ink, "Paper": paper, "DraftWords": label("report.draft"), "Language": Language}
	var buf bytes.Buffer
	if err := htmlPage.ExecuteTemplate(&buf, "report.html.tmpl", view); err != nil {
		return nil, fmt.Errorf("write the page: %w", err)
	}
	return buf.Bytes(), nil
}
