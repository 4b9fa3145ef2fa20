// Package core_test guards the direction of imports.
package core_test

import (
	"os/exec"
	"strings"
	"testing"
)

// The core computes and does nothing else: what it imports may not reach the
// network, a database, files, processes or randomness.
func TestCoreImportsNeitherIONorTheRest(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	forbidden := []string{"net", "net/http", "os", "os/exec", "database/sql", "syscall", "math/rand", "math/rand/v2", "crypto/rand", "github.com/jackc"}
	allowed := map[string]bool{"kestite/core/definition: net": true} // net.ParseIP parses and does no I/O
	packages := 0
	for line := range strings.Lines(string(out)) {
		name, imports, _ := strings.Cut(strings.TrimSpace(line), ": ")
		packages++
		for _, i := range strings.Fields(imports) {
			if strings.HasPrefix(i, "kestite/") && !strings.HasPrefix(i, "kestite/core/") {
				t.Errorf("%s imports %s, which is outside the core", name, i)
			}
			for _, f := range forbidden {
				if (i == f || strings.HasPrefix(i, f+"/") && strings.Contains(f, ".")) && !allowed[name+": "+i] {
					t.Errorf("%s imports %s", name, i)
				}
			}
		}
	}
	if packages < 7 {
		t.Fatalf("only %d packages were looked at", packages)
	}
}
