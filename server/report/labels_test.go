package report

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"kestite/core/account"
	"kestite/core/definition"
)

// Every label that is asked for stands in the catalogue, and none stands there that nobody
// asks for. Keys that are put together are named by their beginning and all their ends.
func TestTheCatalogueOfLabelsIsWhole(t *testing.T) {
	asked := map[string]bool{}
	ends := map[string][]string{
		"section.": definition.AllSections(), "statistic.": definition.Statistics(), "maintenance.": {definition.Planned, definition.Emergency},
		"refused.": {account.NotEmergency, account.LateNotice, account.NotWithin, account.CapUsed}, "objective.": {"met", "missed", "unknown"}, "cause.": causes,
		"verdict.word.": {string(account.Met), string(account.Missed), string(account.Insufficient), string(account.NotApplicable)},
	}
	set := token.NewFileSet()
	names, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(set, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, is := n.(*ast.CallExpr)
			if !is {
				return true
			}
			if f, is := call.Fun.(*ast.Ident); !is || f.Name != "label" || len(call.Args) == 0 {
				return true
			}
			switch key := call.Args[0].(type) {
			case *ast.BasicLit:
				text, err := strconv.Unquote(key.Value)
				if err != nil {
					t.Fatal(err)
				}
				asked[text] = true
			case *ast.BinaryExpr:
				begin, is := key.X.(*ast.BasicLit)
				if !is {
					t.Errorf("%s: a key that cannot be followed", set.Position(call.Pos()))
					return true
				}
				text, err := strconv.Unquote(begin.Value)
				if err != nil || ends[text] == nil {
					t.Errorf("%s: nothing is known of the ends of %q, %v", set.Position(call.Pos()), text, err)
				}
				for _, end := range ends[text] {
					asked[text+end] = true
				}
			default:
				t.Errorf("%s: a key that cannot be followed", set.Position(call.Pos()))
			}
			return true
		})
	}
	for key := range asked {
		if labels[key] == "" {
			t.Errorf("the catalogue has no %s", key)
		}
	}
	for key := range labels {
		if !asked[key] {
			t.Errorf("nobody asks for %s", key)
		}
	}
	if len(asked) < 80 {
		t.Errorf("only %d labels are asked for", len(asked))
	}
}
