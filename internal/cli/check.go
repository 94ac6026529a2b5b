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
	"nightdrill/internal/desk"
	"nightdrill/internal/export"
	"nightdrill/internal/project"
)

func checkCommand(dir *string) *cobra.Command {
	var eventFile, source, key, pictured string
	var force bool
	c := &cobra.Command{
		Use:   "check",
		Short: "Check the project file and say what is wired to what, without starting anything",
		Long: `Check reads the project file and says what is wired to what, and when schedules
fall due next, without starting anything.

With --event FILE it says where an event would go: for each wire which conditions
hold, and which one fails on what. FILE is an event as CloudEvents JSON, a request
as it stands on the wire, a recording (its first), SET#N, or - for standard input;
any other file is taken for one that is uploaded to the storage sources. The exit
code is 1 when no wire takes it.`,
		Args: noArguments,
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
			for _, m := range l.Doubts {
				fmt.Fprintln(cmd.ErrOrStderr(), m.Error())
			}
			if pictured != "" {
				if err := picture(l, pictured, force); err != nil {
					return could(err)
				}
			}
			if eventFile == "" {
				if source != "" || key != "" {
					return wrong(errors.New("--source and --key go with --event FILE"))
				}
				wiring(cmd.OutOrStdout(), l.Project)
				return nil
			}
			return explain(cmd.InOrStdin(), cmd.OutOrStdout(), l, eventFile, source, key)
		},
	}
	f := c.Flags()
	f.StringVar(&eventFile, "event", "", "say where the event in a file would go")
	f.StringVar(&source, "source", "", "with --event: at this source alone")
	f.StringVar(&key, "key", "", "with --event: the key of a file that is uploaded")
	f.StringVar(&pictured, "map", "", "draw the wiring to a file, .svg or .pdf")
	f.BoolVar(&force, "force", false, "with --map: write over a file that is there")
	return c
}

// picture draws the map of a project's wiring to a file.
func picture(l *project.Loaded, path string, over bool) error {
	w := desk.Map(plan.NewStanding(l.Project))
	return export.WiringFile(path, w, l.Project, over)
}

// wiring says in a few lines what reaches which function.
func wiring(w io.Writer, p *plan.Project) {
	fmt.Fprintf(w, "%s: %s, %s, %s, %s. Nothing is wrong.\n", p.Name, desk.Plural(len(p.Functions), "function"),
		desk.Plural(len(p.Sources), "source"), desk.Plural(len(p.Sets), "payload set"), desk.Plural(len(p.Drills), "drill"))
	reached := map[int]bool{}
	for i := range p.Sources {
		s := &p.Sources[i]
		fmt.Fprintf(w, "\n%s (%s)\n", s.Name, desk.SourceWords(p, s))
		if len(s.Wires) == 0 {
			fmt.Fprintln(w, "  no wire: what arrives here reaches no function")
		}
		for _, wire := range s.Wires {
			reached[wire.To] = true
			what := wire.When.Words()
			if s.Kind == plan.HTTP {
				what = wire.When.String()
			}
			fmt.Fprintf(w, "  %s → %s\n", what, p.Functions[wire.To].Name)
		}
		if s.Kind == plan.Schedule {
			nextTimes(w, s)
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
		for j := range f.Then {
			fmt.Fprintf(w, "  its reply goes on to %s%s\n", p.Sources[f.Then[j].To].Name, f.Then[j].Words())
		}
		if !reached[i] {
			fmt.Fprintf(w, "  no wire leads to %s, so nothing reaches it\n", f.Name)
		}
	}
	for i := range p.Drills {
		d := &p.Drills[i]
		fmt.Fprintf(w, "\ndrill %s, %s\n", d.Name, desk.Plural(len(d.Budgets), "budget"))
		for n := range d.Feeds {
			f := &d.Feeds[n]
			span := p.Span(f).Round(100 * time.Millisecond)
			if f.Clock != nil {
				events, _, notes := plan.TimesOf(&p.Sources[f.Source], f.Clock, nil)
				fmt.Fprintf(w, "  %s gets %s, %v of its clock: %s, over %v\n", p.Sources[f.Source].Name, p.FeedName(f), f.Clock.For, desk.Plural(len(events), "time"), span)
				for _, note := range notes {
					fmt.Fprintf(w, "    %s\n", note)
				}
				continue
			}
			set := &p.Sets[f.Set]
			fmt.Fprintf(w, "  %s gets %s (%d) %s, over %v\n", p.Sources[f.Source].Name, set.Name, len(set.Payloads), describePhases(f.Phases), span)
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

// nextTimes prints when a schedule falls due next.
func nextTimes(w io.Writer, s *plan.Source) {
	const shown = 10
	for _, t := range desk.NextTimes(s, time.Now(), shown) {
		fmt.Fprintf(w, "    %s\n", t.At.Format("Mon 2006-01-02 15:04:05 -0700"))
		if t.Note != "" {
			fmt.Fprintf(w, "      %s\n", t.Note)
		}
	}
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
