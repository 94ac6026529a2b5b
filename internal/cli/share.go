package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/core/trend"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/store/shared"
)

// errUnshared is returned where a project shares no runs.
var errUnshared = errors.New("the project file does not say where runs are shared; add, for example, runs: {share: " +
	"{url: \"postgres://ferries@db.example/drills\", password: {env: SHARED_RUNS_PASSWORD}}}")

// withShared connects to the shared runs of a project.
func withShared(ctx context.Context, dir string, do func(s *shared.Store, p *project.Loaded) error) error {
	l, err := project.Load(ctx, dir)
	if err != nil {
		return err
	}
	if l.Share == nil {
		return wrong(errUnshared)
	}
	s, err := shared.Open(ctx, l.Share)
	if err != nil {
		return could(err)
	}
	defer s.Close()
	return do(s, l)
}

func pushCommand(dir *string) *cobra.Command {
	var parts store.Parts
	var drill string
	c := &cobra.Command{Use: "push [RUN …]", Short: "Copy runs to the team's PostgreSQL",
		Long: `Push copies runs to the database that the project file names under runs: {share: …}:
those that are named, or all finished ones that are not there yet. Figures and records go
along; the bytes of events and replies, and what functions wrote, only where asked.
Each run arrives whole or not at all, so a push that was cut off can be repeated.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return withRuns(cmd.Context(), *dir, func(from *store.Store) error {
				all, err := from.List()
				if err != nil {
					return could(err)
				}
				if len(args) > 0 {
					if all, err = named(args, from.Find); err != nil {
						return err
					}
					for _, i := range all {
						if i.UnderWay(time.Now()) {
							return wrong(fmt.Errorf("run %s is still in progress", i.ID))
						}
					}
				}
				return withShared(cmd.Context(), *dir, func(to *shared.Store, l *project.Loaded) error {
					have, err := to.List(cmd.Context(), l.Name)
					if err != nil {
						return could(err)
					}
					all = slices.DeleteFunc(all, func(i store.Info) bool {
						return len(args) == 0 && (!i.Finished || drill != "" && i.Drill != drill || i.Project != l.Name)
					})
					return carry(cmd, all, have, "pushed", "to "+to.At(), func(i store.Info) error {
						p, err := from.Pack(i, parts)
						if err != nil {
							return err
						}
						return to.Push(cmd.Context(), p)
					})
				})
			})
		}}
	c.Flags().BoolVar(&parts.Payloads, "payloads", false, "with the bytes of events and replies")
	c.Flags().BoolVar(&parts.Logs, "logs", false, "with what functions wrote")
	c.Flags().StringVar(&drill, "drill", "", "only runs of this drill")
	return c
}

func pullCommand(dir *string) *cobra.Command {
	var drill, branch string
	var last int
	c := &cobra.Command{Use: "pull [RUN …]", Short: "Copy runs from the team's PostgreSQL",
		Long: `Pull copies runs of this project from the database that the project file names under
runs: {share: …}: those that are named, or all that are not here yet.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return withShared(cmd.Context(), *dir, func(from *shared.Store, l *project.Loaded) error {
				all, err := from.List(cmd.Context(), l.Name)
				if err != nil {
					return could(err)
				}
				if len(args) > 0 {
					if all, err = named(args, among(all)); err != nil {
						return err
					}
				}
				all = slices.DeleteFunc(all, func(i store.Info) bool {
					return len(args) == 0 && (drill != "" && i.Drill != drill || branch != "" && i.Branch != branch)
				})
				if last > 0 && len(all) > last {
					all = all[:last]
				}
				to, err := store.Open(*dir)
				if err != nil {
					return could(err)
				}
				defer to.Close()
				have, err := to.List()
				if err != nil {
					return could(err)
				}
				return carry(cmd, all, have, "pulled", "from "+from.At(), func(i store.Info) error {
					return pull(cmd.Context(), from, to, i)
				})
			})
		}}
	c.Flags().StringVar(&drill, "drill", "", "only runs of this drill")
	c.Flags().StringVar(&branch, "branch", "", "only runs of this branch")
	c.Flags().IntVar(&last, "last", 0, "only the newest N")
	return c
}

