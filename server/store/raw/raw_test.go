package raw_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// What the generated queries on raw measurements are called.
var queries = regexp.MustCompile(`\.(MeasurementsOf|LatestMeasurements|LatestOfLanes|OutcomesFrom|RawBefore|InstantsBetween|HasRaw|HasRawBetween)\(|(?i:FROM measurement\b)`)

// Raw measurements are read here alone, so that they can be kept in another way.
func TestOneReader(t *testing.T) {
	root := filepath.Join("..", "..", "..")
	looked := 0
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if err == nil && (d.Name() == "node_modules" || d.Name() == "gen" || strings.HasPrefix(d.Name(), ".") && len(d.Name()) > 2) {
				return filepath.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.HasSuffix(filepath.ToSlash(path), "store/raw/raw.go") {
			return nil
		}
		looked++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if found := queries.Find(text); found != nil {
			t.Errorf("%s reads raw measurements by itself: %s", path, found)
		}
		return nil
	})
	if err != nil || looked < 100 {
		t.Fatalf("%d files: %v", looked, err)
	}
}
