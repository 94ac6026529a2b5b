package project

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"

	"nightdrill.dev/internal/core/plan"
)

// ofLimits are the settings of a function that a drill, a change during it, or
// someone at the screen may set anew.
var ofLimits = []string{"concurrency", "keep_warm", "idle_after", "start_rate", "start_burst", "turn_away"}

// limits reads the settings that a function has and a drill may change.
func (l *loader) limits(o *object, otherwise plan.Limits) plan.Limits {
	limits := otherwise
	if c := o.child("concurrency", "max", "guaranteed", "per_instance"); c != nil {
		limits.Max = c.whole("max", otherwise.Max, 0)
		limits.Guaranteed = c.whole("guaranteed", otherwise.Guaranteed, 0)
		if c.fields["guaranteed"] == nil {
			limits.Guaranteed = min(limits.Guaranteed, limits.Max)
		}
		if limits.Guaranteed > limits.Max {
			l.wrong(c.fields["guaranteed"], "%s is %d, but at most %d may be in flight", c.at("guaranteed"),
				limits.Guaranteed, limits.Max)
			limits.Guaranteed = 0
		}
		limits.PerInstance = c.whole("per_instance", otherwise.PerInstance, 1)
		if limits.PerInstance > plan.MostPerInstance {
			l.wrong(c.fields["per_instance"], "%s is %d; it must be at most %d", c.at("per_instance"),
				limits.PerInstance, plan.MostPerInstance)
			limits.PerInstance = 1
		}
	}
	limits.KeepWarm = o.whole("keep_warm", otherwise.KeepWarm, 0)
	limits.IdleAfter = o.duration("idle_after", otherwise.IdleAfter, 0)
	if limits.KeepWarm > limits.Instances() {
		at := o.fields["keep_warm"]
		if at == nil {
			at = o.node
		}
		l.wrong(at, "%s is %d, but a limit of %d at once with %d on each instance allows only %d instances",
			o.at("keep_warm"), limits.KeepWarm, limits.Max, limits.PerInstance, limits.Instances())
	}
	if n := o.fields["start_rate"]; n != nil {
		if s, _ := l.text(n, o.at("start_rate")); s == "unbounded" {
			limits.StartEvery = 0
		} else if r := o.rate("start_rate"); r.Events == 0 {
			l.wrong(n, "%s: the rate must be above 0; for no bound omit it, or write unbounded", o.at("start_rate"))
		} else {
			limits.StartEvery = plan.Every(r)
		}
	}
	limits.StartBurst = o.whole("start_burst", otherwise.StartBurst, 1)
	if n := o.keys["start_burst"]; n != nil && limits.StartEvery == 0 {
		l.wrong(n, "%s needs start_rate, such as start_rate: 5/s", o.at("start_burst"))
	}
	if o.fields["turn_away"] != nil {
		limits.TurnAway = o.choice("turn_away", []string{"false", "true"}, 0) == 1
	}
	return limits
}

