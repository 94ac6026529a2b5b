package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/measure"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/desk"
	"nightdrill/internal/live/proc"
	"nightdrill/internal/project"
)

func runCommand(dir *string) *cobra.Command {
	var to, journal string
	var changes []string
	c := &cobra.Command{
		Use:   "run [DRILL]",
		Short: "Carry out a drill without the screen and print its findings",
		Long: `Run carries out a drill without the screen and prints its findings.

With --limit it runs under other limits than the project file's: --limit quote.max=2,
and likewise guaranteed, per_instance, keep_warm, idle_after, start_rate, start_burst
and turn_away; --limit concurrency=12 is for all functions together. A limit with a
time is changed while the drill runs: --limit quote.max=2@5s. --limit quote.replace@5s
replaces the instances then.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			d, err := open(*dir)
			if err != nil {
				return err
			}
			defer d.Close()
			return runDrill(cmd, d, name, to, journal, changes)
		},
	}
	jsonFlag(c, &to)
	c.Flags().StringArrayVar(&changes, "limit", nil, "another limit, such as quote.max=2 or quote.max=2@5s; may be given again")
	c.Flags().StringVar(&journal, "journal", "", "write every input and decision of the engine to a file, for nightdrill reenact")
	return c
}

// reenactCommand plays a journal again: what the engine decided then, it must
// decide now.
func reenactCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "reenact JOURNAL",
		Short:  "Play the journal of a run again, print what the engine decides, and fail where it differs",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return wrong(err)
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			defer out.Flush()
			err = engine.Reenact(text, func(p *plan.Project, f *engine.Effect, events []int64) {
				fmt.Fprintf(out, "%v %s\n", f.At, f.Describe(p, events))
			})
			if err != nil {
				return coded{missed, fmt.Errorf("%s: %w", args[0], err)}
			}
			return nil
		},
	}
}

func jsonFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "json", "", "write the summary to a file (- for standard output, instead of the findings)")
}

// runDrill carries out a drill headless.
func runDrill(cmd *cobra.Command, d *desk.Desk, name, to, journal string, changes []string) error {
	if err := d.Startable(); err != nil {
		return err
	}
	drill, err := d.Drill(name)
	if err != nil {
		return wrong(err)
	}
	if len(changes) > 0 {
		if drill, err = project.ChangeLimits(d.Project, drill, changes); err != nil {
			return wrong(err)
		}
	}
	for _, m := range d.Skipped {
		fmt.Fprintln(cmd.ErrOrStderr(), m.Error()+" (skipped)")
	}
	var keep io.Writer
	if journal != "" {
		f, err := os.Create(journal)
		if err != nil {
			return wrong(fmt.Errorf("the journal cannot be written: %w", err))
		}
		defer f.Close()
		keep = f
	}
	farewell, err := proc.Guard(nil)
	if err != nil {
		return could(err)
	}
	defer farewell()
	if err := d.Prepare(cmd.Context(), drill, func(what string) { fmt.Fprintln(cmd.ErrOrStderr(), "nightdrill: "+what) }); err != nil {
		return could(err)
	}
	r, err := d.Start(cmd.Context(), drill, keep)
	if err != nil {
		return could(err)
	}
	progress(cmd.Context(), cmd.ErrOrStderr(), r)
	<-r.Done()
	page := r.Page()
	s := page.Summary
	if err := write(cmd, page, to); err != nil {
		return could(err)
	}
	switch {
	case r.Err() != nil:
		return could(r.Err())
	case cmd.Context().Err() != nil:
		return errInterrupted
	}
	if text := neverReady(s); text != "" {
		return could(errors.New(text))
	}
	for _, b := range s.Budgets {
		if !b.Held {
			return errMissed
		}
	}
	if s.Events.Unexpected > 0 {
		return errMissed
	}
	return nil
}

// neverReady names a function that was started and never once was ready.
func neverReady(s *measure.Summary) string {
	for _, name := range sortedNames(s.Functions) {
		if f := s.Functions[name]; f.Start.N == 0 && f.Instances.FailedStarts > 0 {
			return fmt.Sprintf("%s never started; the findings say why", name)
		}
	}
	return ""
}

// write puts the summary where it was asked for.
func write(cmd *cobra.Command, page *measure.Page, to string) error {
	if to == "" {
		return report(cmd.OutOrStdout(), page)
	}
	text, err := json.MarshalIndent(page.Summary, "", "  ")
	if err != nil {
		return err
	}
	text = append(text, '\n')
	if to == "-" {
		_, err = cmd.OutOrStdout().Write(text)
		return err
	}
	if err := os.WriteFile(to, text, 0o644); err != nil {
		return fmt.Errorf("the summary cannot be written: %w", err)
	}
	return report(cmd.OutOrStdout(), page)
}

// progress shows how far a drill is, where somebody can see it.
func progress(ctx context.Context, w io.Writer, r *desk.Running) {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(f.Fd()) {
		return
	}
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-r.Done():
			fmt.Fprint(w, "\r\x1b[K")
			return
		case <-tick.C:
			run := r.Snapshot()
			waiting, ready := 0, 0
			for _, l := range r.Looks() {
				waiting += l.Waiting
				ready += l.Ready
			}
			stopping := ""
			if ctx.Err() != nil {
				stopping = "  stopping"
			}
			fmt.Fprintf(w, "\r\x1b[K%s  %.1f s  events %d  ended %d  waiting %d  instances %d%s",
				r.Drill.Name, run.Length.Seconds(), len(run.Arrivals), len(run.Deliveries), waiting, ready, stopping)
		}
	}
}
