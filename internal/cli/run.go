package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/kept"
)

func runCommand(dir *string) *cobra.Command {
	var o runOptions
	c := &cobra.Command{
		Use:   "run [DRILL]",
		Short: "Run a drill without the screen and print its findings",
		Long: `Run carries out a drill without the screen and prints its findings.

With --limit it runs under other limits than the project file's: --limit quote.max=2,
and likewise guaranteed, per_instance, keep_warm, idle_after, start_rate, start_burst
and turn_away; --limit concurrency=12 sets the project total. A limit with a time is
changed while the drill runs: --limit quote.max=2@5s. --limit quote.replace@5s replaces
the instances at that time.

With --upstream the services that functions call are recorded (--upstream rates=record),
answered from what was recorded (rates=replay) or passed on to (rates=pass), or behave
otherwise: rates.times=0.5, rates.p50=40ms and rates.p99=400ms, rates.fail=2%,
rates.status=503 (or reset, or stall), rates.concurrency=3, rates.missing=pass.

The exit code is 1 when a budget is missed, when one has too few samples to be judged
(unless --allow-few is given), or when a reply was not what its payload expects. With
--baseline RUN the drill must not be worse than that run, beyond the noise, by more
than --worse.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if len(args) > 0 {
				name = args[0]
			}
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			return runDrill(cmd, d, name, o)
		},
	}
	o.flags(c)
	c.Flags().StringArrayVar(&o.changes, "limit", nil, "another limit, such as quote.max=2 or quote.max=2@5s; may be "+
		"repeated")
	upstreamFlag(c, &o.upstreams)
	c.Flags().StringVar(&o.journal, "journal", "", "write every input and decision of the engine to a file, for "+
		"nightdrill reenact")
	return c
}

// runOptions are the ways to carry a drill out.
type runOptions struct {
	to, journal, baseline, worse, out string
	changes, upstreams                []string
	few                               bool
	after                             func(*record.Run) error // does what is to be done with the run; nil for nothing
}

func (o *runOptions) flags(c *cobra.Command) {
	jsonFlag(c, &o.to)
	c.Flags().StringVar(&o.baseline, "baseline", "", "a run that this one must not be worse than; "+
		"main@latest or main@COMMIT for one of this machine by its branch")
	c.Flags().StringVar(&o.worse, "worse", "5%", "by how much it may be worse, beyond the noise")
	c.Flags().StringVar(&o.out, "out", "", "write all exports of the run to a folder")
	c.Flags().BoolVar(&o.few, "allow-few", false, "pass budgets that have too few samples")
}

// reenactCommand plays a journal again: what the engine decided then, it must
// decide now.
func reenactCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "reenact JOURNAL",
		Short:  "Replay the engine's inputs from a journal, print its decisions, and fail where they differ",
		Hidden: true,
		Args:   cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			content, err := os.ReadFile(args[0])
			if err != nil {
				return wrong(err)
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			defer out.Flush()
			err = engine.Reenact(content, func(p *plan.Project, f *engine.Effect, events []int64) {
				fmt.Fprintf(out, "%v %s\n", f.At, f.Describe(p, events))
			})
			if err != nil {
				return coded{missed, fmt.Errorf("%s: %w", args[0], err)}
			}
			return nil
		},
	}
}

// upstreamFlag adds the flag that changes settings of upstreams.
func upstreamFlag(c *cobra.Command, to *[]string) {
	c.Flags().StringArrayVar(to, "upstream", nil, "another setting of an upstream, such as rates=record, rates=replay "+
		"or rates.times=0.5; may be repeated")
}

func jsonFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "json", "", "write the summary to a file (- for standard output, instead of the findings)")
}

// runDrill carries out a drill headless.
func runDrill(cmd *cobra.Command, d *session.Workspace, name string, o runOptions) error {
	if err := d.Startable(); err != nil {
		return err
	}
	drill, err := d.Drill(name)
	if err != nil {
		return wrong(err)
	}
	if len(o.changes) > 0 {
		if drill, err = project.ChangeLimits(d.Project, drill, o.changes); err != nil {
			return wrong(err)
		}
	}
	if len(o.upstreams) > 0 {
		if drill, err = d.ChangeUpstreamsOf(drill, o.upstreams); err != nil {
			return wrong(err)
		}
	}
	return runPlanned(cmd, d, drill, o)
}

// runPlanned carries out a drill and judges it.
func runPlanned(cmd *cobra.Command, d *session.Workspace, drill *plan.Drill, o runOptions) error {
	if o.baseline == "" && cmd.Flags().Changed("worse") {
		return wrong(errors.New("--worse needs --baseline RUN: it is how much worse than that run this one may be"))
	}
	worse, err := share(o.worse)
	if err != nil {
		return wrong(fmt.Errorf("--worse: %w", err))
	}
	var base *record.Run
	if o.baseline != "" { // before anything is started
		if base, err = baseline(cmd, d, drill.Name, o.baseline); err != nil {
			return err
		}
	}
	for _, m := range d.Skipped {
		fmt.Fprintln(cmd.ErrOrStderr(), m.Error()+" (skipped)")
	}
	var keep io.Writer
	if o.journal != "" {
		f, err := os.Create(o.journal)
		if err != nil {
			return wrong(fmt.Errorf("the journal cannot be written: %w", err))
		}
		defer f.Close()
		keep = f
	}
	r, err := carryOut(cmd, d, drill, keep)
	if r == nil {
		return err
	}
	page := r.Page()
	s := page.Summary
	if base != nil {
		s.Budgets = append(s.Budgets, measure.Against(r.Snapshot(), base, worse)...)
	}
	if werr := write(cmd, page, o.to); werr != nil {
		return could(werr)
	}
	if o.after != nil {
		if werr := o.after(r.Snapshot()); werr != nil {
			return could(werr)
		}
	}
	if o.out != "" {
		if werr := exportRun(cmd, d.Runs, s.Run, "", kept.Exporting{Dir: o.out}); werr != nil {
			return werr
		}
	}
	if err != nil {
		return err
	}
	if content := neverReady(s); content != "" {
		return could(errors.New(content))
	}
	for _, b := range s.Budgets {
		if !b.Held && !(b.Few && o.few) {
			return errMissed
		}
	}
	if s.Events.Unexpected > 0 {
		return errMissed
	}
	return nil
}

// carryOut carries a drill out and waits for its end. Where it was begun, it gives
// it, also with an error.
func carryOut(cmd *cobra.Command, d *session.Workspace, drill *plan.Drill, journal io.Writer) (*session.Running,
	error) {
	if err := d.Startable(); err != nil {
		return nil, err
	}
	farewell, err := proc.Guard(nil)
	if err != nil {
		return nil, could(err)
	}
	defer farewell()
	if err := d.Prepare(cmd.Context(), drill,
		func(what string) { fmt.Fprintln(cmd.ErrOrStderr(), "nightdrill: "+what) }); err != nil {
		return nil, could(err)
	}
	r, err := d.Start(cmd.Context(), drill, journal)
	if err != nil {
		return nil, could(err)
	}
	progress(cmd.Context(), cmd.ErrOrStderr(), r)
	<-r.Done()
	switch {
	case r.Err() != nil:
		return r, could(r.Err())
	case cmd.Context().Err() != nil:
		return r, errInterrupted
	}
	return r, nil
}

// share reads a share such as 5%.
func share(content string) (float64, error) {
	digits, ok := strings.CutSuffix(content, "%")
	v, err := strconv.ParseFloat(digits, 64)
	if !ok || err != nil || v < 0 || math.IsInf(v, 0) || math.IsNaN(v) {
		return 0, fmt.Errorf("%q is not a share, such as 5%%", content)
	}
	return v / 100, nil
}

// neverReady names a function that was started and never once was ready.
func neverReady(s *measure.Summary) string {
	for _, name := range sortedNames(s.Functions) {
		if f := s.Functions[name]; f.Start.N == 0 && f.Instances.FailedStarts > 0 {
			return fmt.Sprintf("%s never started; the findings show why", name)
		}
	}
	return ""
}

// write writes the summary to where it was requested.
func write(cmd *cobra.Command, page *report.Page, to string) error {
	if to == "" {
		return printReport(cmd.OutOrStdout(), page)
	}
	content, err := json.MarshalIndent(page.Summary, "", "  ")
	if err != nil {
		return err
	}
	if err := writeFile(cmd, to, append(content, '\n')); err != nil || to == "-" {
		return err
	}
	return printReport(cmd.OutOrStdout(), page)
}

// writeFile writes to a file, or to standard output for -.
func writeFile(cmd *cobra.Command, to string, content []byte) error {
	if to == "-" {
		_, err := cmd.OutOrStdout().Write(content)
		return err
	}
	if err := os.WriteFile(to, content, 0o644); err != nil {
		return fmt.Errorf("%s cannot be written: %w", to, err)
	}
	return nil
}

// progress shows how far a drill is, where someone can see it.
func progress(ctx context.Context, w io.Writer, r *session.Running) {
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
