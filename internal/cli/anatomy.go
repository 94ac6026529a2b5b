package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session"
)

func anatomyCommand(dir *string) *cobra.Command {
	var to, against, outDir string
	var dropped bool
	c := &cobra.Command{
		Use:   "anatomy FUNCTION[@VARIANT]",
		Short: "Take the start of a function apart: what the first slow second is spent on",
		Long: `Anatomy starts a function several times: first without looking, for the truth, then once
beside the clock (where the time goes: running, waiting for a processor, disk, network,
sleeping) and once in which its runtime reports what it loads. It prints what cost most
in sentences, the shares of the start, what it used, and the imports. A start that takes more than 1.3
times as long as the untraced ones shows no times. None of these starts is part of a run.

--against compares it with the start of another function or variant, or with the JSON of an
earlier report: the starts without looking decide whether they differ, the others by what.
--dropped starts it as on a host that was busy with other things: its files are not cached.
--out writes the report, its drawing (SVG, PDF) and the imports (pprof, folded stacks).

Budgets of the project's drills on this start are judged, such as
"function quote start imports < 300ms", "… start network == 0" and "… start files < 500".`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			if d.Whole.FunctionNamed(args[0]) < 0 {
				_, err := d.Anatomy(cmd.Context(), args[0], false, nil)
				return wrong(err)
			}
			r, err := d.Anatomy(cmd.Context(), args[0], dropped, func(step string) {
				fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: %s\n", step)
			})
			if err != nil {
				return could(err)
			}
			if to != "" {
				content, err := json.MarshalIndent(r, "", "  ")
				if err != nil {
					return err
				}
				if to == "-" {
					if _, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", content); err != nil {
						return err
					}
					return startBudgets(io.Discard, d.Project, r)
				}
				if err := writeFile(cmd, to, append(content, '\n')); err != nil {
					return could(err)
				}
			}
			if outDir != "" {
				words, err := export.Anatomy(outDir, r)
				if err != nil {
					return could(err)
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: written to %s\n", words)
			}
			printAnatomy(cmd.OutOrStdout(), r)
			if against != "" {
				if err := compareStarts(cmd, d, r, against); err != nil {
					return err
				}
			}
			return startBudgets(cmd.OutOrStdout(), d.Project, r)
		},
	}
	c.Flags().BoolVar(&dropped, "dropped", false, "drop the function's files from the page cache before each start")
	c.Flags().StringVar(&against, "against", "", "another function or variant, or a report's JSON, to compare with")
	c.Flags().StringVar(&outDir, "out", "", "write the report and its drawings to a folder")
	c.Flags().
		StringVar(&to, "json", "", "write the report as JSON to a file (- for standard output, instead of the text)")
	return c
}

// startBudgets judges the budgets of the project's drills on a start, and returns an error where one is missed.
func startBudgets(w io.Writer, p *plan.Project, r *anatomy.Report) error {
	var seen []string
	missed := 0
	for i := range p.Drills {
		for _, budget := range p.Drills[i].Budgets {
			b, err := measure.ParseBudget(budget.Text)
			if err != nil || b.Kind != "anatomy" || b.Name != r.Function || slices.Contains(seen, budget.Text) {
				continue
			}
			if seen = append(seen, budget.Text); len(seen) == 1 {
				fmt.Fprintln(w, "\nbudgets")
			}
			switch v, ok := r.Figure(b.Figure); {
			case !ok:
				fmt.Fprintf(w, "  no verdict  %s  (it was not seen)\n", text.Harmless(b.Text))
			case b.Holds(v):
				fmt.Fprintf(w, "  met         %s  (%.4g)\n", text.Harmless(b.Text), v)
			default:
				fmt.Fprintf(w, "  missed      %s  (%.4g)\n", text.Harmless(b.Text), v)
				missed++
			}
		}
	}
	if missed > 0 {
		return coded{failed, fmt.Errorf("%s on the start of %s missed", text.Plural(missed, "budget"), r.Function)}
	}
	return nil
}

// compareStarts compares a start with another one.
func compareStarts(cmd *cobra.Command, d *session.Workspace, r *anatomy.Report, against string) error {
	var other *anatomy.Side
	if d.Whole.FunctionNamed(against) >= 0 {
		second, err := d.Anatomy(cmd.Context(), against, false, func(step string) {
			fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: %s: %s\n", against, step)
		})
		if err != nil {
			return could(err)
		}
		other = second.Side(against)
	} else {
		const largest = 64 << 20
		content, err := project.ReadFile(against, largest)
		if err != nil {
			return wrong(fmt.Errorf("%s is neither a function nor a file that can be read: %w", against, err))
		}
		if other, err = anatomy.ReadSide(filepath.Base(against), content); err != nil {
			return wrong(fmt.Errorf("%s: %w", against, err))
		}
	}
	printDifference(cmd.OutOrStdout(), anatomy.Compare(r.Side(r.Function), other), r.Function, other.Label)
	return nil
}

