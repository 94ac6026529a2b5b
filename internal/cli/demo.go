package cli

import (
	"github.com/spf13/cobra"

	"nightdrill/internal/demo"
)

func demoCommand() *cobra.Command {
	var headless bool
	var o runOptions
	c := &cobra.Command{
		Use:   "demo",
		Short: "The demo: Brackwater Ferries on a Friday evening, with functions of its own",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.to != "" {
				headless = true
			}
			if !headless {
				return demoScreen(cmd)
			}
			dir, err := demo.Lay()
			if err != nil {
				return could(err)
			}
			d, err := open(dir)
			if err != nil {
				return err
			}
			defer d.Close()
			return runDrill(cmd, d, demo.Drill, o)
		},
	}
	c.Flags().BoolVar(&headless, "headless", false, "run the drill without the screen and print its findings")
	o.flags(c)
	return c
}

// demoScreen opens the demo on the full screen, its drill under way.
func demoScreen(cmd *cobra.Command) error {
	dir, err := demo.Lay()
	if err != nil {
		return could(err)
	}
	return screen(cmd, dir, demo.Drill, "")
}
