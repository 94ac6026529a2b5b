package cli

import (
	"encoding/json"
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/live/doctor"
)

func doctorCommand() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "doctor",
		Short: "Say what this machine can and cannot measure, and what would help",
		Long: `Doctor asks the machine for what Night Drill measures with: how the time of a start is seen,
whether starts can be traced, whether memory and processors can be bounded, how many files
and processes there may be, and which interpreters are found. For what is missing it names
a remedy. It changes nothing.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			checks := doctor.Checks(cmd.Context())
			if asJSON {
				type row struct {
					doctor.Check
					State string `json:"state"`
				}
				rows := []row{}
				for _, c := range checks {
					rows = append(rows, row{c, doctor.Words[c.State]})
				}
				content, err := json.MarshalIndent(rows, "", "  ")
				if err == nil {
					_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", content)
				}
				return err
			}
			w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, c := range checks {
				fmt.Fprintf(w, "%s\t%s\t%s\n", doctor.Words[c.State], c.Name, c.Found)
				if c.Remedy != "" {
					fmt.Fprintf(w, "\t\t→ %s\n", c.Remedy)
				}
			}
			return w.Flush()
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print it as JSON")
	return c
}
