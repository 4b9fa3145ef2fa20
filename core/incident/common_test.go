package incident_test

import (
	"slices"
	"testing"

	"kestite/core/incident"
	"kestite/core/measure"
	"kestite/core/span"
)

// Failures that began together have a hop, a certificate, a name server or a location in
// common, or nothing; what only one of them has is not common.
func TestWhatFailuresHaveInCommon(t *testing.T) {
	look := func(location, kind string, failed bool, f *measure.Findings) incident.Look {
		return incident.Look{Location: location, Kind: kind, Failed: failed, Findings: f}
	}
	ends := func(reached bool, addrs ...string) *measure.Findings {
		tr := &measure.Trace{Reached: reached}
		for _, a := range addrs {
			h := measure.Hop{Addrs: []string{}}
			if a != "" {
				h.Addrs, h.Answered = []string{a}, 3
			}
			tr.Hops = append(tr.Hops, h)
		}
		return &measure.Findings{Trace: tr}
	}
	chain := func(serial string) *measure.Findings {
		return &measure.Findings{Chain: []measure.Link{{Subject: "CN=*.skerry.example", Serial: serial}}}
	}
	sight := func(id int64, name string, looks ...incident.Look) incident.Sight {
		return incident.Sight{Incident: id, Name: name, BeganAt: span.Instant(id * 12_000), Looks: looks}
	}
	for name, x := range map[string]struct {
		sights []incident.Sight
		want   []string
	}{
		"a hop": {[]incident.Sight{
			sight(1, "Gates", look("Tolvik", "path", true, ends(false, "198.18.0.1", "198.18.0.7", ""))),
			sight(2, "Board", look("Tolvik", "path", true, ends(false, "198.18.0.1", "198.18.0.7"))),
			sight(3, "Roster", look("Tolvik", "path", false, ends(true, "198.18.0.1", "198.18.0.7"))),
		}, []string{"The ways to Gates and Board end at 198.18.0.7."}},
		"a certificate": {[]incident.Sight{
			sight(1, "Gates", look("Tolvik", "http", true, chain("0a"))), sight(2, "Board", look("Eskerby", "certificate", true, chain("0a"))), sight(3, "Roster", look("Tolvik", "http", true, chain("0b"))),
		}, []string{"Gates and Board have the certificate CN=*.skerry.example, serial 0a, and could not be used with it."}},
		"a certificate that answered": {[]incident.Sight{
			sight(1, "Gates", look("Tolvik", "http", true, &measure.Findings{Chain: chain("0a").Chain, Response: &measure.Response{}})),
			sight(2, "Board", look("Tolvik", "http", true, &measure.Findings{Chain: chain("0a").Chain, Response: &measure.Response{}})),
		}, nil},
		"a name server": {[]incident.Sight{
			sight(1, "Gates", incident.Look{Location: "Tolvik", Kind: "dns", Failed: true, Resolver: "127.77.0.41:8453"}),
			sight(2, "Board", incident.Look{Location: "Eskerby", Kind: "dns", Failed: true, Resolver: "127.77.0.41:8453"}),
		}, []string{"The names of Gates and Board were not answered by 127.77.0.41:8453."}},
		"a location": {[]incident.Sight{
			sight(1, "Gates", look("Tolvik", "http", true, nil), look("Eskerby", "http", false, nil)),
			sight(2, "Board", look("Tolvik", "http", true, nil), look("Eskerby", "http", false, nil)),
		}, []string{"Gates and Board fail from Tolvik alone; from elsewhere they are well."}},
		"nothing": {[]incident.Sight{
			sight(1, "Gates", look("Tolvik", "http", true, nil), look("Eskerby", "http", true, nil)), sight(2, "Board", look("Tolvik", "http", true, nil)),
		}, nil},
		"one alone": {[]incident.Sight{sight(1, "Gates", look("Tolvik", "path", true, ends(false, "198.18.0.7")), look("Eskerby", "path", true, ends(false, "198.18.0.7")))}, nil},
	} {
		var got []string
		for _, s := range incident.Common(x.sights) {
			got = append(got, s.Words)
		}
		if !slices.Equal(got, x.want) {
			t.Errorf("%s: %q", name, got)
		}
	}
	if got := incident.Order([]incident.Sight{sight(3, "Board"), sight(1, "Quay"), sight(2, "Gates")}); got != "Quay failed first; Gates 12 s later, Board 24 s later." {
		t.Error(got)
	}
	if got := incident.Order([]incident.Sight{sight(3, "Board")}); got != "" {
		t.Error(got)
	}
}

func TestAlikeInWords(t *testing.T) {
	for _, c := range []struct {
		a, b []string
		want string
	}{
		{nil, nil, ""}, {[]string{"hop 198.18.0.7"}, []string{"hop 198.18.0.8"}, ""},
		{[]string{"hop mast.skerry.example (198.18.0.7)"}, []string{"certificate x", "hop mast.skerry.example (198.18.0.7)"}, "Then too the way ended at mast.skerry.example (198.18.0.7)."},
		{[]string{"certificate CN=quay, serial 07", "name-server the resolver of Tolvik"}, []string{"name-server the resolver of Tolvik", "certificate CN=quay, serial 07"},
			"Then too it could not be used with the certificate CN=quay, serial 07, and the resolver of Tolvik did not answer for its name."},
	} {
		if got := incident.Alike(c.a, c.b); got != c.want {
			t.Errorf("%v and %v: %q, want %q", c.a, c.b, got, c.want)
		}
	}
}
