// Command vornix builds, packs, tries and deploys mods. See the README.
package main

import (
	"os"

	"vornix/internal/cli"
)

// atEnd is empty but where tests build something in: see breakage.go.
var atEnd = func() {}

func main() {
	code := cli.Main(os.Args[1:])
	atEnd()
	os.Exit(code)
}
