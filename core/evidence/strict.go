// Package evidence reads and writes the open format kestite-evidence/1
// (docs/accounting.md §2), strictly: every refusal says where, what was found
// and what is allowed.
package evidence

import (
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"

	"kestite/core/definition"
	"kestite/core/measure"
)

// object is a JSON object with its members in order.
type object struct {
	names  []string
	values map[string]any
}

// scalar and union are how values with more than one JSON form decode.
type scalar interface{ SetScalar(any) error }
type union interface{ SetObject() any }

// Bounds of a bundle, so that reading one takes no more than a GiB of memory.
const (
	mostBytes = 64 << 20
	mostParts = 2_000_000 // names, values, and brackets
	mostDepth = 64
)

// DecodeBundle reads a bundle.json. Unknown fields, fields given twice and
// values of a wrong type are refused by name. The error is a *definition.Fault
// or says that the text is no JSON.
func DecodeBundle(r io.Reader) (definition.Bundle, error) {
	var b definition.Bundle
	data, err := io.ReadAll(io.LimitReader(r, mostBytes+1))
	if err != nil {
		return b, err
	}
	if len(data) > mostBytes {
		return b, &definition.Fault{Path: "(end)", Message: fmt.Sprintf("the bundle is longer than %d MiB, and no larger one is read", mostBytes>>20)}
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	left := mostParts
	value, err := tree(dec, "", mostDepth, &left)
	if err == nil {
		if _, err = dec.Token(); err == nil {
			err = &definition.Fault{Path: "(end)", Message: "there is more after the closing brace; a bundle is one JSON object"}
		} else if errors.Is(err, io.EOF) {
			err = nil
		}
	}
	if err != nil {
		var f *definition.Fault
		if errors.As(err, &f) {
			return b, err
		}
		line := 1 + bytes.Count(data[:min(int64(len(data)), dec.InputOffset())], []byte("\n"))
		return b, fmt.Errorf("line %d: this is no JSON: %v", line, err)
	}
	top, ok := value.(*object)
	if !ok {
		return b, &definition.Fault{Path: "(top)", Message: "an object is expected, with format, period, services …"}
	}
	// The format decides what all else means, so it is looked at first.
	if f, ok := top.values["format"].(string); ok && f != definition.Format {
		return b, &definition.Fault{Path: "format", Message: fmt.Sprintf("%q is not known; it is %s", f, definition.Format)}
	}
	return b, fill(reflect.ValueOf(&b).Elem(), top, "")
}

// tree reads one JSON value, refusing members given twice.
func tree(dec *json.Decoder, path string, depth int, left *int) (any, error) {
	tok, err := dec.Token()
	if err != nil {
		return nil, err
	}
	if depth == 0 {
		return nil, &definition.Fault{Path: path, Message: fmt.Sprintf("is more than %d deep, and no bundle is", mostDepth)}
	}
	if *left--; *left < 0 {
		return nil, &definition.Fault{Path: path, Message: fmt.Sprintf("is beyond the %d parts of a bundle that are read", mostParts)}
	}
	delim, ok := tok.(json.Delim)
	if !ok {
		return tok, nil
	}
	if delim == '[' {
		list := []any{}
		for dec.More() {
			v, err := tree(dec, fmt.Sprintf("%s[%d]", path, len(list)), depth-1, left)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := dec.Token()
		return list, err
	}
	o := &object{values: map[string]any{}}
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return nil, err
		}
		name := key.(string)
		at := join(path, name)
		if _, twice := o.values[name]; twice {
			return nil, &definition.Fault{Path: at, Message: "is given twice"}
		}
		o.names = append(o.names, name)
		if o.values[name], err = tree(dec, at, depth-1, left); err != nil {
			return nil, err
		}
	}
	_, err = dec.Token()
	return o, err
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}

// fill sets the fields of a struct from an object by its json tags: required,
// default, enum and min are what the tags of package definition say.
func fill(target reflect.Value, o *object, path string) error {
	t := target.Type()
	known := map[string]bool{}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		known[name] = true
		at := join(path, name)
		value, given := o.values[name]
		if !given || value == nil {
			if f.Tag.Get("required") != "" {
				return &definition.Fault{Path: at, Message: "is missing; it is required"}
			}
			if d, has := f.Tag.Lookup("default"); has {
				value = defaultValue(f.Type, d)
			} else if f.Type.Kind() == reflect.Struct {
				value = &object{}
			} else {
				continue
			}
		}
		if err := set(target.Field(i), value, at, f.Tag); err != nil {
			return err
		}
	}
	for _, name := range o.names {
		if !known[name] {
			return &definition.Fault{Path: join(path, name), Message: "is no field; allowed here are " + fields(known)}
		}
	}
	return nil
}

