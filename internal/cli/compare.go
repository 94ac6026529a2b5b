package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/store"
)

func compareCommand(dir *string) *cobra.Command {
	var variants, limits, against []string
	var cold, warm int
	var source, set, to string
	var early bool
	c := &cobra.Command{
		Use:   "compare FUNCTION | RUN [RUN] | DRILL --limit … --against …",
		Short: "Compare variants of a function, two runs, or one drill under two limits",
		Long: `Compare puts two or more sides side by side and prints which differences are more
than noise.

compare FUNCTION starts each variant of a function --cold times, and sends each --warm
events, in turns, so that other load on the machine affects all alike. --variants
selects some of them (the function itself goes by its own name); the default is all.

compare RUN RUN compares two earlier runs, function by function; compare RUN compares
the variants among which a wire of that run divided its events (shares).

compare DRILL --limit quote.max=2 --against quote.max=8 runs a drill twice, with the
same events, and compares the two runs.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				return withRuns(cmd.Context(), *dir, func(s *store.Store) error {
					return compareRuns(cmd, s, args[0], args[1], to)
				})
			}
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			if d.FunctionNamed(args[0]) < 0 && d.DrillNamed(args[0]) == nil {
				if info, err := d.Runs.Find(args[0]); err == nil {
					return compareDivided(cmd, d.Runs, info.ID, to)
				}
			}
			if len(limits)+len(against) > 0 {
				return compareLimits(cmd, d, args[0], limits, against, to)
			}
			return compareVariants(cmd, d, args[0], variants, cold, warm, early, source, set, to)
		},
	}
	f := c.Flags()
	f.StringSliceVar(&variants, "variants", nil, "variants to compare, such as quote,node,small")
	f.IntVar(&cold, "cold", 30, "cold starts of each variant")
	f.IntVar(&warm, "warm", 500, "warm events of each variant")
	f.BoolVar(&early, "early", false, "end the cold starts where the verdict on them is clear; all verdicts "+
		"together stay "+
		"wrong in at most 5 % of comparisons of what is alike")
	f.StringVar(&source, "source", "", "the source of the events")
	f.StringVar(&set, "payloads", "", "the payload set")
	f.StringArrayVar(&limits, "limit", nil, "a limit of the first side, such as quote.max=2; may be repeated")
	f.StringArrayVar(&against, "against", nil, "a limit of the second side; may be repeated")
	f.StringVar(&to, "json", "", "write the comparison as JSON to a file (- for standard output, instead of the text)")
	return c
}

func compareVariants(cmd *cobra.Command, d *session.Workspace, function string, variants []string, cold, warm int,
	early bool, source, set, to string) error {
	switch {
	case cold < 1 || cold > 10_000:
		return wrong(fmt.Errorf("--cold must be from 1 to 10000, got %d", cold))
	case warm < 0 || warm > 1_000_000:
		return wrong(fmt.Errorf("--warm must be from 0 to 1000000, got %d", warm))
	}
	if d.FunctionNamed(function) < 0 && d.DrillNamed(function) != nil {
		return wrong(fmt.Errorf("%s is a drill: give the two sides their limits, such as compare %s --limit "+
			"quote.max=2 --against quote.max=8", function, function))
	}
	drill, err := d.VariantDrill(function, variants, cold, warm, early, source, set)
	if err != nil {
		return wrong(err)
	}
	r, err := carryOut(cmd, d, drill, nil)
	if err != nil {
		return err
	}
	run := r.Snapshot()
	all := kept.CompareVariants(run)
	if err := writeComparison(cmd, all, to); err != nil {
		return err
	}
	if len(all) == 0 {
		return could(fmt.Errorf("fewer than two variants replied; the run is kept as %s", run.ID))
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: kept as run %s\n", run.ID)
	return nil
}

// compareDivided compares the variants among which a run divided its events.
func compareDivided(cmd *cobra.Command, runs *store.Store, id, to string) error {
	run, err := runs.Load(id)
	if err != nil {
		return could(err)
	}
	all := kept.CompareVariants(run)
	if len(all) == 0 {
		return could(fmt.Errorf("run %s has no two variants of a function that replied; name a second run, or divide "+
			"a wire: shares: {quote: 90, quote@small: 10}", id))
	}
	return writeComparison(cmd, all, to)
}

// compareLimits carries a drill out under two limits.
func compareLimits(cmd *cobra.Command, d *session.Workspace, name string, limits, against []string, to string) error {
	drill, err := d.Drill(name)
	if err != nil {
		return wrong(err)
	}
	var infos [2]store.Info
	for i, changes := range [][]string{limits, against} {
		of := drill
		if len(changes) > 0 {
			if of, err = project.ChangeLimits(d.Project, drill, changes); err != nil {
				return wrong(err)
			}
		}
		label := strings.Join(changes, " ")
		if label == "" {
			label = "as the drill says"
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: %s, %s\n", drill.Name, label)
		r, err := carryOut(cmd, d, of, nil)
		if err != nil {
			return err
		}
		_ = d.Runs.Note(r.ID, label) // for whoever reads the list; the comparison does without
		if infos[i], err = d.Runs.Find(r.ID); err != nil {
			return could(err)
		}
		infos[i].Name = label
	}
	all, err := kept.Compared(d.Runs, infos[0], infos[1])
	if err != nil {
		return could(err)
	}
	return writeComparison(cmd, all, to)
}

func compareRuns(cmd *cobra.Command, s *store.Store, a, b, to string) error {
	var infos [2]store.Info
	for i, name := range []string{a, b} {
		var err error
		if infos[i], err = s.Find(name); err != nil {
			return wrong(err)
		}
	}
	all, err := kept.Compared(s, infos[0], infos[1])
	if err != nil {
		return wrong(err)
	}
	return writeComparison(cmd, all, to)
}

// writeComparison writes comparisons to where they were asked for.
func writeComparison(cmd *cobra.Command, all []*measure.Comparison, to string) error {
	if to != "" {
		content, err := json.MarshalIndent(map[string]any{"format": "nightdrill.comparison/1", "comparisons": all}, "",
			"  ")
		if err != nil {
			return could(err)
		}
		if err := writeFile(cmd, to, append(content, '\n')); err != nil {
			return could(err)
		}
		if to == "-" {
			return nil
		}
	}
	for i, c := range all {
		if i > 0 {
			fmt.Fprintln(cmd.OutOrStdout())
		}
		if err := comparisonText(cmd.OutOrStdout(), c); err != nil {
			return could(err)
		}
	}
	return nil
}

// comparisonText writes a comparison as text.
func comparisonText(w io.Writer, c *measure.Comparison) error {
	b := &strings.Builder{}
	fmt.Fprintf(b, "%s\n", c.Title)
	for i := range c.Sides {
		if s := &c.Sides[i]; s.Run != c.Sides[0].Run || i == 0 && len(c.Sides) > 1 && c.Sides[1].Run != s.Run {
			fmt.Fprintf(b, "  %s is run %s\n", s.Label, s.Run)
		}
	}
	for _, s := range c.Sentences {
		fmt.Fprintf(b, "  %s\n", s)
	}
	t := tabwriter.NewWriter(b, 0, 8, 2, ' ', 0)
	fmt.Fprintf(t, "\n\t")
	for i := range c.Sides {
		fmt.Fprintf(t, "\t%s", c.Sides[i].Label)
		if i > 0 {
			fmt.Fprintf(t, "\tagainst %s", c.Sides[0].Label)
		}
	}
	fmt.Fprintln(t)
	for _, r := range report.Rows(c) {
		fmt.Fprintf(t, "%s\t%s", r.What, r.Unit)
		for i := range c.Sides {
			fmt.Fprintf(t, "\t%s", r.Text(i))
			if i > 0 {
				fmt.Fprintf(t, "\t%s", report.ContrastMark(r.Contrasts[i-1]))
			}
		}
		fmt.Fprintln(t)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(b,
		"\nThe ratio of medians has its 95 %% interval. A factor is printed where the difference is more than noise.\n")
	if len(c.Replies) > 0 {
		fmt.Fprintf(b, "\ndifferent replies from %s\n", c.Sides[0].Label)
	}
	for _, x := range c.Replies {
		fmt.Fprintf(b, "  %s: %s: %s\n", c.Sides[x.Side].Label, x.Event, x.Words)
	}
	printWarnings(b, c.Warnings)
	_, err := io.WriteString(w, b.String())
	return err
}
