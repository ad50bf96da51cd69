// Command vornix builds, packs, tries and deploys mods. See the README.
package main

import (
	"os"

	"vornix/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
