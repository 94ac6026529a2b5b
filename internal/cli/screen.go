package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/tui"
)

// screen opens the full-screen program on a project; a drill that is named
// starts at once.
func screen(cmd *cobra.Command, dir, drill, listen string) error {
	if !term.IsTerminal(os.Stdin.Fd()) || !term.IsTerminal(os.Stdout.Fd()) {
		return wrong(errors.New("the full screen needs a terminal; without one, use nightdrill run DRILL or " +
			"nightdrill demo --headless"))
	}
	d, err := open(cmd.Context(), dir)
	if errors.Is(err, project.ErrNoProject) {
		switch choice, err := welcome(cmd.Context(), dir); {
		case err != nil:
			return err
		case choice == tui.Leave:
			return nil
		case choice == tui.Demo:
			return demoScreen(cmd, listen)
		}
		d, err = open(cmd.Context(), dir)
	}
	if err != nil {
		return err
	}
	defer d.Close()
	var first *plan.Drill
	if drill != "" {
		if first, err = d.Drill(drill); err != nil {
			return wrong(err)
		}
	}
	farewell, err := proc.Guard(os.Stdout)
	if err != nil {
		return could(err)
	}
	defer farewell()
	switch err := tui.Run(cmd.Context(), d, first, listen, os.Stdin, os.Stdout); {
	case errors.Is(err, tui.ErrInterrupted):
		return errInterrupted
	case err != nil:
		return could(fmt.Errorf("the screen failed: %w", err))
	}
	return nil
}

// welcome offers to begin a project in a folder that has none.
func welcome(ctx context.Context, dir string) (tui.Choice, error) {
	path, err := filepath.Abs(dir)
	if err != nil {
		return tui.Leave, wrong(err)
	}
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return tui.Leave, wrong(fmt.Errorf("no folder %s", dir))
	}
	farewell, err := proc.Guard(os.Stdout)
	if err != nil {
		return tui.Leave, could(err)
	}
	defer farewell()
	choice, err := tui.Welcome(ctx, path, os.Stdin, os.Stdout)
	switch {
	case errors.Is(err, tui.ErrInterrupted):
		return tui.Leave, errInterrupted
	case err != nil:
		return tui.Leave, could(fmt.Errorf("the screen failed: %w", err))
	}
	return choice, nil
}