func printDifference(w io.Writer, x *anatomy.Difference, before, after string) {
	fmt.Fprintf(w, "\n%s\n", text.Harmless(x.Verdict))
	const most = 12
	for _, part := range []struct {
		title string
		all   []anatomy.Change
	}{{"shares, ms", x.Shares}, {"what changed, ms", x.Parts}, {"imports of their own, ms", x.Imports}} {
		if len(part.all) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n  %-46s %10s %10s\n", part.title, clipped(before, 10), clipped(after, 10))
		for i, c := range part.all {
			if i == most {
				fmt.Fprintf(w, "  and %d more\n", len(part.all)-most)
				break
			}
			word := ""
			switch {
			case c.Before == 0 && c.After >= 0.1:
				word = "  added"
			case c.After == 0 && c.Before >= 0.1:
				word = "  gone"
			}
			fmt.Fprintf(w, "  %-46s %10.1f %10.1f%s\n", clipped(c.What, 46), c.Before, c.After, word)
		}
	}
}

// clipped returns a name that is at most so wide.
func clipped(name string, most int) string { return ansi.Truncate(text.Harmless(name), most, "…") }

func printAnatomy(w io.Writer, r *anatomy.Report) {
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f", float64(d)/float64(time.Millisecond)) }
	fmt.Fprintf(w, "%s %s: a start takes %s ms from exec to ready (median of %d:", r.Function, r.Version,
		ms(r.Median()), len(r.Untraced))
	for _, d := range r.Untraced {
		fmt.Fprintf(w, " %s", ms(d))
	}
	fmt.Fprintln(w, ")")
	for _, s := range r.Sentences() {
		fmt.Fprintf(w, "  %s\n", text.Harmless(s))
	}
	if a := r.Clock; a != nil && r.Trusts(r.ClockTook) {
		fmt.Fprintf(w, "\nwhere the time went, ms; a start of its own of %s ms\n", ms(r.ClockTook))
		for c, d := range a.Shares {
			if d > 0 {
				fmt.Fprintf(w, "  %-24s %8s  %4.0f %%\n", anatomy.Words[c], ms(d), 100*float64(d)/float64(a.Total))
			}
		}
		for _, p := range a.Parts {
			if p.On != "" && p.Took*50 >= a.Total {
				fmt.Fprintf(w, "    %-22s %8s  %s\n", anatomy.Words[p.Class], ms(p.Took), text.Harmless(p.On))
			}
		}
	}
	if n := r.Names; n != nil {
		fmt.Fprintf(w, "\nwhat it used, counted in a start of its own\n  %s opened, %s in vain\n", text.Plural(n.Opened,
			"file"), text.Plural(n.Failed, "look-up"))
		const most = 5
		for i, d := range n.Directories {
			if i == most || d.N < 10 {
				break
			}
			fmt.Fprintf(w, "    %5d in vain in %s\n", d.N, text.Harmless(d.Name))
		}
		for _, a := range n.Addresses {
			fmt.Fprintf(w, "  connects to %s\n", text.Harmless(a.Address))
		}
		if len(n.Commands) > 0 {
			fmt.Fprintf(w, "  runs %s\n", text.Harmless(strings.Join(n.Commands, ", ")))
		}
		if len(n.Libraries) > 0 {
			fmt.Fprintf(w, "  loads %s\n", text.Plural(len(n.Libraries), "library file"))
		}
	}
	if len(r.Imports) > 0 {
		fmt.Fprintf(w, "\nwhat %s loaded, ms; a start of its own of %s ms\n", r.Language, ms(r.TreeTook))
		if r.Trusts(r.TreeTook) {
			fmt.Fprintf(w, "  %8s %8s\n", "whole", "own")
		}
		const most = 12
		for n, i := range anatomy.Largest(r.Imports, most+1) {
			x := &r.Imports[i]
			if n == most {
				fmt.Fprintf(w, "  of %s\n", text.Plural(len(r.Imports), "module"))
				break
			}
			whole, own := "–", "–"
			if r.Trusts(r.TreeTook) {
				whole, own = ms(x.Total), ms(x.Own)
			}
			fmt.Fprintf(w, "  %8s %8s  %s\n", whole, own, text.Harmless(x.Name))
		}
	}
	if len(r.Unavailable) > 0 {
		fmt.Fprintln(w, "\nnot seen")
		for _, u := range r.Unavailable {
			fmt.Fprintf(w, "  %s\n", text.Harmless(u))
		}
	}
}