func defaultValue(t reflect.Type, text string) any {
	if _, err := strconv.Atoi(text); err == nil {
		return json.Number(text)
	}
	return text
}

func fields(known map[string]bool) string {
	var names []string
	for n := range known {
		names = append(names, n)
	}
	sort.Strings(names)
	return strings.Join(names, ", ")
}

func set(target reflect.Value, value any, path string, tag reflect.StructTag) error {
	wrong := func(expected string) error {
		return &definition.Fault{Path: path, Message: fmt.Sprintf("%s is not allowed; %s is expected", shown(value), expected)}
	}
	if target.Kind() == reflect.Pointer {
		target.Set(reflect.New(target.Type().Elem()))
		return set(target.Elem(), value, path, tag)
	}
	addr := target.Addr().Interface()
	if u, ok := addr.(union); ok {
		if o, isObject := value.(*object); isObject {
			return fill(reflect.ValueOf(u.SetObject()).Elem(), o, path)
		}
	}
	if s, ok := addr.(scalar); ok {
		if err := s.SetScalar(value); err != nil {
			return &definition.Fault{Path: path, Message: strings.Replace(err.Error(), "&{", "an object", 1)}
		}
		return nil
	}
	if u, ok := addr.(encoding.TextUnmarshaler); ok {
		text, isString := value.(string)
		if !isString {
			return wrong("a string")
		}
		if err := u.UnmarshalText([]byte(text)); err != nil {
			return &definition.Fault{Path: path, Message: err.Error()}
		}
		return nil
	}
	switch target.Kind() {
	case reflect.String:
		text, ok := value.(string)
		if !ok {
			return wrong("a string")
		}
		if enum := tag.Get("enum"); enum != "" && !slices.Contains(strings.Split(enum, ","), text) {
			return &definition.Fault{Path: path, Message: fmt.Sprintf("%q is not allowed; it is one of %s", text, strings.ReplaceAll(enum, ",", ", "))}
		}
		target.SetString(text)
	case reflect.Int64:
		n, ok := value.(json.Number)
		if !ok {
			return wrong("a whole number")
		}
		i, err := strconv.ParseInt(n.String(), 10, 64)
		if err != nil || i > maxSeconds || i < -maxSeconds {
			return wrong("a whole number of at most twelve digits")
		}
		if lowest, _ := strconv.ParseInt(tag.Get("min"), 10, 64); tag.Get("min") != "" && i < lowest {
			return &definition.Fault{Path: path, Message: fmt.Sprintf("%d is not allowed; it is at least %d", i, lowest)}
		}
		target.SetInt(i)
	case reflect.Float64:
		v, err := decimal(value)
		if err != nil {
			return &definition.Fault{Path: path, Message: err.Error()}
		}
		if tag.Get("above") != "" && v <= 0 {
			return &definition.Fault{Path: path, Message: fmt.Sprintf("%s is not allowed; it is above 0", shown(value))}
		}
		target.SetFloat(v)
	case reflect.Bool:
		b, ok := value.(bool)
		if !ok {
			return wrong("true or false")
		}
		target.SetBool(b)
	case reflect.Struct:
		o, ok := value.(*object)
		if !ok {
			return wrong("an object")
		}
		return fill(target, o, path)
	case reflect.Slice:
		list, ok := value.([]any)
		if !ok {
			return wrong("a list")
		}
		target.Set(reflect.MakeSlice(target.Type(), len(list), len(list)))
		for i, v := range list {
			if err := set(target.Index(i), v, fmt.Sprintf("%s[%d]", path, i), ""); err != nil {
				return err
			}
		}
	default:
		return fmt.Errorf("%s: a %s cannot be decoded", path, target.Kind())
	}
	return nil
}

// decimal reads a number of at most three decimals, however it is written.
func decimal(value any) (float64, error) {
	n, ok := value.(json.Number)
	if !ok || len(n) > 40 {
		return 0, fmt.Errorf("%s is not allowed; a number is expected", shown(value))
	}
	exact, ok := new(big.Rat).SetString(n.String())
	if !ok {
		return 0, fmt.Errorf("%s is not allowed; a number is expected", n)
	}
	if !new(big.Rat).Mul(exact, big.NewRat(1000, 1)).IsInt() {
		return 0, fmt.Errorf("%s has more than three decimals; three are the most", n)
	}
	v, _ := exact.Float64()
	if !measure.Usable(v) {
		return 0, fmt.Errorf("%s is beyond what can be compared, which is %v", n, measure.MostValue)
	}
	return v, nil
}

// maxSeconds keeps every sum of durations in milliseconds far from overflow.
const maxSeconds = 999_999_999_999

func shown(v any) string {
	switch v := v.(type) {
	case *object:
		return "an object"
	case []any:
		return "a list"
	case nil:
		return "null"
	case string:
		return strconv.Quote(v)
	}
	return fmt.Sprint(v)
}
