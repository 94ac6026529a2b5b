package cli

import (
	"github.com/spf13/cobra"

	"nightdrill/internal/demo"
)

func demoCommand() *cobra.Command {
	var headless bool
	var to string
	c := &cobra.Command{
		Use:   "demo",
		Short: "The demo: Brackwater Ferries on a Friday evening, with functions of its own",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if to != "" {
				headless = true
			}
			dir, err := demo.Lay()
			if err != nil {
				return could(err)
			}
			if !headless {
				return screen(cmd, dir, demo.Drill, "")
			}
			d, err := open(dir)
			if err != nil {
				return err
			}
			defer d.Close()
			return runDrill(cmd, d, demo.Drill, to, "")
		},
	}
	c.Flags().BoolVar(&headless, "headless", false, "run the drill without the screen and print its findings")
	jsonFlag(c, &to)
	return c
}
