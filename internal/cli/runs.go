package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"nightdrill/internal/project"
	"nightdrill/internal/store"
)

func runsCommand(dir *string) *cobra.Command {
	c := &cobra.Command{
		Use:   "runs",
		Short: "The runs that were kept",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := noArguments(cmd, args); err != nil {
				return err
			}
			return errors.New("runs what? list or show")
		},
	}
	var asJSON bool
	list := &cobra.Command{
		Use:   "list",
		Short: "List the runs, the newest first",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withRuns(*dir, func(s *store.Store) error { return listRuns(cmd, s, asJSON) })
		},
	}
	list.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	var to string
	show := &cobra.Command{
		Use:   "show [RUN]",
		Short: "Print the findings of a run (its name, the beginning of it, or last)",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withRuns(*dir, func(s *store.Store) error {
				name := "last"
				if len(args) > 0 {
					name = args[0]
				}
				info, err := s.Find(name)
				if err != nil {
					return wrong(err)
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
	c.AddCommand(list, show)
	return c
}

// withRuns opens the runs of a project; the project file may be wrong meanwhile.
func withRuns(dir string, do func(*store.Store) error) error {
	if _, err := os.Stat(store.Path(dir)); errors.Is(err, fs.ErrNotExist) {
		if _, err := project.Load(dir); errors.Is(err, project.ErrNoProject) {
			return err
		}
		return wrong(errors.New("there are no runs yet; nightdrill run DRILL makes one"))
	}
	s, err := store.Open(dir)
	if err != nil {
		return could(err)
	}
	defer s.Close()
	return do(s)
}

func listRuns(cmd *cobra.Command, s *store.Store, asJSON bool) error {
	all, err := s.List()
	if err != nil {
		return could(err)
	}
	if asJSON {
		enc := json.NewEncoder(cmd.OutOrStdout())
		enc.SetIndent("", "  ")
		return enc.Encode(append([]store.Info{}, all...))
	}
	w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 8, 2, ' ', 0)
	fmt.Fprintln(w, "run\tdrill\tbegan\tseconds\t")
	for _, r := range all {
		state := ""
		if !r.Finished {
			state = "unfinished"
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%.1f\t%s\n", r.ID, r.Drill, r.Began.Local().Format("2006-01-02 15:04:05"), r.Seconds, state)
	}
	return w.Flush()
}
