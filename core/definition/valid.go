package definition

import (
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Valid says what is wrong with a definition, as far as it can be told of it alone:
// a value beyond the bounds that its field declares, or what its own Validate
// finds. Every way in — HTTP, files, the command line, kits, plans — asks this. The
// error is a *Fault.
func Valid(spec interface{ Validate() error }) error {
	if err := bounded("", reflect.ValueOf(spec)); err != nil {
		return err
	}
	return spec.Validate()
}

// bounded checks a value against what the tags of its fields declare, as JSON
// Schema names it: minimum, maximum, exclusiveMinimum, minLength, maxLength,
// minItems, maxItems, enum. A zero value that JSON leaves away is absent.
func bounded(path string, v reflect.Value) error {
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return nil
		}
		return bounded(path, v.Elem())
	case reflect.Slice:
		for i := range v.Len() {
			if err := bounded(path+"["+strconv.Itoa(i)+"]", v.Index(i)); err != nil {
				return err
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if !f.IsExported() {
				continue
			}
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			at := name
			switch {
			case f.Anonymous && name == "":
				at = path
			case path != "":
				at = path + "." + name
			}
			if strings.Contains(options, "omitempty") && v.Field(i).IsZero() {
				continue
			}
			if err := declared(at, f.Tag, v.Field(i)); err != nil {
				return err
			}
			if f.Tag.Get("bounds") == "filled" { // what it holds is checked once it is filled in
				continue
			}
			if err := bounded(at, v.Field(i)); err != nil {
				return err
			}
		}
	}
	return nil
}

// declared checks one field against its own tags.
func declared(path string, tag reflect.StructTag, v reflect.Value) error {
	if v.Kind() == reflect.Pointer {
		if v.IsNil() {
			return nil
		}
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.Int, reflect.Int64:
		return number(path, tag, float64(v.Int()), strconv.FormatInt(v.Int(), 10))
	case reflect.Float64:
		f := v.Float()
		if math.IsNaN(f) || math.IsInf(f, 0) {
			return fault(path, "%v is no number that can be meant", f)
		}
		return number(path, tag, f, strconv.FormatFloat(f, 'f', -1, 64))
	case reflect.String:
		return text(path, tag, v.String())
	case reflect.Slice:
		if least, said := bound64(tag, "minItems"); said && least == 1 && v.Len() == 0 {
			return fault(path, "there is none; at least one is needed")
		} else if said && float64(v.Len()) < least {
			return fault(path, "there are %d; at least %v is needed", v.Len(), least)
		}
		if most, said := bound64(tag, "maxItems"); said && float64(v.Len()) > most {
			return fault(path, "there are %d; %v are the most", v.Len(), most)
		}
		if v.Type().Elem().Kind() == reflect.String && tag.Get("enum") != "" {
			for i := range v.Len() {
				if err := oneOf(path+"["+strconv.Itoa(i)+"]", tag, v.Index(i).String()); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func number(path string, tag reflect.StructTag, v float64, written string) error {
	if least, said := bound64(tag, "minimum"); said && v < least {
		return fault(path, "%s is not allowed; it is at least %s", written, tag.Get("minimum"))
	}
	if most, said := bound64(tag, "maximum"); said && v > most {
		return fault(path, "%s is not allowed; it is at most %s", written, tag.Get("maximum"))
	}
	if above, said := bound64(tag, "exclusiveMinimum"); said && v <= above {
		return fault(path, "%s is not allowed; it is above %s", written, tag.Get("exclusiveMinimum"))
	}
	return nil
}

func text(path string, tag reflect.StructTag, s string) error {
	n := utf8.RuneCountInString(s)
	if least, said := bound64(tag, "minLength"); said && least == 1 && n == 0 {
		return fault(path, "is empty; say it")
	} else if said && float64(n) < least {
		return fault(path, "is too short; at least %v characters are needed", least)
	}
	if most, said := bound64(tag, "maxLength"); said && float64(n) > most {
		return fault(path, "has %d characters; %v are the most", n, most)
	}
	if tag.Get("enum") == "" {
		return nil
	}
	return oneOf(path, tag, s)
}

func oneOf(path string, tag reflect.StructTag, s string) error {
	if all := strings.Split(tag.Get("enum"), ","); !slices.Contains(all, s) {
		return fault(path, "%q is not allowed; it is one of %s", s,
			strings.Join(slices.DeleteFunc(all, func(x string) bool { return x == "" }), ", "))
	}
	return nil
}

// bound64 is a bound that a tag declares; a tag that is no number is a mistake of
// the program, which its tests find.
func bound64(tag reflect.StructTag, name string) (float64, bool) {
	text, said := tag.Lookup(name)
	if !said {
		return 0, false
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		panic("the tag " + name + " is no number: " + text)
	}
	return v, true
}
