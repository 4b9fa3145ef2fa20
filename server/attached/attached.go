// Package attached says which files people may attach to what they write.
package attached

import (
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"kestite/core/definition"
	"kestite/core/measure"
)

// Bounds of files that people attach.
const (
	MostBytes = 2 << 20
	MostFiles = 20
	mostName  = 200
)

// types of files that are taken, as their first bytes tell (WHATWG MIME Sniffing, as
// net/http does it). Everything else is refused, whatever its name says.
var types = []string{"image/png", "image/jpeg", "image/gif", "image/webp", "application/pdf", "text/plain; charset=utf-8", "application/zip", "application/x-gzip"}

// Taken is a file's name without a path, and its type. The error is a *definition.Fault of
// what is not taken.
func Taken(name string, content []byte) (string, string, error) {
	name = measure.Clean(filepath.Base(strings.ReplaceAll(name, "\\", "/")), mostName)
	kind := http.DetectContentType(content)
	switch {
	case strings.TrimSpace(name) == "" || name == "." || name == "/":
		return "", "", definition.Faultf("name", "is missing; say what the file is called")
	case len(content) == 0:
		return "", "", definition.Faultf("content", "is empty; choose a file that holds something")
	case len(content) > MostBytes:
		return "", "", definition.Faultf("content", "has %d bytes; %d MiB is the most. Put it elsewhere, and add a link", len(content), MostBytes>>20)
	case !slices.Contains(types, kind):
		return "", "", definition.Faultf("content", "is %s by its first bytes; a picture, a PDF, plain text, zip or gzip can be kept", kind)
	}
	return name, kind, nil
}
