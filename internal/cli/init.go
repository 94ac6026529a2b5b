package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
)

func initCommand(dir *string) *cobra.Command {
	var language string
	var kinds, functions []string
	c := &cobra.Command{
		Use:   "init [-- COMMAND ...]",
		Short: "Create a project around the function here, or around a small new one",
		Long: `Init writes a commented nightdrill.yaml, a payload for each kind of source and a
drill: around the command that is given after --, else around the function that
is found in the folder, else around a small new one. It finds servers, by their files, in
Cargo.toml, cmd/*, Procfile, package.json and Makefile, and handlers, plain functions in
Python, JavaScript, Go or Java. Where there are several, init lists them with the reason
and writes nothing until --functions says which. It runs nothing and never overwrites a file.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 && cmd.ArgsLenAtDash() != 0 {
				return fmt.Errorf("init takes no arguments except a command after --, got %q", args[0])
			}
			return begin(cmd.Context(), cmd.OutOrStdout(), *dir, language, args, kinds, functions)
		},
	}
	c.Flags().StringVar(&language, "lang", "", "python, node, go or java")
	c.Flags().StringSliceVar(&functions, "functions", nil, "what is found, by name or FILE:NAME, or all")
	c.Flags().StringSliceVar(&kinds, "sources", []string{"http"},
		"kinds of sources to create: "+strings.Join(project.Kinds, ", "))
	return c
}

func begin(ctx context.Context, out io.Writer, dir, language string, command, kinds, functions []string) error {
	path, err := filepath.Abs(dir)
	if err != nil {
		return wrong(err)
	}
	if len(functions) > 0 && len(command) > 0 {
		return wrong(errors.New("--functions and a command after -- exclude each other"))
	}
	var b *project.Beginning
	if len(functions) > 0 {
		b, err = project.Choose(project.Everything(path), functions, kinds)
	} else {
		b, err = project.Begin(path, language, command, kinds)
	}
	if err != nil {
		return wrong(err)
	}
	if b.Choice {
		listCandidates(out, b)
		return wrong(errors.New("several functions were found; say which with --functions, such as " +
			"nightdrill init --functions all; nothing was written"))
	}
	if err := b.Lay(path); err != nil {
		return wrong(err)
	}
	fmt.Fprintf(out, "A project %s.\n", text.Harmless(b.String()))
	listCandidates(out, b)
	for _, f := range b.Files() {
		fmt.Fprintf(out, "  %s\n", f)
	}
	if len(b.Others) > 0 {
		fmt.Fprintf(out, "Also found: %s.\n", text.Harmless(strings.Join(b.Others, ", ")))
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

// listCandidates prints the handlers that a project is or could be around, and why.
func listCandidates(out io.Writer, b *project.Beginning) {
	wide := 0
	for i := range b.Handlers {
		wide = max(wide, len(b.Handlers[i].Handler()))
	}
	for i := range b.Handlers {
		c := &b.Handlers[i]
		what, takes := "handler: ", "takes: "+c.Takes.String()
		if len(c.Start) > 0 {
			what, takes = "start:   ", ""
		}
		fmt.Fprintf(out, "  %s%-*s  %-15s  %s\n", what, wide, text.Harmless(c.Handler()), takes, text.Harmless(c.Why))
	}
}
