// Command openrelay is the service, its command-line client and the stand-ins in one binary.
package main

import (
	"os"

	"openrelay/internal/cli"
)

// version is set by the build.
var version = "development"

func main() { os.Exit(cli.Main(version)) }
