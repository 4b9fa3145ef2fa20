package report

import (
	"embed"
	"encoding/json"
	"fmt"
)

//go:embed labels
var labelFiles embed.FS

// Language is that of the documents. Another one is another file of labels beside it.
const Language = "en"

var labels = readLabels(Language)

func readLabels(language string) map[string]string {
	text, err := labelFiles.ReadFile("labels/" + language + ".json")
	if err != nil {
		panic(err) // it is compiled in
	}
	var out map[string]string
	if err := json.Unmarshal(text, &out); err != nil {
		panic(fmt.Sprintf("labels/%s.json: %v", language, err))
	}
	return out
}

// label writes a label of the catalogue with what stands in it.
func label(key string, args ...any) string {
	format, has := labels[key]
	if !has {
		panic("there is no label " + key) // a test looks that all are there
	}
	return fmt.Sprintf(format, args...)
}

// printed is how documents write an instant.
const printed = "Mon 2 Jan 2006 15:04:05"
