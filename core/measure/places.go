package measure

// Places of the measures in the values of each kind, in the order of its Measures.
const (
	// Of what counts round trips: ping, path and UDP echo begin with these.
	TripLoss  = 0 // %
	TripLeast = 1 // ms
	TripMean  = 2
	TripMost  = 3

	PingJitter = 4

	PathHops         = 4
	PathRouteChanged = 5
	PathRoute        = 6

	UDPJitterThere = 4 // ms
	UDPJitterBack  = 5
	UDPThere       = 6
	UDPBack        = 7
	UDPRating      = 8
	UDPMOS         = 9
	UDPReordered   = 10

	HTTPTotal     = 0 // ms, as all to the first byte
	HTTPLookup    = 1
	HTTPConnect   = 2
	HTTPTLS       = 3
	HTTPFirstByte = 4
	HTTPStatus    = 5
	HTTPSize      = 6 // bytes
	HTTPBody      = 7 // ms
	HTTPRedirects = 8
	HTTPDaysLeft  = 9
	HTTPValue     = 10

	TCPLookup  = 0 // ms
	TCPConnect = 1

	CertificateDaysLeft = 0
	CertificateChain    = 1 // days left of the chain's shortest
	CertificateKeyBits  = 2
	CertificateTLS      = 3 // version
	CertificateLookup   = 4 // ms
	CertificateConnect  = 5
	CertificateShake    = 6
	CertificateStapled  = 7

	DNSTotal   = 0 // ms
	DNSAnswers = 1
	DNSTTL     = 2 // s

	ReportInSince = 0 // s

	DerivedValue   = 0
	DerivedSources = 1
)
