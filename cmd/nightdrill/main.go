// Nightdrill drills functions on this machine with the events they are made for.
package main

import (
	"os"

	"nightdrill.dev/internal/cli"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], os.Stdout, os.Stderr))
}
