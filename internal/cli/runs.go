package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/store/shared"
)

func runsCommand(dir *string) *cobra.Command {
	c := &cobra.Command{
		Use:   "runs",
		Short: "Manage the runs that were kept",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := noArguments(cmd, args); err != nil {
				return err
			}
			return errors.New("missing subcommand: list, show, logs, export, replay, name, note, pin, delete, trim, " +
				"rescue, push, pull or trend")
		},
	}
	var asJSON, ofTeam bool
	list := &cobra.Command{
		Use:   "list",
		Short: "List the runs, the newest first",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withList(cmd.Context(), *dir, ofTeam, func(all []store.Info) error {
				return listRuns(cmd, all, asJSON, ofTeam)
			})
		},
	}
	list.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	list.Flags().BoolVar(&ofTeam, "shared", false, "those in the team's PostgreSQL")
	var to string
	var failed bool
	show := &cobra.Command{
		Use:   "show [RUN] [--failed]",
		Short: "Print the findings of a run (its name, the beginning of it, or last)",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withRun(cmd.Context(), *dir, args, func(s *store.Store, info store.Info) error {
				if failed {
					return showFailed(cmd, s, info.ID, to)
				}
				page, err := s.Page(info.ID)
				if err != nil {
					return could(err)
				}
				if err := write(cmd, page, to); err != nil {
					return could(err)
				}
				return nil
			})
		},
	}
	jsonFlag(show, &to)
	show.Flags().Lookup("json").NoOptDefVal = "-"
	show.Flags().BoolVar(&failed, "failed", false, "list only the deliveries that did not succeed")
	c.AddCommand(list, show, logsCommand(dir), exportCommand(dir), replayCommand(dir), nameCommand(dir),
		noteCommand(dir),
		pinCommand(dir), deleteCommand(dir), trimCommand(dir), rescueCommand(dir), pushCommand(dir), pullCommand(dir),
		trendCommand(dir))
	return c
}

// showFailed lists every delivery of a run that did not end well.
func showFailed(cmd *cobra.Command, s *store.Store, id, to string) error {
	r, err := s.Load(id)
	if err != nil {
		return could(err)
	}
	all, unexpected := r.Failures(), r.WhyUnexpected()
	if to != "" {
		if all == nil {
			all = []record.Failure{}
		}
		content, err := json.MarshalIndent(map[string]any{"format": "nightdrill.failures/1", "run": id,
			"failures": all},
			"",
			"  ")
		if err != nil {
			return could(err)
		}
		if err := writeFile(cmd, to, append(content, '\n')); err != nil {
			return could(err)
		}
		return nil
	}
	if len(all) == 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "Every delivery of run %s succeeded.\n", id)
		return nil
	}
	t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 8, 2, ' ', 0)
	fmt.Fprintf(t, "due\tsource\tfunction\toutcome\tstatus\tattempts\tpayload\twhat\twhy\tlast log line\n")
	for i := range all {
		f := &all[i]
		outcome, status, why := f.Outcome, "–", f.Result
		if f.Unexpected {
			why = unexpected
		}
		if f.Status > 0 {
			status = fmt.Sprint(f.Status)
		}
		fmt.Fprintf(t, "%.3f s\t%s\t%s\t%s\t%s\t%d\t%s\t%s\t%s\t%s\n", f.DueSeconds, f.Source, f.Function, outcome,
			status,
			f.Attempts, f.Payload, text.Harmless(f.What), why, text.Harmless(f.LastLine))
	}
	if err := t.Flush(); err != nil {
		return could(err)
	}
	return nil
}

// onRun does something with a run that is named.
func onRun(ctx context.Context, dir, name string, do func(*store.Store, store.Info) error) error {
	return withRuns(ctx, dir, func(s *store.Store) error {
		info, err := s.Find(name)
		if err != nil {
			return wrong(err)
		}
		if err := do(s, info); err != nil {
			return wrong(err)
		}
		return nil
	})
}