// pull copies a shared run into a project's store. A name that another run has here is left out.
func pull(ctx context.Context, from *shared.Store, to *store.Store, i store.Info) error {
	p, err := from.Pull(ctx, i)
	if err != nil {
		return err
	}
	if _, err := to.Find(p.Info.Name); err == nil {
		p.Info.Name = ""
	}
	if err := to.Unpack(ctx, p); err != nil {
		return err
	}
	return to.Complete(i.ID)
}

func deleteShared(cmd *cobra.Command, dir string, names []string) error {
	return withShared(cmd.Context(), dir, func(s *shared.Store, l *project.Loaded) error {
		there, err := s.List(cmd.Context(), l.Name)
		if err != nil {
			return could(err)
		}
		all, err := named(names, among(there))
		if err != nil {
			return err
		}
		ids := make([]string, len(all))
		for k := range all {
			ids[k] = all[k].ID
		}
		gone, err := s.Delete(cmd.Context(), ids)
		if err != nil {
			return could(err)
		}
		for _, id := range gone {
			fmt.Fprintf(cmd.OutOrStdout(), "deleted %s from %s\n", id, s.At())
		}
		return nil
	})
}

func trendCommand(dir *string) *cobra.Command {
	var branch, svg string
	var asJSON, ofTeam bool
	c := &cobra.Command{Use: "trend [DRILL]", Short: "Print how a drill's figures changed over commits",
		Args: cobra.MaximumNArgs(1),
		Long: `Trend follows the figures of a drill over the commits of its code, and names the commits
with which they changed. Runs of other machines are left out. A figure of identical code is
said to have changed in at most one of twenty drills that were run over a hundred commits.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return withList(cmd.Context(), *dir, ofTeam, func(all []store.Info) error {
				if len(all) == 0 {
					return wrong(errors.New("no runs yet; nightdrill run DRILL makes one"))
				}
				drill := all[0].Drill
				if len(args) > 0 {
					drill = args[0]
				}
				return showTrend(cmd, kept.Trend(all, drill, branch), svg, asJSON)
			})
		}}
	c.Flags().StringVar(&branch, "branch", "", "only runs of this branch")
	c.Flags().BoolVar(&ofTeam, "shared", false, "of the runs in the team's PostgreSQL")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.Flags().StringVar(&svg, "svg", "", "write the drawing to a file (.svg or .pdf)")
	return c
}

func showTrend(cmd *cobra.Command, t *trend.Trends, file string, asJSON bool) error {
	if t.Runs == 0 {
		return wrong(fmt.Errorf("no finished run of drill %q%s; nightdrill runs list prints those there are", t.Drill,
			map[bool]string{true: " on branch " + t.Branch}[t.Branch != ""]))
	}
	if file != "" {
		if err := export.TrendFile(file, t, true); err != nil {
			return could(err)
		}
	}
	if asJSON {
		return printJSON(cmd, t)
	}
	out := cmd.OutOrStdout()
	for _, s := range t.Sentences {
		fmt.Fprintln(out, text.Harmless(s))
	}
	fmt.Fprintf(out, "\n%s of %s on %s\n\n", text.Plural(t.Runs, "run"), t.Drill, text.Harmless(t.Machine))
	w := tabwriter.NewWriter(out, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "function\tfigure\tcommits\tlatest\tlevel\tlowest\thighest\t")
	for i := range t.Series {
		s := &t.Series[i]
		last := len(s.Points) - 1
		low, high := s.Range()
		fmt.Fprintf(w, "%s\t%s\t%d\t%s ms\t%s ms\t%s ms\t%s ms\t\n", s.Function, s.Figure, len(s.Points),
			figure.Millis(&s.Points[last].Value), figure.Millis(new(s.Latest())), figure.Millis(&low),
			figure.Millis(&high))
	}
	return w.Flush()
}

// among returns what looks a name up among shared runs.
func among(there []store.Info) func(name string) (store.Info, error) {
	return func(name string) (store.Info, error) {
		i, err := store.FindIn(there, name)
		if err != nil {
			err = fmt.Errorf("%w (shared runs: nightdrill runs list --shared)", err)
		}
		return i, err
	}
}

// named looks up runs by their names.
func named(names []string, find func(string) (store.Info, error)) (out []store.Info, err error) {
	for _, name := range names {
		i, err := find(name)
		if err != nil {
			return nil, wrong(err)
		}
		if !slices.ContainsFunc(out, func(o store.Info) bool { return o.ID == i.ID }) {
			out = append(out, i)
		}
	}
	return out, nil
}

// carry copies runs, the oldest first, and prints which; those that the other side has are counted.
func carry(cmd *cobra.Command, all, have []store.Info, what, where string, one func(store.Info) error) error {
	done, there := 0, 0
	slices.Reverse(all)
	for _, i := range all {
		if at := slices.IndexFunc(have, func(h store.Info) bool { return h.ID == i.ID }); at >= 0 {
			if have[at].Same(&i) {
				there++
			} else {
				fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: %s was not %s: another run, from another machine, has "+
					"that ID\n", i.ID, what)
			}
			continue
		}
		switch err := one(i); {
		case errors.Is(err, store.ErrThere): // another program was quicker
			there++
			continue
		case cmd.Context().Err() != nil:
			return errInterrupted
		case err != nil:
			return could(fmt.Errorf("%w (%d of %s %s before)", err, done, text.Plural(len(all), "run"), what))
		}
		done++
		fmt.Fprintf(cmd.OutOrStdout(), "%s %s %s\n", i.ID, text.Harmless(i.Label(time.Now())), what)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "%s %s %s, %d already there\n", text.Plural(done, "run"), what, where, there)
	return nil
}

// baseline returns the run that a drill's is judged against: by its name, or by its branch and commit, also among
// the shared ones.
func baseline(cmd *cobra.Command, d *session.Workspace, drill, name string) (*record.Run, error) {
	info, err := d.Runs.Find(name)
	if branch, commit, ok := store.BranchOf(name); ok && err != nil {
		info, err = onBranch(cmd, d, drill, branch, commit)
	}
	if err != nil {
		return nil, wrong(fmt.Errorf("--baseline: %w", err))
	}
	if machine := kept.Machine(); info.Machine != "" && info.Machine != machine {
		return nil, wrong(fmt.Errorf("--baseline: run %s is from another machine (%s), so there is no verdict; "+
			"nightdrill compare shows both side by side", info.ID, info.Machine))
	}
	base, err := d.Runs.Load(info.ID)
	if err != nil {
		return nil, could(err)
	}
	return base, nil
}

// onBranch looks for the newest run of a branch or of a commit of it, here and among the shared runs; from there it
// is pulled.
func onBranch(cmd *cobra.Command, d *session.Workspace, drill, branch, commit string) (store.Info, error) {
	all, err := d.Runs.List()
	if err != nil {
		return store.Info{}, err
	}
	if d.Project.Share == nil {
		return store.OnBranch(all, drill, branch, commit, kept.Machine())
	}
	from, err := shared.Open(cmd.Context(), d.Project.Share)
	if err != nil {
		i, none := store.OnBranch(all, drill, branch, commit, kept.Machine())
		if none != nil {
			return i, errors.Join(none, err)
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: judged by run %s of this store: %v\n", i.ID, err)
		return i, nil
	}
	defer from.Close()
	there, err := from.List(cmd.Context(), d.Project.Name)
	if err != nil {
		return store.Info{}, err
	}
	both := append(slices.Clone(all), there...)
	slices.SortStableFunc(both, func(a, b store.Info) int { return b.Began.Compare(a.Began) })
	i, err := store.OnBranch(both, drill, branch, commit, kept.Machine())
	if err != nil || slices.ContainsFunc(all, func(here store.Info) bool { return here.ID == i.ID }) {
		return i, err
	}
	if err := pull(cmd.Context(), from, d.Runs, i); err != nil && !errors.Is(err, store.ErrThere) {
		return i, err
	}
	return i, nil
}
