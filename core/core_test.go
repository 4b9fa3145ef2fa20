// Package core_test guards the direction of imports.
package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// forbidden are the packages through which a program reaches the network, files,
// processes, a database, randomness; what lies below one of them is forbidden too,
// but for what is allowed.
var (
	forbidden = []string{"net", "os", "io/fs", "syscall", "plugin", "database/sql", "math/rand", "crypto/rand", "log", "embed",
		"github.com/jackc", "github.com/go-chi"}
	allowed = []string{"net/netip", "net/url"} // they parse and do no more
	others  = []string{                        // libraries that compute
		"github.com/emersion/go-ical", "github.com/goccy/go-yaml", "github.com/teambition/rrule-go", "github.com/theory/jsonpath", "golang.org/x/net/http/httpguts",
		"golang.org/x/net/idna", "gonum.org/v1/gonum/mathext",
	}
)

// The core computes and does nothing else. The sources are read, and not asked for
// with the go command: a result that the test tool keeps knows what it read.
func TestCoreImportsNeitherIONorTheRest(t *testing.T) {
	packages := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		packages[filepath.Dir(path)] = true
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			if why := refused(name); why != "" {
				t.Errorf("%s imports %s, %s", path, name, why)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(packages) < 9 {
		t.Fatalf("only %d packages were looked at", len(packages))
	}
}

// refused is why the core may not import a package; empty where it may.
func refused(name string) string {
	below := func(of string) bool { return name == of || strings.HasPrefix(name, of+"/") }
	switch first, _, _ := strings.Cut(name, "/"); {
	case slices.Contains(allowed, name):
		return ""
	case slices.ContainsFunc(forbidden, below):
		return "which reaches outside"
	case first == "kestite":
		if !below("kestite/core") {
			return "which is outside the core"
		}
	case strings.Contains(first, ".") && !slices.Contains(others, name):
		return "a library that is not known to compute alone"
	}
	return ""
}

// A guard that refuses nothing guards nothing.
func TestTheGuardRefuses(t *testing.T) {
	for name, want := range map[string]bool{
		"net": true, "net/http": true, "net/netip": false, "net/url": false, "os": true, "os/exec": true, "math/rand/v2": true,
		"database/sql":   true,
		"kestite/server": true, "kestite/core/span": false, "github.com/jackc/pgx/v5": true, "github.com/some/thing": true,
		"slices": false, "math": false,
	} {
		if (refused(name) != "") != want {
			t.Errorf("%s: %q", name, refused(name))
		}
	}
}
