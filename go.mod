module kestite

go 1.26.0

require (
	github.com/spf13/cobra v1.10.2
	github.com/teambition/rrule-go v1.8.2
	golang.org/x/term v0.48.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/spf13/pflag v1.0.10 // indirect
	golang.org/x/sys v0.50.0 // indirect
)
