module pilotrix

go 1.26.0

require (
	github.com/creack/pty v1.1.24
	github.com/stretchr/testify v1.12.1
	go.bug.st/serial v1.8.0
	golang.org/x/sys v0.49.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/mattn/go-runewidth v0.0.31 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
)
