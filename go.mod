module pilotrix

go 1.26.0

require (
	github.com/creack/pty v1.1.24
	github.com/expr-lang/expr v1.17.8
	github.com/goccy/go-yaml v1.19.2
	github.com/mattn/go-runewidth v0.0.31
	github.com/stretchr/testify v1.12.1
	go.bug.st/serial v1.8.0
	golang.org/x/sys v0.49.0
	modernc.org/sqlite v1.62.0
	pgregory.net/rapid v1.3.0
)

require (
	github.com/clipperhouse/uax29/v2 v2.2.0 // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	modernc.org/libc v1.80.1 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)
