package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/store"
)

// logsCommand prints the log that was kept with a run.
func logsCommand(dir *string) *cobra.Command {
	var of, search string
	var asJSON bool
	c := &cobra.Command{
		Use:   "logs [RUN] [--of NAME] [--search TEXT]",
		Short: "Print what the functions wrote during a run (its name, the beginning of it, or last)",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withRun(cmd.Context(), *dir, args, func(s *store.Store, info store.Info) error {
				lines, err := s.Lines(info.ID)
				if err != nil {
					return could(err)
				}
				if len(lines) == 0 {
					return could(fmt.Errorf("run %s has no log: its functions wrote nothing, or it was made by an "+
						"earlier "+
						"version", info.ID))
				}
				if of != "" && !slices.ContainsFunc(lines, func(l record.Line) bool { return isOf(&l, of) }) {
					return wrong(fmt.Errorf("--of %s: no such function or instance in this log; there are %s", of,
						text.List(writers(lines))))
				}
				lines = slices.DeleteFunc(lines, func(l record.Line) bool {
					return of != "" && !isOf(&l, of) || !strings.Contains(strings.ToLower(l.Text),
						strings.ToLower(search))
				})
				if asJSON {
					return json.NewEncoder(cmd.OutOrStdout()).Encode(map[string]any{"format": "nightdrill.log/1",
						"run": info.ID, "lines": lines})
				}
				return export.Log(cmd.OutOrStdout(), lines)
			})
		},
	}
	c.Flags().StringVar(&of, "of", "", "only of this function, or of this instance, such as quote-3")
	c.Flags().StringVar(&search, "search", "", "only lines that contain this text, in upper or lower case")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON; times in ns since the run began")
	return c
}

// isOf reports whether a line is of a function or of an instance.
func isOf(l *record.Line, name string) bool {
	return l.Instance == name || functionOf(l.Instance) == name
}

// functionOf returns the name of an instance without its number.
func functionOf(instance string) string {
	if i := strings.LastIndexByte(instance, '-'); i > 0 && strings.Trim(instance[i+1:], "0123456789") == "" {
		return instance[:i]
	}
	return instance
}

// writers returns the functions that lines are of, each once.
func writers(lines []record.Line) (out []string) {
	for i := range lines {
		if name := functionOf(lines[i].Instance); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
