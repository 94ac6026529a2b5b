package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill/internal/core/arrival"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/project"
)

func checkCommand(dir *string) *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Check the project file and say what is wired to what, without starting anything",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := project.Load(*dir)
			if err != nil {
				var m project.Mistakes
				if errors.As(err, &m) || errors.Is(err, project.ErrNoProject) {
					return err
				}
				return wrong(err)
			}
			if err := l.Startable(); err != nil {
				return err
			}
			for _, m := range l.Skipped {
				fmt.Fprintln(cmd.ErrOrStderr(), m.Error()+" (skipped)")
			}
			wiring(cmd.OutOrStdout(), l.Project)
			return nil
		},
	}
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// wiring says in a few lines what reaches which function.
func wiring(w io.Writer, p *plan.Project) {
	fmt.Fprintf(w, "%s: %s, %s, %s, %s. Nothing is wrong.\n", p.Name, plural(len(p.Functions), "function"),
		plural(len(p.Sources), "source"), plural(len(p.Sets), "payload set"), plural(len(p.Drills), "drill"))
	reached := map[int]bool{}
	for i := range p.Sources {
		s := &p.Sources[i]
		fmt.Fprintf(w, "\n%s (%s)\n", s.Name, describeSource(p, s))
		if len(s.Wires) == 0 {
			fmt.Fprintln(w, "  no wire: what arrives here reaches no function")
		}
		for _, wire := range s.Wires {
			reached[wire.To] = true
			what := "every message"
			if s.Kind == plan.HTTP {
				what = wire.When.String()
			}
			fmt.Fprintf(w, "  %s → %s\n", what, p.Functions[wire.To].Name)
		}
	}
	fmt.Fprintln(w)
	for i := range p.Functions {
		f := &p.Functions[i]
		fmt.Fprintf(w, "%s: %s; %s; each invocation up to %v\n", f.Name, describeStart(p, f), describeLimits(f.Limits), f.Timeout)
		for j := range f.Variants {
			v := &f.Variants[j]
			fmt.Fprintf(w, "  %s: %s; %s\n", v.Name, describeStart(p, v), describeLimits(v.Limits))
		}
		if !reached[i] {
			fmt.Fprintf(w, "  no wire leads to %s, so nothing reaches it\n", f.Name)
		}
	}
	for i := range p.Drills {
		d := &p.Drills[i]
		fmt.Fprintf(w, "\ndrill %s, %s\n", d.Name, plural(len(d.Budgets), "budget"))
		for _, f := range d.Feeds {
			set := &p.Sets[f.Set]
			times, _, _ := set.Offsets()
			fmt.Fprintf(w, "  %s gets %s (%d) %s, over %v\n", p.Sources[f.Source].Name, set.Name, len(set.Payloads), describePhases(f.Phases),
				arrival.Span(f.Phases, times).Round(100*time.Millisecond))
		}
	}
}

// describeStart says how a function comes to run, and what makes a version of it.
func describeStart(p *plan.Project, f *plan.Function) string {
	if f.Transport == plan.Attach {
		return "attached at " + f.Address + ", started by somebody else"
	}
	text := strings.Join(f.Start, " ")
	if f.Build != nil {
		text += ", built by " + strings.Join(f.Build, " ")
	}
	if f.Prepare != nil {
		text += ", prepared by " + strings.Join(f.Prepare, " ")
	}
	for _, n := range f.Needs {
		text += ", needs " + p.Services[n].Name
	}
	if len(f.Watch) > 0 {
		text += ", watches " + strings.Join(f.Watch, " ")
	}
	return text
}

func describeSource(p *plan.Project, s *plan.Source) string {
	if s.Kind == plan.HTTP {
		if s.Wait == 0 {
			return "http, turned away at once when no instance is free"
		}
		return fmt.Sprintf("http, turned away after waiting %v for an instance", s.Wait)
	}
	text := "queue"
	if s.BatchMax > 1 {
		text += fmt.Sprintf(", batches of up to %d or after %v", s.BatchMax, s.BatchWait)
	}
	if len(s.Wires) > 0 {
		text += ", " + plural(s.Attempts, "attempt")
		if s.DeadLetter >= 0 {
			text += ", then to " + p.Sources[s.DeadLetter].Name
		}
	}
	return text
}

func describeLimits(l plan.Limits) string {
	text := fmt.Sprintf("at most %d at a time, ", l.Max)
	if l.PerInstance == 1 {
		text += "one on each instance"
	} else {
		text += fmt.Sprintf("up to %d on each instance", l.PerInstance)
	}
	if l.KeepWarm > 0 {
		text += fmt.Sprintf(", %d kept warm", l.KeepWarm)
	}
	return text + fmt.Sprintf(", idle ones stop after %v", l.IdleAfter)
}

func describePhases(phases []arrival.Phase) string {
	var parts []string
	for _, p := range phases {
		text := p.Pattern.String()
		switch p.Pattern {
		case arrival.Recorded:
			if p.Speed != 1 {
				text += fmt.Sprintf(" at %g times the speed", p.Speed)
			}
		case arrival.Steady, arrival.Poisson:
			text += fmt.Sprintf(" %g/s", p.Rate.PerSecond())
		case arrival.Ramp:
			text += fmt.Sprintf(" %g/s to %g/s", p.Rate.PerSecond(), p.To.PerSecond())
		case arrival.Burst:
			text += fmt.Sprintf(" of %d every %v", p.Size, p.Every)
		case arrival.Callers:
			text = fmt.Sprintf("from %d callers", p.Size)
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", then ")
}
