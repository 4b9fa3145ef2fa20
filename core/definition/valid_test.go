package definition

import (
	"errors"
	"math"
	"reflect"
	"strconv"
	"strings"
	"testing"

	"kestite/core/measure"
)

func pointer[T any](v T) *T { return &v }

// examples are one valid definition of each kind, with every field that has bounds
// filled in somewhere.
func examples() map[string]interface{ Validate() error } {
	check := func(kind, target string, set Settings) CheckSpec {
		return CheckSpec{
			Service: "tickets", Name: "A check", Kind: kind, Target: target, IntervalS: 600, TimeoutMS: 5000, RetryS: 30, StaleAfterS: 1900,
			Confirm: 2, Recover: 2, Quorum: "any", Role: Decides, Locations: []string{"tolvik"}, Settings: set,
		}
	}
	http := check("http", "https://x.example/", Settings{HTTP: &HTTPSettings{Method: "GET", Status: "200", Version: "2"}})
	http.Limits = []measure.Limit{{Measure: "total_ms", DegradedAbove: pointer(500.0), InARow: 3}}
	plan := &HoursSpec{WeeklyPlan: WeeklyPlan{Timezone: "UTC", Weekly: []WeeklyRow{{Days: []string{"MO"}, From: "08:00", To: "18:00"}}},
		HolidayLists: []string{"rest"}}
	return map[string]interface{ Validate() error }{
		"location": LocationSpec{Name: "Tolvik", Region: "South", Latitude: pointer(58.1), Longitude: pointer(7.9),
			Address: "x.example", EchoPort: 8481,
			References: []string{"x.example"}, Rates: &Rates{PerSecond: 5, PerTargetS: 5, PerDay: 100}},
		"service": ServiceSpec{Name: "Tickets", Kind: Business, Combine: Worst,
			DependsOn: []Dependency{{Services: []string{"quay"}, Need: 1}},
			Defaults:  &CheckDefaults{IntervalS: 60, TimeoutMS: 1000, StaleAfterS: 150, Confirm: 2, Recover: 2, RetryS: 10}},
		"check http": http,
		"check ping": check("ping", "x.example", Settings{Ping: &PingSettings{Packets: 5, SizeBytes: 56, SpacingMS: 200, DSCP: 46}}),
		"check path": check("path", "x.example", Settings{Path: &PathSettings{Method: ByICMP, Rounds: 3, SpacingMS: 500,
			MaxHops: 30, SizeBytes: 60}}),
		"check udp": check("udp", "x.example:8481", Settings{UDP: &UDPSettings{Codec: "g711", Packets: 100, DSCP: 46}}),
		"agreement": AgreementSpec{Name: "Gold", Service: "tickets", Timezone: "UTC", TargetPercent: "99.9",
			Unmeasured: UnmeasuredDown, MinOutageS: 60, ServiceHours: plan,
			Period: &Cycle{Unit: "quarter", Day: 15, Month: 2}, Latency: &Latency{Check: "page", LimitMS: 500, TargetPercent: "95"},
			Maintenance: &MaintenanceSpec{Mode: MaintenanceExclude, NoticeS: 60, CapS: pointer(int64(60)),
				Emergency: &EmergencyAllowance{NoticeS: 60, CapS: pointer(int64(60))}},
			Objectives: &Objectives{pointer(int64(2)), pointer(int64(60)), pointer(int64(60))}},
		"week": AgreementSpec{Name: "Gold", Service: "tickets", Timezone: "UTC", TargetPercent: "99.9",
			Period: &Cycle{Unit: "week", Weekday: "SU"}},
		"window": WindowSpec{Name: "Work", Type: Emergency, Services: []string{"tickets"}, Start: "2026-03-02T10:00:00",
			Timezone: "UTC", DurationS: 3600,
			RRule: "FREQ=DAILY", Changes: []Occurrence{{At: "2026-03-03T10:00:00", DurationS: 60}}},
		"network":    NetworkSpec{Name: "Ours", Prefixes: []string{"198.18.0.0/15"}},
		"credential": CredentialSpec{Name: "Reader", Kind: "bearer", Origins: []string{"https://x.example"}},
		"pair plan": PairPlanSpec{Name: "Pairs", Service: "tickets", Kinds: []string{"ping"}, Shape: "full",
			Locations: []string{"a", "b"}, IntervalS: 60,
			Overrides: []PairOverride{{PairOf: PairOf{A: "a", B: "b"}, IntervalS: 60, Kinds: []string{"ping"}}}},
		"holiday list": HolidayListSpec{Name: "Rest days", Days: []Holiday{{Date: "2026-12-25", Name: "Christmas"}}, Note: "All offices"},
		"kit": KitSpec{Name: "Kit", Parameters: []Parameter{{Name: "host", Default: "x.example"}},
			Checks: []CheckSpec{check("ping", "{host}", Settings{})}},
	}
}

