package api_test

import (
	"archive/zip"
	"bytes"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kestite/core/access"
	"kestite/core/definition"
	"kestite/server/api"
	"kestite/server/servertest"
)

// picture is a drawing of so many pixels.
func picture(t *testing.T, wide, high int, encode func(io.Writer, image.Image) error) []byte {
	t.Helper()
	m := image.NewRGBA(image.Rect(0, 0, wide, high))
	for i := range min(wide, high) {
		m.Set(i, i, color.RGBA{200, 30, 40, 255})
	}
	var buf bytes.Buffer
	if err := encode(&buf, m); err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

// bomb is a PNG that says it has very many pixels.
func bomb(t *testing.T) []byte {
	t.Helper()
	out := picture(t, 2, 2, png.Encode)
	copy(out[16:], []byte{0, 1, 0, 0, 0, 1, 0, 0}) // 65536 by 65536
	sum := crc32.ChecksumIEEE(out[12:29])
	copy(out[29:], []byte{byte(sum >> 24), byte(sum >> 16), byte(sum >> 8), byte(sum)})
	return out
}

// Logos are pictures and nothing else: scripts, bombs and what is too large are refused, and
// what a file has beside its picture is not kept.
func TestLogos(t *testing.T) {
	f := setUp(t)
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	good := picture(t, 60, 20, png.Encode)
	upload := func(c *servertest.Client, file []byte) servertest.Answer {
		return c.Do(http.MethodPost, "/logos", file)
	}
	refused(t, "a viewer's logo", upload(viewer, good), 403, "define")
	refused(t, "a drawing with a script", upload(f.manager, []byte(`<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>`)), 422, "no picture that can be read")
	refused(t, "nothing", upload(f.manager, []byte{}), 400, "body is required")
	refused(t, "JSON as a file", f.manager.Do(http.MethodPost, "/customers", []byte(`{"spec":{"name":"x\u0000"}}`)), 415, "")
	refused(t, "half a picture", upload(f.manager, good[:len(good)/2]), 422, "broken")
	refused(t, "a bomb", upload(f.manager, bomb(t)), 422, "65536 × 65536")
	refused(t, "50 MB", upload(f.manager, make([]byte, 50<<20)), 413, "")
	refused(t, "one byte too many", upload(f.manager, append(slices.Clone(good), make([]byte, 1<<20+1-len(good))...)), 422, "save it smaller")

	secret := append(slices.Clone(good), []byte("<script>alert(1)</script>")...)
	var first, second api.UploadedLogo
	f.manager.Must(http.MethodPost, "/logos", secret, &first)
	f.manager.Must(http.MethodPost, "/logos", good, &second)
	if first != second || first.Width != 60 || first.Height != 20 {
		t.Errorf("%+v and %+v", first, second)
	}
	shown := viewer.Do(http.MethodGet, "/logos/"+first.Digest, nil)
	if _, err := png.Decode(bytes.NewReader(shown.Body)); err != nil || bytes.Contains(shown.Body, []byte("script")) || shown.Header.Get("Content-Type") != "image/png" {
		t.Errorf("%v, %v", err, shown.Header)
	}
	refused(t, "a logo that is not there", f.manager.Do(http.MethodGet, "/logos/"+strings.Repeat("a", 64), nil), 404, "")
	var photo api.UploadedLogo
	f.manager.Must(http.MethodPost, "/logos", picture(t, 30, 30, func(w io.Writer, m image.Image) error { return jpeg.Encode(w, m, nil) }), &photo)
	for what, spec := range map[string]map[string]any{
		"an unknown logo":   {"name": "x", "logo": strings.Repeat("a", 64)},
		"no digest":         {"name": "x", "logo": "../../etc/passwd"},
		"a section twice":   {"name": "x", "sections": []string{"time", "time"}},
		"a section unknown": {"name": "x", "sections": []string{"horoscope"}},
		"too light":         {"name": "x", "accent": "#ffff99"},
		"no colour":         {"name": "x", "accent": "red;url(x)"},
		"no paper":          {"name": "x", "paper": "papyrus"},
	} {
		if a := f.manager.Do(http.MethodPost, "/layouts", map[string]any{"spec": spec}); a.Status != 422 {
			t.Errorf("%s: %s", what, a)
		}
	}
}

// A report is laid out as its audience's layout says, and stays so when the layout changes;
// its logos stand in the archive, and what is printed is what the layout asks for, in its order.
func TestALayout(t *testing.T) {
	f, id, month, _, _ := closeOf(t)
	var ours, theirs api.UploadedLogo
	f.manager.Must(http.MethodPost, "/logos", picture(t, 60, 20, png.Encode), &ours)
	f.manager.Must(http.MethodPost, "/logos", picture(t, 20, 40, png.Encode), &theirs)
	spec := map[string]any{"name": "Board", "sections": []string{"trend", "promise", "time"}, "show": "tables", "paper": "letter", "landscape": true, "accent": "#1f5f6b",
		"publisher": "Service operations", "logo": ours.Digest}
	layout := f.manager.Create("/layouts", spec)
	f.manager.Must(http.MethodPut, "/customers/passenger-division", f.manager.Edit("/customers/passenger-division", map[string]any{"name": "Passenger division", "layout": layout, "logo": theirs.Digest,
		"contacts": []map[string]any{{"name": "Liv Holm", "role": "service manager", "mail": "liv@passengers.example"}}}), nil)
	if a := f.manager.Do(http.MethodDelete, "/layouts/"+layout, nil); a.Status != 422 || !strings.Contains(string(a.Body), "laid out by it") {
		t.Errorf("retiring a layout in use: %s", a)
	}
	report := publish(t, f.manager, id, month)
	spec["sections"], spec["landscape"] = []string{"method"}, false
	f.manager.Must(http.MethodPut, "/layouts/"+layout, f.manager.Edit("/layouts/"+layout, spec), nil)

	var page api.ReportPage
	f.manager.Must(http.MethodGet, "/reports/"+report, nil, &page)
	var keys []string
	for _, s := range page.Sections {
		keys = append(keys, s.Key)
	}
	if !slices.Equal(keys, []string{"trend", "promise", "time"}) || page.Layout != "Board" {
		t.Errorf("%q by %q", keys, page.Layout)
	}
	document := f.manager.Do(http.MethodGet, "/reports/"+report+"/document?format=pdf", nil).Body
	text := servertest.PDFText(t, document)
	trend, promise, time := strings.Index(text, "The last periods"), strings.Index(text, "What was promised"), strings.Index(text, "The period's time")
	if trend < 0 || promise < trend || time < promise || strings.Contains(text, "How it was measured") || !strings.Contains(text, "Service operations") {
		t.Errorf("%s", text)
	}
	if size := pageSize(t, document); !strings.Contains(size, "792 x 612") {
		t.Errorf("the paper is %s", size)
	}
	html := string(f.manager.Do(http.MethodGet, "/reports/"+report+"/document?format=html", nil).Body)
	if strings.Count(html, "data:image/png;base64,") != 2 || !strings.Contains(html, "size: Letter landscape") || strings.Contains(html, "<svg") || !strings.Contains(html, "--accent: #1f5f6b") {
		t.Errorf("%s", html)
	}
	archive := f.manager.Do(http.MethodGet, "/reports/"+report+"/document?format=evidence", nil).Body
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		t.Fatal(err)
	}
	found := 0
	for _, e := range z.File {
		if e.Name == "logo-publisher.png" || e.Name == "logo-customer.png" {
			found++
		}
	}
	if found != 2 {
		t.Errorf("%d logos in the archive", found)
	}

	// Anybody who sees the agreement can look how a layout would print it; it is no report.
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	for _, sections := range [][]string{nil, definition.AllSections()} {
		a := viewer.Do(http.MethodPost, "/layouts/preview", map[string]any{"spec": map[string]any{"name": "x", "sections": sections}, "agreement": id})
		if text := servertest.PDFText(t, a.Body); a.Status != 200 || !strings.Contains(text, "Draft. Not published") || !strings.Contains(text, "How it was measured") {
			t.Errorf("%d %s", a.Status, text)
		}
	}
	refused(t, "a preview of what is not there", f.manager.Do(http.MethodPost, "/layouts/preview", map[string]any{"spec": map[string]any{"name": "x"}, "agreement": "no-such"}), 404, "")
}

// pageSize is what a reader of PDF says of a document's paper.
func pageSize(t *testing.T, document []byte) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "report.pdf")
	if err := os.WriteFile(name, document, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("pdfinfo", name).Output()
	if err != nil {
		t.Fatalf("pdfinfo (of poppler-utils, which make test installs): %v", err)
	}
	for line := range strings.Lines(string(out)) {
		if size, is := strings.CutPrefix(line, "Page size:"); is {
			return size
		}
	}
	return "unknown"
}
