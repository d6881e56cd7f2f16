module github.com/illumicode/illumicode

go 1.26.0

require (
	github.com/BurntSushi/toml v1.6.0
	golang.org/x/net v0.62.0
	golang.org/x/text v0.43.0
)