// Every bound that a field declares is kept: each is broken here, by what the tag
// says and not by a list, and the fault names the field.
func TestEveryDeclaredBoundIsKept(t *testing.T) {
	broken := 0
	for name, example := range examples() {
		if err := Valid(example); err != nil {
			t.Errorf("the example of a %s: %v", name, err)
			continue
		}
		copied := reflect.New(reflect.TypeOf(example)).Elem()
		copied.Set(reflect.ValueOf(example))
		breakEach(t, "", copied, "", func(path string) {
			broken++
			err := Valid(copied.Interface().(interface{ Validate() error }))
			var fault *Fault
			if !errors.As(err, &fault) || fault.Path != path {
				t.Errorf("%s: %s beyond its bounds: %v", name, path, err)
			}
		})
	}
	if broken < 150 {
		t.Errorf("only %d bounds were broken", broken)
	}
}

// breakEach sets each field of a value beyond each of its bounds in turn, calls
// check, and puts it back.
func breakEach(t *testing.T, path string, v reflect.Value, tag reflect.StructTag, check func(path string)) {
	try := func(to any) {
		old := reflect.New(v.Type()).Elem()
		old.Set(v)
		v.Set(reflect.ValueOf(to).Convert(v.Type()))
		check(path)
		v.Set(old)
	}
	number := func(name string) (float64, bool) {
		f, err := strconv.ParseFloat(tag.Get(name), 64)
		return f, err == nil
	}
	if tag.Get("bounds") != "" {
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			fresh := reflect.New(v.Type().Elem())
			fresh.Elem().Set(v.Elem())
			v.Set(fresh)
			breakEach(t, path, v.Elem(), tag, check)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			at := name
			if f.Anonymous && name == "" {
				at = path
			} else if path != "" {
				at = path + "." + name
			}
			if f.IsExported() {
				breakEach(t, at, v.Field(i), f.Tag, check)
			}
		}
	case reflect.Slice:
		fresh := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		reflect.Copy(fresh, v)
		v.Set(fresh)
		if most, said := number("maxItems"); said {
			try(reflect.MakeSlice(v.Type(), int(most)+1, int(most)+1).Interface())
		}
		if least, said := number("minItems"); said && least > 0 && v.Len() > 0 {
			try(reflect.MakeSlice(v.Type(), 0, 0).Interface())
		}
		if v.Type().Elem().Kind() == reflect.String && tag.Get("enum") != "" && v.Len() > 0 {
			breakEach(t, path+"[0]", v.Index(0), reflect.StructTag(`enum:"`+tag.Get("enum")+`"`), check)
		} else if v.Len() > 0 {
			breakEach(t, path+"[0]", v.Index(0), "", check)
		}
	case reflect.Int, reflect.Int64, reflect.Float64:
		if least, said := number("minimum"); said && (least != 1 || !strings.Contains(tag.Get("json"), "omitempty")) {
			try(least - 1)
		}
		if most, said := number("maximum"); said {
			try(most + 1)
		}
		if v.Kind() == reflect.Float64 {
			try(math.NaN())
			try(math.Inf(1))
		}
	case reflect.String:
		if most, said := number("maxLength"); said {
			try(strings.Repeat("x", int(most)+1))
		}
		if least, said := number("minLength"); said && least > 0 && !strings.Contains(tag.Get("json"), "omitempty") {
			try("")
		}
		if tag.Get("enum") != "" {
			try("no such thing")
		}
	}
}
