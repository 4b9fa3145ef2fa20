package measure

import "testing"

// The places are those of the measures of these names, and every measure has one
// (but the numbers of a report-in check, which follow one another).
func TestPlacesAreThoseOfTheMeasures(t *testing.T) {
	for kind, places := range map[string]map[int]string{
		"ping": {TripLoss: "loss_percent", TripLeast: "rtt_min_ms", TripMean: "rtt_mean_ms", TripMost: "rtt_max_ms",
			PingJitter: "jitter_ms"},
		"path": {TripLoss: "loss_percent", TripLeast: "rtt_min_ms", TripMean: "rtt_mean_ms", TripMost: "rtt_max_ms", PathHops: "hops",
			PathRouteChanged: "route_changed", PathRoute: "route"},
		"udp": {TripLoss: "loss_percent", TripLeast: "rtt_min_ms", TripMean: "rtt_mean_ms", TripMost: "rtt_max_ms",
			UDPJitterThere: "jitter_ms",
			UDPJitterBack:  "jitter_back_ms", UDPThere: "one_way_ms", UDPBack: "one_way_back_ms", UDPRating: "rating", UDPMOS: "mos",
			UDPReordered: "reordered"},
		"http": {HTTPTotal: "total_ms", HTTPLookup: "dns_ms", HTTPConnect: "connect_ms", HTTPTLS: "tls_ms", HTTPFirstByte: "first_byte_ms",
			HTTPStatus: "status", HTTPSize: "size_bytes", HTTPBody: "body_ms", HTTPRedirects: "redirects",
			HTTPDaysLeft: "certificate_days_left",
			HTTPValue:    "value"},
		"tcp": {TCPLookup: "dns_ms", TCPConnect: "connect_ms"},
		"certificate": {CertificateDaysLeft: "days_left", CertificateChain: "chain_days_left", CertificateKeyBits: "key_bits",
			CertificateTLS: "tls_version", CertificateLookup: "dns_ms", CertificateConnect: "connect_ms", CertificateShake: "tls_ms",
			CertificateStapled: "ocsp_stapled"},
		"dns":       {DNSTotal: "total_ms", DNSAnswers: "answers", DNSTTL: "ttl_s"},
		"report-in": {ReportInSince: "since_last_s", 1: "value_1", 2: "value_2", 3: "value_3", 4: "value_4"},
		"derived":   {DerivedValue: "value", DerivedSources: "sources"},
	} {
		k, known := KindNamed(kind)
		if !known || len(places) != len(k.Measures) {
			t.Errorf("%s has %d measures and %d places", kind, len(k.Measures), len(places))
			continue
		}
		for at, name := range places {
			if k.Index(name) != at {
				t.Errorf("%s of %s is at %d, not %d", name, kind, k.Index(name), at)
			}
		}
	}
	if len(Kinds) != 9 {
		t.Errorf("%d kinds", len(Kinds))
	}
}
