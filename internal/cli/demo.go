package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/demo"
)

func demoCommand() *cobra.Command {
	var headless bool
	var listen string
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
				return demoScreen(cmd, listen)
			}
			if listen != "" {
				return wrong(errors.New("--listen is for the front, which only the screen opens; --headless has " +
					"no front"))
			}
			dir, err := demo.Lay()
			if err != nil {
				return could(err)
			}
			d, err := open(cmd.Context(), dir)
			if err != nil {
				return err
			}
			defer d.Close()
			return runDrill(cmd, d, demo.Drill, o)
		},
	}
	c.Flags().BoolVar(&headless, "headless", false, "run the drill without the screen and print its findings")
	listenFlag(c, &listen)
	o.flags(c)
	return c
}

// demoScreen opens the demo on the full screen, its drill in progress.
func demoScreen(cmd *cobra.Command, listen string) error {
	dir, err := demo.Lay()
	if err != nil {
		return could(err)
	}
	return screen(cmd, dir, demo.Drill, listen)
}

func listenFlag(c *cobra.Command, listen *string) {
	c.Flags().StringVar(listen, "listen", "",
		"where the front listens (default 127.0.0.1:8420, or a free port when that is taken)")
}