// processes reads how a function's processes are reached, what they may use, and
// how a new version takes the place of an old one.
func (l *loader) processes(f *plan.Function, o *object) {
	if o.fields["listen"] != nil {
		f.Socket = o.choice("listen", []string{"port", "socket"}, 0) == 1
	}
	if o.fields["connection"] != nil {
		f.Fresh = o.choice("connection", []string{"kept", "fresh"}, 0) == 1
	}
	f.Replace = plan.Replacement(o.choice("replace", plan.Replacements, int(f.Replace)))
	if f.Parked = o.whole("parked", f.Parked, 0); f.Parked > 100 {
		l.wrong(o.fields["parked"], "%s is %d; it must be at most 100", o.at("parked"), f.Parked)
		f.Parked = 0
	}
	l.resources(f, o)
	// what does not go together
	refuse := func(key, why string) {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s: %s", o.at(key), why)
		}
	}
	switch f.Transport {
	case plan.Attach:
		for _, key := range []string{"listen", "parked", "memory", "cpu", "replace"} {
			refuse(key, "a function with transport: attach is started elsewhere")
		}
		f.Socket, f.Parked, f.Memory, f.CPU = false, 0, 0, 0
	case plan.Lines, plan.OneShot:
		why := fmt.Sprintf("a function with transport: %s uses its standard input and output", f.Transport)
		for _, key := range []string{"listen", "connection"} {
			refuse(key, why)
		}
		f.Socket, f.Fresh = false, false
		if f.Ready.By != plan.ReadyLine {
			if f.Ready = (plan.Ready{By: plan.ReadyRuns}); o.fields["ready"] != nil {
				l.wrong(o.fields["ready"], "%s: it listens on no port, so it is ready when it runs, or when a line "+
					"of its standard error matches: {line: \"…\"}", o.at("ready"))
			}
		}
	}
	if f.Transport == plan.Lines && f.Limits.PerInstance > 1 {
		l.wrong(o.node, "%s is %d, but transport: lines handles one event at a time", o.at("concurrency.per_instance"),
			f.Limits.PerInstance)
	}
	if f.Transport == plan.OneShot {
		for _, key := range []string{"ready", "keep_warm", "parked", "idle_after"} {
			refuse(key, "transport: oneshot has a process for each invocation, and none before or after it")
		}
		f.Ready, f.Parked, f.Limits.KeepWarm = plan.Ready{By: plan.ReadyRuns}, 0, 0
		if f.Limits.PerInstance > 1 {
			l.wrong(o.node, "%s is %d, but transport: oneshot has a process for each invocation",
				o.at("concurrency.per_instance"), f.Limits.PerInstance)
		}
	}
}

// leastMemory is the least that a process can be held to.
const leastMemory = 1 << 20

// resources reads what an instance may use.
func (l *loader) resources(f *plan.Function, o *object) {
	if n := o.fields["memory"]; n != nil {
		text := o.text("memory", "")
		bytes, err := plan.ParseSize(text, 1<<50)
		switch {
		case text == "unbounded":
			f.Memory = 0
		case err != nil:
			l.wrong(n, "%s: %q is not a size, such as 256MiB, or unbounded", o.at("memory"), text)
		case bytes < leastMemory:
			l.wrong(n, "%s: %s is less than 1 MiB, too small for any process", o.at("memory"), text)
		default:
			f.Memory = bytes
		}
	}
	n := o.fields["cpu"]
	if n == nil {
		if f.ByMemory {
			f.CPU = float64(f.Memory) / float64(l.p.MemoryPerCPU)
		}
		return
	}
	f.ByMemory = false
	switch text := o.text("cpu", ""); text {
	case "unbounded":
		f.CPU = 0
	case "by_memory":
		if l.p.MemoryPerCPU == 0 {
			l.wrong(n, "%s: needs the project's memory_per_cpu, such as memory_per_cpu: 2GiB", o.at("cpu"))
			return
		}
		if f.Memory == 0 {
			l.wrong(n, "%s: needs memory, such as memory: 512MiB", o.at("cpu"))
			return
		}
		f.ByMemory, f.CPU = true, float64(f.Memory)/float64(l.p.MemoryPerCPU)
	default:
		cpu, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(cpu) || cpu < 0.01 || cpu > 1024 {
			l.wrong(n, "%s: %q must be a number of processors from 0.01 to 1024, by_memory or unbounded", o.at("cpu"),
				text)
			return
		}
		f.CPU = cpu
	}
}

// longestMark bounds the text of a mark, which stands on the time axis.
const longestMark = 40

