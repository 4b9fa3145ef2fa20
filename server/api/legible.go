package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-json-experiment/json/jsontext"
)

// fileType is the media type in which files are uploaded.
const fileType = "application/octet-stream"

// legible refuses requests whose texts no database can keep: what is no UTF-8,
// and the character U+0000. A path with it names nothing; a body or query is
// told where it stands.
func legible(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !clean(r.URL.Path) {
			writeProblem(w, http.StatusNotFound, "There is nothing of that name: the path holds characters that no name has.")
			return
		}
		for name, values := range r.URL.Query() {
			if !clean(name + strings.Join(values, "")) {
				unclean(w, "query."+strings.ToValidUTF8(strings.ReplaceAll(name, "\x00", ""), ""))
				return
			}
		}
		// A file is bytes, and no text; what reads JSON refuses its type.
		if r.Body == nil || r.Body == http.NoBody || r.Method == http.MethodGet || r.Header.Get("Content-Type") == fileType {
			next.ServeHTTP(w, r)
			return
		}
		text, err := io.ReadAll(r.Body)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			writeProblem(w, http.StatusRequestTimeout, "The request came in too slowly; try again on a better line.")
			return
		}
		if err != nil {
			writeProblem(w, http.StatusRequestEntityTooLarge, "The request cannot be read to its end: "+err.Error()+".")
			return
		}
		if twice(text) {
			writeProblem(w, http.StatusUnprocessableEntity, "The request cannot be read: "+errTwice.Error()+".")
			return
		}
		if !utf8.Valid(text) || bytes.Contains(text, []byte(`\u0000`)) {
			if path, found := nulAt("body", text); found {
				unclean(w, path)
				return
			}
		}
		r.Body = io.NopCloser(bytes.NewReader(text))
		next.ServeHTTP(w, r)
	})
}

var errTwice = errors.New("a name stands twice in one object of its JSON, and which is meant cannot be told")

// twice says whether some object of a JSON text has a name twice (RFC 8259 §4:
// who reads that does so in ways that differ).
func twice(text []byte) bool {
	_, err := jsontext.NewDecoder(bytes.NewReader(text), jsontext.AllowInvalidUTF8(true)).ReadValue()
	return errors.Is(err, jsontext.ErrDuplicateName)
}

func clean(s string) bool { return utf8.ValidString(s) && !strings.ContainsRune(s, 0) }

func unclean(w http.ResponseWriter, path string) {
	const message = "it holds the character U+0000 or bytes that are no UTF-8; take them out"
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusUnprocessableEntity)
	json.NewEncoder(w).Encode(&huma.ErrorModel{
		Status: http.StatusUnprocessableEntity, Title: http.StatusText(http.StatusUnprocessableEntity),
		Detail: "Some of it cannot be: " + message, Errors: []*huma.ErrorDetail{{Location: path, Message: message}},
	})
}

// nulAt finds the first text in JSON that no database can keep.
func nulAt(path string, text []byte) (string, bool) {
	if !utf8.Valid(text) {
		return path, true
	}
	var v any
	if json.Unmarshal(text, &v) != nil {
		return "", false // whoever reads it says what is wrong
	}
	var walk func(path string, v any) (string, bool)
	walk = func(path string, v any) (string, bool) {
		switch v := v.(type) {
		case string:
			return path, strings.ContainsRune(v, 0)
		case []any:
			for i, one := range v {
				if p, found := walk(fmt.Sprintf("%s[%d]", path, i), one); found {
					return p, true
				}
			}
		case map[string]any:
			for name, one := range v {
				if strings.ContainsRune(name, 0) {
					return path, true
				}
				if p, found := walk(path+"."+name, one); found {
					return p, true
				}
			}
		}
		return "", false
	}
	return walk(path, v)
}
