package web

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"strconv"
)

//go:embed src/colours.json
var colours []byte

// Colour is one of the light look, as red, green and blue from 0 to 255.
type Colour struct{ R, G, B int }

// Hex writes a colour as style sheets have it: "#f6f3ec".
func (c Colour) Hex() string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// Colours are those of the light look by their names, as the screens have them.
var Colours = read(colours)

func read(text []byte) map[string]Colour {
	var schemes map[string]map[string]string
	if err := json.Unmarshal(text, &schemes); err != nil {
		panic(fmt.Sprintf("colours.json: %v", err)) // it is compiled in
	}
	out := map[string]Colour{}
	for name, hex := range schemes["light"] {
		v, err := strconv.ParseUint(hex[1:], 16, 24)
		if err != nil {
			panic(fmt.Sprintf("colours.json: %s: %v", name, err))
		}
		out[name] = Colour{int(v >> 16), int(v >> 8 & 0xff), int(v & 0xff)}
	}
	return out
}