// marks reads the named moments of a drill.
func (l *loader) marks(d *plan.Drill, o *object) {
	for i, n := range o.list("marks") {
		m := l.object(n, fmt.Sprintf("%s[%d]", o.at("marks"), i), "at", "text")
		mark := plan.Mark{At: m.duration("at", 0, 0), Text: strings.TrimSpace(m.need("text", "rush"))}
		if m.fields["at"] == nil {
			l.wrong(m.node, "%s is missing, such as {at: 5s, text: rush}", m.at("at"))
		}
		switch node := m.fields["text"]; {
		case node == nil:
		case mark.Text == "" || utf8.RuneCountInString(mark.Text) > longestMark:
			l.wrong(node, "%s must have 1 to %d characters", m.at("text"), longestMark)
		}
		d.Marks = append(d.Marks, mark)
	}
	slices.SortStableFunc(d.Marks, func(a, b plan.Mark) int { return cmp.Compare(a.At, b.At) })
}

// changes reads what is changed while a drill runs.
func (l *loader) changes(d *plan.Drill, o *object) {
	limits, all := slices.Clone(d.Limits), d.Concurrency
	last := time.Duration(0)
	for i, n := range o.list("changes") {
		path := fmt.Sprintf("%s[%d]", o.at("changes"), i)
		c := l.object(n, path, "at", "concurrency", "limits", "replace")
		if c.fields["at"] == nil {
			l.wrong(n, "%s is missing, such as {at: 5s, limits: {quote: {concurrency: {max: 2}}}}", c.at("at"))
		}
		at := c.duration("at", last, 0)
		if at < last {
			l.wrong(c.fields["at"], "%s is %v, but the change before it is at %v; changes must be in the order of "+
				"their times", c.at("at"), at, last)
		}
		last = at
		before := len(d.Changes)
		if c.fields["concurrency"] != nil {
			all = c.whole("concurrency", all, 1)
			d.Changes = append(d.Changes, plan.Change{At: at, Function: -1, Concurrency: all})
		}
		l.eachFunction(c.child("limits"), func(fn int, under *object, name string) {
			limits[fn] = l.limitsFor(fn, under, name, limits[fn])
			d.Changes = append(d.Changes, plan.Change{At: at, Function: fn, Limits: limits[fn]})
		})
		l.sharesFit(c.node, path, all, limits)
		if name := c.text("replace", ""); name != "" {
			if fn := l.p.FunctionNamed(name); fn < 0 {
				l.wrong(c.fields["replace"], "%s: unknown function %q%s", c.at("replace"), name,
					didYouMean(name, l.functionNames()))
			} else {
				d.Changes = append(d.Changes, plan.Change{At: at, Function: fn, Limits: limits[fn], Replace: true})
			}
		}
		if len(d.Changes) == before && len(l.mistakes) == 0 {
			l.wrong(n, "%s changes nothing; expected concurrency, limits or replace", path)
		}
	}
}

// limitsFor reads limits that a drill gives a function in place of its own.
func (l *loader) limitsFor(fn int, under *object, name string, otherwise plan.Limits) plan.Limits {
	before := len(l.mistakes)
	limits := l.limits(under.child(name, ofLimits...), otherwise)
	if why := l.p.Functions[fn].CheckLimits(&limits); why != "" && len(l.mistakes) == before {
		l.wrong(under.fields[name], "%s: %s", under.at(name), why)
		return otherwise
	}
	return limits
}

// eachFunction visits the functions that a mapping names.
func (l *loader) eachFunction(o *object, visit func(fn int, o *object, name string)) {
	if o == nil {
		return
	}
	for _, name := range o.order {
		if fn := l.p.FunctionNamed(name); fn < 0 {
			l.wrong(o.keys[name], "%s: unknown function %q%s", o.path, name, didYouMean(name, l.functionNames()))
		} else {
			visit(fn, o, name)
		}
	}
}

// sharesFit checks that what is guaranteed fits a limit for all.
func (l *loader) sharesFit(n ast.Node, where string, all int, limits []plan.Limits) {
	if why := plan.SharesFit(all, limits); why != "" {
		if where != "" {
			where += ": "
		}
		l.wrong(n, "%s%s", where, why)
	}
}

