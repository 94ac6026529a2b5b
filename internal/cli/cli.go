// Package cli is the commands of nightdrill. Run carries one command line out
// with the given streams, so that commands are tested as they are used.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/demo"
	"nightdrill.dev/internal/live/anatomy"
	"nightdrill.dev/internal/live/loader"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session"
)

// Exit codes.
const (
	ok          = 0
	missed      = 1 // a budget was missed
	wrongUse    = 2 // wrong use, or a wrong project file
	failed      = 3 // the run could not be carried out
	interrupted = 130
)

// coded is an error with its exit code. An empty text prints nothing.
type coded struct {
	code int
	err  error
}

func (c coded) Error() string { return c.err.Error() }
func (c coded) Unwrap() error { return c.err }

var (
	errMissed      = coded{missed, errors.New("")}
	errInterrupted = coded{interrupted, errors.New("interrupted; what was measured is kept")}
)

// Run carries out a command line and returns its exit code.
func Run(args []string, out, errs io.Writer) int {
	if len(args) == 2 && args[0] == demo.FunctionCommand {
		if err := demo.Serve(args[1]); err != nil {
			fmt.Fprintln(errs, err)
			return failed
		}
		return ok
	}
	if len(args) == 1 && args[0] == proc.WardenCommand {
		proc.Warden()
		return ok
	}
	if anatomy.Commanded(args) {
		return ok
	}
	if len(args) == 5 && args[0] == project.BuildHandler {
		if err := loader.BuildGo(context.Background(), args[1], args[2], args[3], args[4], errs); err != nil {
			fmt.Fprintln(errs, err)
			return failed
		}
		return ok
	}
	runner.Tune()
	defer proc.Ungroup()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	ctx = project.WithProgress(ctx, tellFar)
	over := make(chan struct{})
	defer close(over)
	go insist(ctx, over, errs)
	root := newRoot()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return ok
	}
	say := func(content string) { // file names and settings may hold anything
		for line := range strings.Lines(content) {
			fmt.Fprintln(errs, text.Harmless(strings.TrimRight(line, "\n")))
		}
	}
	var c coded
	var mistakes project.Mistakes
	if errors.Is(err, context.Canceled) && !(errors.As(err, &c) && c.code == interrupted) {
		err = coded{interrupted, err}
	}
	switch {
	case errors.As(err, &c):
		if content := c.Error(); content != "" {
			say("nightdrill: " + content)
		}
		return c.code
	case errors.As(err, &mistakes):
		say(mistakes.Error())
		return wrongUse
	case errors.Is(err, project.ErrNoProject):
		say("nightdrill: " + err.Error())
		return wrongUse
	}
	// cobra's own errors: a wrong flag or argument
	say("nightdrill: " + oneLine(err.Error()) + "; nightdrill --help lists the commands")
	return wrongUse
}

// howFar is what the last part of something long said of how far it is.
var howFar atomic.Pointer[string]

func tellFar(content string) { howFar.Store(&content) }

// interruption returns the error text of a command that was interrupted: how far it was.
func interruption() string {
	if far := howFar.Load(); far != nil {
		return "interrupted: " + *far
	}
	return "interrupted"
}

// patience is how long a command may take to end once it is interrupted, unless it has
// processes to end.
const patience = 700 * time.Millisecond

// insist ends the program when it is interrupted and does not end by itself: it is at work
// within something that cannot be asked to stop. What has started processes ends in order.
func insist(ctx context.Context, over <-chan struct{}, errs io.Writer) {
	select {
	case <-over:
		return
	case <-ctx.Done():
	}
	wait := time.NewTimer(patience)
	defer wait.Stop()
	select {
	case <-over:
	case <-wait.C:
		if !proc.Guarded() {
			fmt.Fprintln(errs, "nightdrill: "+text.Harmless(interruption()))
			os.Exit(interrupted)
		}
	}
}

func oneLine(s string) string {
	return strings.Join(strings.Fields(s), " ")
}

// wrong marks an error as one of use.
func wrong(err error) error { return coded{wrongUse, err} }

// open opens the project in a folder.
func open(ctx context.Context, dir string) (*session.Workspace, error) {
	d, err := session.Open(ctx, dir)
	var m project.Mistakes
	if err == nil {
		d.Enter(entrances)
	}
	if err == nil || errors.As(err, &m) || errors.Is(err, project.ErrNoProject) || errors.Is(err, context.Canceled) {
		return d, err
	}
	return nil, could(err)
}

// could marks an error as one of carrying something out.
func could(err error) error { return coded{failed, err} }

// version names the program: its release, or the commit that it was built from.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	content := strings.Trim(info.Main.Version, "()")
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && !strings.Contains(content, s.Value[:min(len(s.Value), 7)]) {
			content += " " + s.Value[:min(len(s.Value), 12)]
		}
	}
	return content
}

// entrances are set by flags that every command has.
var entrances session.Entrances

// Command returns the commands of the program, for what is generated from them.
func Command() *cobra.Command { return newRoot() }

func newRoot() *cobra.Command {
	var dir, listen string
	root := &cobra.Command{
		Use:   "nightdrill",
		Short: "Test functions on this machine with the events they are made for",
		Long: `Night Drill sends events to functions that run on this machine, as storage, queues,
streams, schedules and HTTP callers would, and measures cold starts, warm latency,
waiting and rejections.

Without a command it opens the project in this folder in the full-screen program.
To try it without a project: nightdrill demo`,
		Version:       version(),
		Args:          noArguments,
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE:          func(cmd *cobra.Command, _ []string) error { return screen(cmd, dir, "", listen) },
	}
	root.SuggestionsMinimumDistance = 2
	root.PersistentFlags().StringVar(&dir, "project", ".", "the project's folder")
	root.PersistentFlags().StringSliceVar(&entrances.Hosts, "allow-host", nil,
		"a host name, besides this machine's own, that requests to the front, the object store and the address for "+
			"publishing may use; may be repeated")
	root.PersistentFlags().StringVar(&entrances.Objects, "objects", "",
		"where the object store listens (default 127.0.0.1:8421 with the screen, otherwise a free port)")
	root.PersistentFlags().StringVar(&entrances.Publish, "publish", "",
		"where events are published (default 127.0.0.1:8422 with the screen, otherwise a free port)")
	listenFlag(root, &listen)
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return err })
	root.AddCommand(demoCommand(), runCommand(&dir), fireCommand(&dir), initCommand(&dir), payloadsCommand(&dir),
		recordCommand(&dir), checkCommand(&dir), runsCommand(&dir), compareCommand(&dir), anatomyCommand(&dir),
		doctorCommand(), forecastCommand(&dir), publishCommand(), versionCommand(), wordsCommand(), reenactCommand())
	completions(root, &dir)
	return root
}

func noArguments(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	if cmd.HasParent() {
		return fmt.Errorf("%s takes no arguments, got %q", cmd.CommandPath(), args[0])
	}
	content := fmt.Sprintf("unknown command %q", args[0])
	if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
		content += "; did you mean " + near[0] + "?"
	}
	return errors.New(content)
}
