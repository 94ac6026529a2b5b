package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill/internal/core/anatomy"
	"nightdrill/internal/core/text"
)

func anatomyCommand(dir *string) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use:   "anatomy FUNCTION[@VARIANT]",
		Short: "Take the start of a function apart: what the first slow second is spent on",
		Long: `Anatomy starts a function several times: first without looking, for the truth, then once
beside the clock (where the time goes: running, waiting for a processor, disk, network,
sleeping) and once in which its runtime reports what it loads. It prints what cost most
in sentences, the shares of the start, and the imports. A start that takes more than 1.3
times as long as the untraced ones shows no times. None of these starts is part of a run.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			if d.Whole.FunctionNamed(args[0]) < 0 {
				_, err := d.Anatomy(cmd.Context(), args[0], nil)
				return wrong(err)
			}
			r, err := d.Anatomy(cmd.Context(), args[0], func(step string) {
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
					_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", content)
					return err
				}
				if err := writeFile(cmd, to, append(content, '\n')); err != nil {
					return could(err)
				}
			}
			printAnatomy(cmd.OutOrStdout(), r)
			return nil
		},
	}
	c.Flags().StringVar(&to, "json", "", "write the report as JSON to a file (- for standard output, instead of the text)")
	return c
}

func printAnatomy(w io.Writer, r *anatomy.Report) {
	ms := func(d time.Duration) string { return fmt.Sprintf("%.1f", float64(d)/float64(time.Millisecond)) }
	fmt.Fprintf(w, "%s %s: a start takes %s ms from exec to ready (median of %d:", r.Function, r.Version, ms(r.Median()),
		len(r.Untraced))
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
