package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/build"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
)

func checkCommand(dir *string) *cobra.Command {
	var eventFile, source, key, pictured string
	var force bool
	c := &cobra.Command{
		Use:   "check",
		Short: "Check the project file and print what is wired to what, without starting anything",
		Long: `Check reads the project file and prints what is wired to what, and when schedules
fall due next. It starts nothing.

With --event FILE it prints where an event would go: for each wire, which conditions
are met, and which one fails and why. FILE is an event as CloudEvents JSON, a raw HTTP
request, a recording (its first event), SET#N, or - for standard input; any other file
is treated as an upload to the storage sources. The exit code is 1 when no wire takes
the event.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := project.Load(cmd.Context(), *dir)
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
				if eventFile == "" {
					fmt.Fprintln(cmd.ErrOrStderr(), "warning: "+m.Error())
				}
			}
			if pictured != "" {
				if err := picture(l, pictured, force); err != nil {
					return could(err)
				}
			}
			if eventFile == "" {
				if source != "" || key != "" {
					return wrong(errors.New("--source and --key need --event FILE"))
				}
				wiring(cmd.OutOrStdout(), l.Project)
				return nil
			}
			return printRoute(cmd.InOrStdin(), cmd.OutOrStdout(), l, eventFile, source, key)
		},
	}
	f := c.Flags()
	f.StringVar(&eventFile, "event", "", "print where the event in a file would go")
	f.StringVar(&source, "source", "", "with --event: only at this source")
	f.StringVar(&key, "key", "", "with --event: the key of an uploaded file")
	f.StringVar(&pictured, "map", "", "draw the wiring to a file, .svg or .pdf")
	f.BoolVar(&force, "force", false, "with --map: overwrite an existing file")
	return c
}

// picture draws the map of a project's wiring to a file.
func picture(l *project.Loaded, path string, over bool) error {
	return export.WiringFile(path, explain.Map(plan.Expand(l.Project), nil), over)
}

// wiring prints in a few lines what reaches which function.
func wiring(w io.Writer, p *plan.Project) {
	fmt.Fprintf(w, "%s: %s, %s, %s, %s. No errors.\n", p.Name, text.Plural(len(p.Functions), "function"),
		text.Plural(len(p.Sources), "source"), text.Plural(len(p.Sets), "payload set"),
		text.Plural(len(p.Drills), "drill"))
	reached := map[int]bool{}
	for i := range p.Sources {
		s := &p.Sources[i]
		fmt.Fprintf(w, "\n%s (%s)\n", s.Name, explain.SourceWords(p, s))
		if len(s.Wires) == 0 {
			fmt.Fprintln(w, "  no wires: events that arrive here reach no function")
		}
		for k, wire := range s.Wires {
			reached[wire.To] = true
			fmt.Fprintf(w, "  %s → %s\n", s.WireWords(k), p.Functions[wire.To].Name)
		}
		if s.Kind == plan.Schedule {
			nextTimes(w, s)
		}
	}
	fmt.Fprintln(w)
	for i := range p.Functions {
		f := &p.Functions[i]
		fmt.Fprintf(w, "%s: %s; timeout %v\n  %s\n", f.Name, text.Harmless(describeStart(p, f)),
			text.Duration(f.Timeout),
			describeLimits(p, f))
		for _, more := range append([]string{describePackage(f, p.Dir), describeBounds(f), describeReplacement(f)},
			describeTarget(f, p.Dir)...) {
			if more != "" {
				fmt.Fprintf(w, "  %s\n", more)
			}
		}
		for j := range f.Variants {
			v := &f.Variants[j]
			if p.FunctionNamed(v.Name) >= 0 { // it has a share of a wire, and is listed by itself
				continue
			}
			fmt.Fprintf(w, "  %s: %s\n    %s\n", v.Name, text.Harmless(describeStart(p, v)), describeLimits(p, v))
			if bounds := describeBounds(v); bounds != "" && bounds != describeBounds(f) {
				fmt.Fprintf(w, "    %s\n", bounds)
			}
		}
		for j := range f.Then {
			fmt.Fprintf(w, "  its reply is sent on to %s%s\n", p.Sources[f.Then[j].To].Name, f.Then[j].Words())
		}
		if !reached[i] {
			fmt.Fprintf(w, "  warning: no wire leads to %s, so no event reaches it\n", f.Name)
		}
	}
	for i := range p.Upstreams {
		fmt.Fprintf(w, "upstream %s\n", describeUpstream(p, i))
	}
	for i := range p.Drills {
		d := &p.Drills[i]
		budgets := "no budgets"
		if len(d.Budgets) > 0 {
			budgets = text.Plural(len(d.Budgets), "budget")
		}
		fmt.Fprintf(w, "\ndrill %s, %s\n", d.Name, budgets)
		if d.Cold != nil {
			_, drill := p.ColdPlan(d)
			fmt.Fprintf(w, "  starts each of %s cold %d times, in turns, with one event each\n",
				text.Plural(len(drill.Limits), "variant"), d.Cold.N)
			continue
		}
		now := slices.Clone(d.Limits)
		for _, c := range d.Changes {
			what := fmt.Sprintf("project total %d", c.Concurrency)
			if c.Function >= 0 {
				if what = p.Functions[c.Function].Name + ": " + c.Limits.Difference(now[c.Function]); c.Replace {
					what = p.Functions[c.Function].Name + " is replaced as by a new version"
				}
				now[c.Function] = c.Limits
			}
			fmt.Fprintf(w, "  at %v %s\n", text.Duration(c.At), what)
		}
		for _, m := range d.Marks {
			fmt.Fprintf(w, "  mark at %v: %s\n", text.Duration(m.At), m.Text)
		}
		for n := range d.Feeds {
			f := &d.Feeds[n]
			span := p.Span(f).Round(100 * time.Millisecond)
			if f.Clock != nil {
				events, _, notes := plan.TimesOf(&p.Sources[f.Source], f.Clock, nil)
				fmt.Fprintf(w, "  %s receives %s, %v of its clock: %s, over %v\n", p.Sources[f.Source].Name,
					p.FeedName(f), text.Duration(f.Clock.For), text.Plural(len(events), "time"), text.Duration(span))
				for _, note := range notes {
					fmt.Fprintf(w, "    %s\n", note)
				}
				continue
			}
			if f.Live > 0 {
				fmt.Fprintf(w, "  %s receives %s, for %v; such a run cannot be repeated\n", p.Sources[f.Source].Name,
					p.FeedName(f), text.Duration(span))
				continue
			}
			set := &p.Sets[f.Set]
			fmt.Fprintf(w, "  %s receives %s (%d) %s, over %v\n", p.Sources[f.Source].Name, set.Name, len(set.Payloads),
				describePhases(f.Phases), text.Duration(span))
		}
	}
}

// describePackage describes what counts as the function's package.
func describePackage(f *plan.Function, dir string) string {
	n, bytes := build.Package(f, dir)
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("its package, as far as it is here: %s, %d kB", text.Plural(n, "file"), (bytes+999)/1000)
}

// mostMisfits bounds the files that are listed.
const mostMisfits = 8

// describeTarget describes what of a function's files will not run where it is meant to.
func describeTarget(f *plan.Function, dir string) (lines []string) {
	t := &f.Target
	if t.Arch == "" {
		return nil
	}
	where := t.OS + "/" + t.Arch
	if t.Java > 0 {
		where += fmt.Sprintf(" with Java %d", t.Java)
	}
	misfits, looked, err := build.Misfits(f, dir)
	switch {
	case err != nil:
		return []string{"warning: its files could not be checked against " + where + ": " + err.Error()}
	case looked == 0:
		return []string{"for " + where + ": no executables, shared objects or class files are here yet"}
	case len(misfits) == 0:
		return []string{fmt.Sprintf("for %s: %s fit", where, text.Plural(looked, "executable or class file"))}
	}
	lines = append(lines, fmt.Sprintf("warning: %d of %s will not run on %s:", len(misfits),
		text.Plural(looked, "executable or class file"), where))
	for i, m := range misfits {
		if i == mostMisfits {
			lines = append(lines, fmt.Sprintf("  and %d more", len(misfits)-i))
			break
		}
		lines = append(lines, fmt.Sprintf("  %s is for %s", text.Harmless(m.File), m.For))
	}
	return lines
}

// describeStart describes how a function comes to run, and what makes a version of it.
func describeStart(p *plan.Project, f *plan.Function) string {
	if f.Transport == plan.Attach {
		return "attached at " + f.Address + ", started elsewhere"
	}
	content := strings.Join(f.Start, " ")
	switch {
	case f.Handler != nil:
		by := "run by " + strings.Join(f.Start[:len(f.Start)-3], " ")
		if f.Handler.Built() {
			by = "built by the go command"
		}
		content = fmt.Sprintf("%s:%s, a handler that takes %s, %s", f.Handler.File, f.Handler.Name,
			[...]string{plan.TakesEvent: "the event", plan.TakesData: "its data", plan.TakesRequest: "a request",
				plan.TakesShaped: "what its template makes of an event"}[f.Handler.Takes], by)
	case f.Transport == plan.Lines:
		content += ", transport: lines"
	case f.Transport == plan.OneShot:
		content += ", transport: oneshot (CGI)"
	case f.Socket:
		content += ", on a Unix socket"
	}
	if f.Fresh {
		content += ", a new connection for each request"
	}
	if f.Build != nil && !f.Handler.Built() {
		content += ", built by " + strings.Join(f.Build, " ")
	}
	if f.Prepare != nil {
		content += ", prepared by " + strings.Join(f.Prepare, " ")
	}
	for _, n := range f.Needs {
		content += ", needs " + p.Services[n].Name
	}
	for _, n := range f.Upstreams {
		content += ", calls " + p.Upstreams[n].Name
	}
	if f.Spans {
		content += ", sends its spans"
	}
	if len(f.Watch) > 0 {
		content += ", watches " + strings.Join(f.Watch, " ")
	}
	return content
}

// describeUpstream describes an upstream, and what is done with calls to it.
func describeUpstream(p *plan.Project, i int) string {
	u := &p.Upstreams[i]
	where := u.URL
	if u.Service >= 0 {
		where = "service " + p.Services[u.Service].Name
	}
	content := u.Name + " (" + where
	if u.Env != "" {
		content += ", address in " + u.Env
	}
	if u.Proxy {
		content += ", through a proxy"
	}
	content += "): "
	all, err := project.ReadRecording(u)
	recorded := "not recorded yet"
	switch {
	case err == nil:
		recorded = text.Plural(len(all), "call") + " recorded"
	case !errors.Is(err, fs.ErrNotExist):
		recorded = "warning: its recording cannot be used: " + err.Error()
	}
	mode := map[plan.Mode]string{plan.Pass: "passed on", plan.Record: "passed on and recorded",
		plan.Replay: "replayed"}[u.Mode]
	if mode == "" {
		mode = "passed on"
		if err == nil {
			mode = "replayed in drills, and passed on elsewhere"
		}
	}
	content += mode + "; " + recorded
	if how := u.Behaviour.String(); how != "" {
		content += "; " + how
	}
	return content
}

// nextTimes prints when a schedule falls due next.
func nextTimes(w io.Writer, s *plan.Source) {
	const shown = 10
	for _, t := range catalog.NextTimes(s, time.Now(), shown) {
		fmt.Fprintf(w, "    %s\n", t.At.Format("Mon 2006-01-02 15:04:05 -0700"))
		if t.Note != "" {
			fmt.Fprintf(w, "      %s\n", t.Note)
		}
	}
}

// describeLimits describes what a function's limits mean.
func describeLimits(p *plan.Project, f *plan.Function) string {
	l := f.Limits
	if l.TurnAway {
		return "rejects everything: HTTP requests are rejected, other events wait"
	}
	if l.Max == 0 {
		return "invokes nothing: its limit is 0, so HTTP requests are rejected and other events wait"
	}
	content := fmt.Sprintf("handles at most %d at a time, ", l.Max)
	switch {
	case f.Transport == plan.OneShot:
		content += "each in a process of its own, so always cold"
	case f.Transport == plan.Attach:
		content += "all on the process that was started elsewhere"
	case l.PerInstance == 1:
		content += "one on each instance"
	default:
		content += fmt.Sprintf("up to %d on each of at most %s", l.PerInstance, text.Plural(l.Instances(), "instance"))
	}
	guaranteed := 0
	for i := range p.Functions {
		guaranteed += p.Functions[i].Limits.Guaranteed
	}
	rest := p.Concurrency - guaranteed
	switch {
	case l.Guaranteed > 0 && rest > 0:
		content += fmt.Sprintf("; %d of the project's %d are guaranteed to it, the others share %d", l.Guaranteed,
			p.Concurrency, p.Concurrency-l.Guaranteed)
	case l.Guaranteed > 0:
		content += fmt.Sprintf("; %d of the project's %d are guaranteed to it", l.Guaranteed, p.Concurrency)
	case guaranteed > 0:
		content += fmt.Sprintf("; %d of the project's %d are guaranteed to others, the rest is shared", guaranteed,
			p.Concurrency)
	}
	if f.Transport == plan.OneShot || f.Transport == plan.Attach {
		return content
	}
	if l.StartEvery > 0 {
		content += fmt.Sprintf("; instances start at %s", l.StartRate())
		if l.StartBurst > 1 {
			content += fmt.Sprintf(", the first %d at once", l.StartBurst)
		}
	}
	if f.Parked > 0 {
		content += fmt.Sprintf("; %s started ahead and parked in memory until needed", text.Plural(f.Parked, "process"))
	}
	if l.KeepWarm > 0 {
		content += fmt.Sprintf("; %d kept warm, others stop when idle for %v", l.KeepWarm, text.Duration(l.IdleAfter))
	} else {
		content += fmt.Sprintf("; idle ones stop after %v, so the next event is cold", text.Duration(l.IdleAfter))
	}
	return content
}

// describeBounds describes what an instance may use, and whether that holds here; "" where it may
// use what it likes.
func describeBounds(f *plan.Function) string {
	var parts []string
	if f.Memory > 0 {
		parts = append(parts, fmt.Sprintf("%g MiB of memory", float64(f.Memory)/(1<<20)))
	}
	if f.CPU > 0 {
		by := ""
		if f.ByMemory {
			by = " (by its memory)"
		}
		parts = append(parts, fmt.Sprintf("%.3g of a processor%s", f.CPU, by))
	}
	if len(parts) == 0 {
		return ""
	}
	return fmt.Sprintf("each instance may use %s: %s", strings.Join(parts, " and "),
		proc.Bounded().Says(proc.Bounds{Memory: f.Memory, CPU: f.CPU}))
}

// describeReplacement describes how a new version comes; "" for the usual way.
func describeReplacement(f *plan.Function) string {
	return map[plan.Replacement]string{
		plan.AtOnce: "a new version replaces all instances at once; events wait until the first new one is ready",
		plan.SideBySide: "a new version starts beside the old one, which serves until all of the new one is ready; " +
			"meanwhile there are twice as many instances",
	}[f.Replace]
}

func describePhases(phases []arrival.Phase) string {
	var parts []string
	for _, p := range phases {
		content := p.Pattern.String()
		switch p.Pattern {
		case arrival.Recorded:
			if p.Speed != 1 {
				content += fmt.Sprintf(" at %g times the speed", p.Speed)
			}
		case arrival.Steady, arrival.Poisson:
			content += fmt.Sprintf(" %g/s", p.Rate.PerSecond())
		case arrival.Ramp:
			content += fmt.Sprintf(" %g/s to %g/s", p.Rate.PerSecond(), p.To.PerSecond())
		case arrival.Burst:
			content += fmt.Sprintf(" of %d every %v", p.Size, text.Duration(p.Every))
		case arrival.Callers:
			content = fmt.Sprintf("from %d callers", p.Size)
		}
		parts = append(parts, content)
	}
	return strings.Join(parts, ", then ")
}
