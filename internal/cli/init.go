package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nightdrill/internal/project"
)

func initCommand(dir *string) *cobra.Command {
	var language string
	var kinds []string
	c := &cobra.Command{
		Use:   "init [-- COMMAND ...]",
		Short: "Create a project around the function here, or around a small new one",
		Long: `Init writes a commented nightdrill.yaml, a payload for each kind of source and a
drill: around the command that is given after --, else around the function that
is found in the folder, else around a small new one. It never overwrites a file.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 && cmd.ArgsLenAtDash() != 0 {
				return fmt.Errorf("init takes no arguments except a command after --, got %q", args[0])
			}
			return begin(cmd.Context(), cmd.OutOrStdout(), *dir, language, args, kinds)
		},
	}
	c.Flags().StringVar(&language, "lang", "", "python, node, go or java")
	c.Flags().StringSliceVar(&kinds, "sources", []string{"http"},
		"kinds of sources to create: "+strings.Join(project.Kinds, ", "))
	return c
}

func begin(ctx context.Context, out io.Writer, dir, language string, command, kinds []string) error {
	path, err := filepath.Abs(dir)
	if err != nil {
		return wrong(err)
	}
	b, err := project.Begin(path, language, command, kinds)
	if err != nil {
		return wrong(err)
	}
	if err := b.Lay(path); err != nil {
		return wrong(err)
	}
	fmt.Fprintf(out, "A project %s.\n", b)
	for _, f := range b.Files() {
		fmt.Fprintf(out, "  %s\n", f)
	}
	if len(b.Others) > 0 {
		fmt.Fprintf(out, "Also found: %s.\n", strings.Join(b.Others, ", "))
	}
	l, err := project.Load(ctx, dir)
	if err == nil {
		err = l.Startable()
	}
	if err != nil {
		return fmt.Errorf("the files are written, but are not ready to use: %w", err)
	}
	s := &l.Sources[0]
	first := "next" // of a schedule, which needs no payload
	if len(l.Sets) > 0 {
		first = l.Sets[0].Name
	}
	fmt.Fprintf(out, "Next: nightdrill opens it; nightdrill fire %s %s sends its first event.\n", s.Name, first)
	return nil
}
