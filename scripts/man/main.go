// Man writes the manual pages of the program to a folder, from its commands.
package main

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"nightdrill.dev/internal/cli"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "man:", err)
		os.Exit(1)
	}
}

// indent has the examples in the texts of commands stand as they are: they are indented by two, and by four they are
// code.
func indent(c *cobra.Command) {
	c.Long = strings.ReplaceAll(c.Long, "\n  ", "\n    ")
	for _, sub := range c.Commands() {
		indent(sub)
	}
}

func run(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("expected the folder to write to, got %q", args)
	}
	if err := os.MkdirAll(args[0], 0o755); err != nil {
		return err
	}
	// the same bytes from the same sources (https://reproducible-builds.org/specs/source-date-epoch)
	seconds, _ := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64)
	date := time.Unix(seconds, 0).UTC()
	root := cli.Command()
	root.DisableAutoGenTag = true
	indent(root)
	return doc.GenManTree(root, &doc.GenManHeader{Title: "NIGHTDRILL", Section: "1", Source: "Night Drill",
		Manual: "Night Drill", Date: &date}, args[0])
}