func replayCommand(dir *string) *cobra.Command {
	var o runOptions
	c := &cobra.Command{Use: "replay RUN", Short: "Send the events of a run again, at the same times, to today's " +
		"code, and print what changed", Args: cobra.ExactArgs(1),
		Long: `Replay sends the events of a run again, from the bytes that the run kept, at the same
times and under the same limits and seeds, to the functions as they are today; the
payload files are not needed. Then it prints which events had a different outcome, and
compares times and replies with those of the run.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			info, err := d.Runs.Find(args[0])
			if err != nil {
				return wrong(err)
			}
			before, err := d.Runs.Load(info.ID)
			if err != nil {
				return could(err)
			}
			drill, notes, err := d.ReplayOf(before)
			if err != nil {
				return wrong(err)
			}
			for _, note := range notes {
				fmt.Fprintln(cmd.ErrOrStderr(), "nightdrill: "+note)
			}
			o.after = func(after *record.Run) error {
				out := cmd.OutOrStdout()
				if o.to == "-" {
					out = cmd.ErrOrStderr()
				}
				fmt.Fprintf(out, "\nagainst run %s\n", info.Label(time.Now()))
				for _, line := range report.TurnLines(record.TurnsOf(before, after)) {
					fmt.Fprintln(out, "  "+line)
				}
				all, err := kept.CompareLoaded(d.Runs, before, after, [2]string{"before", "replay"})
				if err != nil {
					fmt.Fprintln(out, "  "+err.Error())
					return nil
				}
				for _, c := range all {
					for _, s := range c.Sentences {
						fmt.Fprintln(out, "  "+c.Title+": "+s)
					}
				}
				return nil
			}
			return runPlanned(cmd, d, drill, o)
		}}
	o.flags(c)
	return c
}

func nameCommand(dir *string) *cobra.Command {
	return &cobra.Command{Use: "name RUN [NAME]", Short: "Name a run, so that it can be found by name and is always " +
		"kept; without NAME, remove the name", Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onRun(cmd.Context(), *dir, args[0], func(s *store.Store, i store.Info) error {
				return s.Name(i.ID, strings.Join(args[1:], ""))
			})
		}}
}

func noteCommand(dir *string) *cobra.Command {
	return &cobra.Command{Use: "note RUN [TEXT]", Short: "Add a note to a run; without TEXT, remove it",
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onRun(cmd.Context(), *dir, args[0], func(s *store.Store, i store.Info) error {
				return s.Note(i.ID, strings.Join(args[1:], ""))
			})
		}}
}

func pinCommand(dir *string) *cobra.Command {
	var off bool
	c := &cobra.Command{Use: "pin RUN", Short: "Always keep a run, whatever the project file's rule for old runs",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onRun(cmd.Context(), *dir, args[0], func(s *store.Store, i store.Info) error {
				return s.Pin(i.ID,
					!off)
			})
		}}
	c.Flags().BoolVar(&off, "off", false, "no longer")
	return c
}

func deleteCommand(dir *string) *cobra.Command {
	var ofTeam bool
	c := &cobra.Command{Use: "delete RUN …", Short: "Delete runs permanently", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if ofTeam {
				return deleteShared(cmd, *dir, args)
			}
			return withRuns(cmd.Context(), *dir, func(s *store.Store) error {
				all, err := named(args, s.Find) // all of them are known before the first is deleted
				if err != nil {
					return err
				}
				for _, i := range all {
					if err := s.Delete(i); err != nil {
						return could(err)
					}
					fmt.Fprintf(cmd.OutOrStdout(), "deleted %s\n", i.ID)
				}
				return nil
			})
		}}
	c.Flags().BoolVar(&ofTeam, "shared", false, "in the team's PostgreSQL, for everybody")
	return c
}

func trimCommand(dir *string) *cobra.Command {
	var dry bool
	c := &cobra.Command{Use: "trim", Short: "Delete the runs that the project file's rule does not keep",
		Args: noArguments,
		Long: `Trim deletes the runs that the rule of the project file does not keep, such as
runs: {keep: 50, for: 30d, size: 500MiB}. The rule is also applied after every run.
Runs that have a name or a pin are always kept.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := project.Load(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			if l.Keep == (plan.Keeping{}) {
				return wrong(errors.New("the project file has no rule for old runs; add one, such as runs: {keep: 50}"))
			}
			return withRuns(cmd.Context(), *dir, func(s *store.Store) error {
				all, err := s.List()
				if err != nil {
					return could(err)
				}
				gone := store.Surplus(all, l.Keep, time.Now())
				what := "would be deleted"
				if !dry {
					what = "deleted"
					if gone, err = s.Trim(l.Keep); err != nil {
						return could(err)
					}
				}
				for _, i := range gone {
					fmt.Fprintf(cmd.OutOrStdout(), "%s %s\n", i.ID, what)
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%d of %d runs %s\n", len(gone), len(all), what)
				return nil
			})
		}}
	c.Flags().BoolVar(&dry, "dry", false, "only print which")
	return c
}

func rescueCommand(dir *string) *cobra.Command {
	return &cobra.Command{Use: "rescue", Short: "Recover what can be read of a damaged store of runs",
		Args: noArguments,
		Long: `Rescue copies what can be read of a damaged store of runs into a new one. The damaged
file is kept beside it; nothing is deleted.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			got, err := store.Rescue(*dir, time.Now())
			if err != nil {
				return could(err)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "recovered %s, of which %d whole; the damaged file is %s\n",
				text.Plural(got.Runs, "run"), got.Whole, got.Damaged)
			if got.Lost != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "could not be recovered: %s\n",
					text.Harmless(strings.Join(got.Lost, ", ")))
			}
			return nil
		}}
}

// withRuns opens the runs of a project; the project file may be wrong meanwhile.
func withRuns(ctx context.Context, dir string, do func(*store.Store) error) error {
	if _, err := os.Stat(store.Path(dir)); errors.Is(err, fs.ErrNotExist) {
		if _, err := project.Load(ctx, dir); errors.Is(err, project.ErrNoProject) {
			return err
		}
		return wrong(errors.New("no runs yet; nightdrill run DRILL makes one"))
	}
	s, err := store.Open(dir)
	if err != nil {
		return could(err)
	}
	defer s.Close()
	return do(s)
}

// withRun opens the store of a project for one of its runs: the one that is named, or the last.
func withRun(ctx context.Context, dir string, args []string, do func(*store.Store, store.Info) error) error {
	return withRuns(ctx, dir, func(s *store.Store) error {
		name := "last"
		if len(args) > 0 {
			name = args[0]
		}
		info, err := s.Find(name)
		if err != nil {
			return wrong(err)
		}
		return do(s, info)
	})
}

// withList lists the runs of a project, those here or those of its team, the newest first.
func withList(ctx context.Context, dir string, ofTeam bool, do func([]store.Info) error) error {
	if ofTeam {
		return withShared(ctx, dir, func(s *shared.Store, l *project.Loaded) error {
			all, err := s.List(ctx, l.Name)
			if err != nil {
				return could(err)
			}
			return do(all)
		})
	}
	return withRuns(ctx, dir, func(s *store.Store) error {
		all, err := s.List()
		if err != nil {
			return could(err)
		}
		return do(all)
	})
}

// printJSON prints a value as JSON.
func printJSON(cmd *cobra.Command, value any) error {
	enc := json.NewEncoder(cmd.OutOrStdout())
	enc.SetIndent("", "  ")
	return enc.Encode(value)
}

// listRuns prints runs; those of a team with the code and the machine that they are of.
func listRuns(cmd *cobra.Command, all []store.Info, asJSON, ofTeam bool) error {
	if asJSON {
		return printJSON(cmd, append([]store.Info{}, all...))
	}
	w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 8, 2, ' ', 0)
	team := func(...string) string { return "" } // the columns of a team's list
	if ofTeam {
		team = func(cells ...string) string { return strings.Join(cells, "\t") + "\t" }
	}
	fmt.Fprintln(w, "run\tdrill\tbegan\tseconds\tevents\tdead-lettered\trejected\tbudgets\tname, note\t"+
		team("branch", "commit", "machine"))
	for _, r := range all {
		arrived, lost, away, budgets := "–", "–", "–", "–"
		if m := r.Headline; m != nil {
			arrived, lost, away = fmt.Sprint(m.Arrived), fmt.Sprint(m.Lost), fmt.Sprint(m.Rejected)
			if m.Held+m.Missed > 0 {
				budgets = fmt.Sprintf("%d of %d met", m.Held, m.Held+m.Missed)
			}
		}
		var words []string
		for _, x := range []struct {
			is   bool
			text string
		}{{!r.Finished, "unfinished"}, {r.Pinned, "pinned"}, {r.Name != "", r.Name}, {r.Note != "", r.Note}} {
			if x.is {
				words = append(words, x.text)
			}
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%.1f\t%s\t%s\t%s\t%s\t%s\t%s\n", r.ID, r.Drill,
			r.Began.Local().Format("2006-01-02 15:04:05"), r.Seconds, arrived, lost, away, budgets,
			strings.Join(words, "  "), team(cmp.Or(r.Branch, "–"), cmp.Or(r.Commit, "–"), cmp.Or(r.Machine, "–")))
	}
	return w.Flush()
}