// mostCalm bounds the invocations of a calm pass.
const mostCalm = 10_000

// calm reads how many warm invocations are made one at a time before a drill.
func (l *loader) calm(d *plan.Drill, o *object) {
	d.Calm = o.whole("calm", 0, 1)
	switch n := o.fields["calm"]; {
	case n == nil:
	case d.Cold != nil:
		l.wrong(n, "%s cannot be used with cold_starts, whose own warm invocations are made one at a time",
			o.at("calm"))
	case d.Calm > mostCalm:
		l.wrong(n, "%s is %d; it must be at most %d", o.at("calm"), d.Calm, mostCalm)
	}
}

// coldStarts reads how often each variant is to be started, one after the other.
func (l *loader) coldStarts(d *plan.Drill, o *object) {
	c := o.child("cold_starts", "n", "warm", "files", "of")
	if c == nil {
		return
	}
	x := &plan.ColdStarts{N: c.whole("n", 30, 1)}
	if x.N > 10_000 {
		l.wrong(c.fields["n"], "%s is %d; it must be at most 10000", c.at("n"), x.N)
	}
	if x.Warm = c.whole("warm", 0, 1); x.Warm > 1_000_000 {
		l.wrong(c.fields["warm"], "%s is %d; it must be at most 1000000", c.at("warm"), x.Warm)
	}
	if n := c.fields["files"]; n != nil {
		nodes := []ast.Node{n}
		if seq, ok := l.follow(n).(*ast.SequenceNode); ok {
			nodes = seq.Values
		}
		for _, n := range nodes {
			switch s, _ := l.text(n, c.at("files")); s {
			case "cached":
				x.Cached = true
			case "dropped":
				x.Dropped = true
			default:
				l.wrong(n, "%s: %q must be cached or dropped", c.at("files"), s)
			}
		}
	} else {
		x.Cached = true
	}
	names := []string{}
	for i := range l.p.Functions {
		names = append(names, l.p.Functions[i].Name)
		for _, v := range l.p.Functions[i].Variants {
			names = append(names, v.Name)
		}
	}
	for i, n := range c.list("of") {
		name, ok := l.text(n, fmt.Sprintf("%s[%d]", c.at("of"), i))
		if ok && !slices.Contains(names, name) {
			l.wrong(n, "%s[%d]: unknown function or variant %q%s", c.at("of"), i, name, didYouMean(name, names))
		}
		x.Of = append(x.Of, name)
	}
	for _, key := range []string{"changes", "idempotence"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s cannot be used with cold_starts, which send one event after the other", o.at(key))
		}
	}
	d.Cold = x
}

// doubtShares warns of limits that can never be reached.
func (l *loader) doubtShares(o *object) {
	guaranteed := 0
	for i := range l.p.Functions {
		guaranteed += l.p.Functions[i].Limits.Guaranteed
	}
	for i := range l.p.Functions {
		f := &l.p.Functions[i]
		room := max(l.p.Concurrency-guaranteed+f.Limits.Guaranteed, 0)
		if f.Limits.Max <= room || o == nil || o.fields[f.Name] == nil {
			continue
		}
		why := fmt.Sprintf("the project total is %d", l.p.Concurrency)
		if room < l.p.Concurrency {
			why += fmt.Sprintf(", of which %d are guaranteed to others", l.p.Concurrency-room)
		}
		l.doubts = append(l.doubts, l.mistake(o.keys[f.Name], "%s has max %d, but can never exceed %d: %s",
			o.at(f.Name), f.Limits.Max, room, why))
	}
}

// budgeted returns the names of functions that a drill's budgets may be about: in one of
// cold starts, its variants too.
func (l *loader) budgeted(d *plan.Drill) []string {
	names := l.functionNames()
	if d.Cold != nil {
		cold, _ := l.p.ColdPlan(d)
		for i := range cold.Functions {
			names = append(names, cold.Functions[i].Name)
		}
	}
	return names
}
