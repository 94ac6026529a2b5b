package project

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml/ast"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/programs"
)

// ofVariant are the settings of a function that a variant may change, and
// ofFunction all of them.
var (
	ofVariant = []string{
		"start",
		"handler",
		"interpreter",
		"loader",
		"takes",
		"reply",
		"pass_trace",
		"stop",
		"build",
		"prepare",
		"watch",
		"needs",
		"transport",
		"url",
		"dir",
		"env",
		"env_file",
		"ready",
		"path",
		"deliver",
		"shape",
		"timeout",
		"start_timeout",
		"concurrency",
		"keep_warm",
		"idle_after",
		"start_rate",
		"start_burst",
		"turn_away",
		"listen",
		"connection",
		"replace",
		"parked",
		"memory",
		"cpu",
		"package", "target", "reach_at", "spans",
	}
	ofFunction = append(slices.Clone(ofVariant), "then", "variants")
)

func (l *loader) function(name string, all *object) {
	o := all.child(name, ofFunction...)
	f := plan.Function{Name: name, Dir: l.dir, Path: "/", Spans: l.spans, Timeout: DefaultTimeout,
		StartTimeout: DefaultStartTimeout,
		Limits:       plan.Limits{Max: min(DefaultMax, l.p.Concurrency), PerInstance: 1, IdleAfter: DefaultIdleAfter}}
	l.settings(&f, o)
	if variants := o.child("variants"); variants != nil {
		for _, v := range variants.order {
			changed := f
			changed.Name, changed.Variants = name+"@"+v, nil
			// a variant is there when it is requested, and not before
			changed.Limits.KeepWarm, changed.Limits.Guaranteed = 0, 0
			vo := variants.child(v, ofVariant...)
			if len(vo.fields) == 0 {
				l.wrong(variants.keys[v], "%s changes nothing; settings: %s", variants.at(v), listed(ofVariant))
			}
			l.settings(&changed, vo)
			f.Variants = append(f.Variants, changed)
		}
	}
	l.p.Functions = append(l.p.Functions, f)
	if o.fields["then"] != nil {
		at := len(l.p.Functions) - 1
		l.closing = append(l.closing, func() { l.thens(&l.p.Functions[at], o) })
	}
}

// settings reads those settings of a function that are given.
func (l *loader) settings(f *plan.Function, o *object) {
	if o.fields["dir"] != nil {
		if d := o.within("dir", l.dir); d != "" {
			f.Dir = d
			if info, err := os.Stat(d); err != nil || !info.IsDir() {
				l.wrong(o.fields["dir"], "%s: no folder %s", o.at("dir"), o.text("dir", ""))
			}
		}
	}
	if o.fields["transport"] != nil {
		f.Transport = plan.Transport(o.choice("transport", plan.Transports[:plan.Loaded], 0))
	}
	f.Build = l.command(o, "build", f.Build)
	f.Prepare = l.command(o, "prepare", f.Prepare)
	f.Stop = l.command(o, "stop", f.Stop)
	if f.Transport == plan.Attach {
		l.attach(f, o)
	} else {
		if n := o.keys["url"]; n != nil {
			l.wrong(n, "%s needs transport: attach", o.at("url"))
		}
		if !l.handler(f, o) {
			l.start(f, o)
		}
	}
	l.watch(f, o)
	l.target(f, o)
	if n := o.fields["reach_at"]; n != nil {
		f.ReachAt = o.text("reach_at", "")
		u, err := url.Parse("http://" + f.ReachAt)
		if err != nil || f.ReachAt == "" || u.Host != f.ReachAt || u.Port() != "" {
			l.wrong(n, "%s: %q is not a host name or an address, such as host.containers.internal", o.at("reach_at"),
				f.ReachAt)
		}
	}
	if o.fields["package"] != nil {
		f.Package = l.patterns(o, "package")
	}
	l.needs(f, o)
	l.upstreamsOf(f)
	if o.fields["spans"] != nil {
		f.Spans = o.choice("spans", []string{"false", "true"}, 0) == 1
	}
	l.env(f, o)
	if f.Handler == nil {
		l.ready(&f.Ready, o)
	}
	if f.Path = o.text("path", f.Path); !strings.HasPrefix(f.Path, "/") || strings.ContainsAny(f.Path, " \r\n") {
		l.wrong(o.fields["path"], "%s: %q is not a path; it must begin with / and have no spaces", o.at("path"), f.Path)
	}
	l.deliver(f, o)
	f.Timeout = o.duration("timeout", f.Timeout, time.Millisecond)
	f.StartTimeout = o.duration("start_timeout", f.StartTimeout, time.Millisecond)
	f.Limits = l.limits(o, f.Limits)
	if f.Transport == plan.Attach { // there is one process, and it takes what comes
		f.Limits.PerInstance, f.Limits.KeepWarm = max(f.Limits.Max, 1), 0
	}
	l.processes(f, o)
}

// deliver reads in which form the function gets its events.
func (l *loader) deliver(f *plan.Function, o *object) {
	if f.Handler == nil {
		f.Deliver = plan.Deliver(o.choice("deliver", []string{"binary", "structured", "body", "shaped"},
			int(f.Deliver)))
	}
	c := o.keys["shape"]
	switch {
	case f.Handler != nil && f.Deliver != plan.DeliverShaped && c != nil:
		l.wrong(c, "%s needs takes: shaped", o.at("shape"))
	case f.Handler != nil && f.Deliver == plan.DeliverShaped && c == nil && f.Shape == nil:
		l.wrong(o.node, "%s: missing template, such as shape: {template: templates/event.tmpl}, or a template "+
			"with {{ in "+
			"it", o.at("takes"))
	case f.Deliver != plan.DeliverShaped && c != nil:
		l.wrong(c, "%s needs deliver: shaped", o.at("shape"))
	case f.Deliver == plan.DeliverShaped && c == nil && f.Shape == nil:
		l.wrong(o.fields["deliver"], "%s: missing template, such as shape: {template: templates/event.tmpl}, or a "+
			"template with {{ in it", o.at("deliver"))
	case c != nil:
		f.Shape = l.template(o)
	}
}

// attach reads where a function is that someone else starts.
func (l *loader) attach(f *plan.Function, o *object) {
	for _, key := range []string{"start", "stop", "build", "prepare", "ready", "keep_warm"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s: a function with transport: attach is started elsewhere", o.at(key))
		}
	}
	f.Start, f.Build, f.Prepare, f.Stop, f.Watch, f.Ready = nil, nil, nil, nil, nil, plan.Ready{}
	if o.fields["url"] == nil {
		if f.Address == "" {
			l.wrong(o.node, "%s is missing: the function's address, such as url: http://127.0.0.1:9000", o.at("url"))
		}
		return
	}
	text := o.text("url", "")
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
		l.wrong(o.fields["url"], "%s: %q must have the form http://host:port", o.at("url"), text)
		return
	}
	port := u.Port()
	if port == "" {
		port = "80"
	}
	f.Address = net.JoinHostPort(u.Hostname(), port)
}

const commandExample = "[python3, functions/quote.py]"

// command reads an optional command.
func (l *loader) command(o *object, key string, otherwise []string) (args []string) {
	n, ok := o.fields[key]
	if !ok {
		return otherwise
	}
	seq, ok := l.follow(n).(*ast.SequenceNode)
	if !ok {
		l.wrong(n, "%s is %s; expected a list, the command and its arguments, such as %s", o.at(key),
			describe(l.follow(n)), commandExample)
		return nil
	}
	for i, v := range seq.Values {
		s, ok := l.text(v, fmt.Sprintf("%s[%d]", o.at(key), i))
		if !ok {
			return nil
		}
		args = append(args, s)
	}
	if len(args) == 0 || args[0] == "" {
		l.wrong(n, "%s is empty; expected the command and its arguments, such as %s", o.at(key), commandExample)
		return nil
	}
	if args[0] == "{nightdrill}" {
		self, err := os.Executable()
		if err != nil {
			l.wrong(n, "%s: the path of this program is not known: %v", o.at(key), err)
		}
		args[0] = self
	}
	return args
}

func (l *loader) start(f *plan.Function, o *object) {
	if o.fields["start"] == nil {
		if f.Start == nil {
			l.wrong(o.node, "%s is missing, such as start: %s, or a handler, such as handler: %s", o.at("start"),
				commandExample, handlerExample)
		}
		return
	}
	if f.Start = l.command(o, "start", nil); f.Start == nil {
		return
	}
	at := ast.Node(nil)
	if seq, ok := l.follow(o.fields["start"]).(*ast.SequenceNode); ok {
		at = seq.Values[0]
	}
	f.Start[0] = l.program(f, o, at)
}

// program finds the program that a function is started with. One that is not
// there is distinguished from what is wrong in the file: it may come later.
func (l *loader) program(f *plan.Function, o *object, n ast.Node) string {
	name := f.Start[0]
	lacks := func(format string, args ...any) {
		if f.Build == nil { // the build may make it
			l.missing = append(l.missing, l.mistake(n, format, args...))
		}
	}
	if code := script(f.Start); code != "" {
		path := filepath.FromSlash(code)
		if !filepath.IsAbs(path) {
			path = filepath.Join(f.Dir, path)
		}
		if info, err := os.Stat(path); err != nil || info.IsDir() {
			lacks("%s: no file %s%s", o.at("start"), code, suggestFile(path))
		}
	}
	if strings.ContainsRune(name, '/') {
		path := filepath.FromSlash(name)
		if !filepath.IsAbs(path) {
			path = filepath.Join(f.Dir, path)
		}
		info, err := os.Stat(path)
		switch {
		case err != nil:
			lacks("%s: no file %s%s", o.at("start"), name, didYouMean(filepath.Base(name), filesIn(filepath.Dir(path))))
		case info.IsDir():
			lacks("%s: %s is a folder", o.at("start"), name)
		case info.Mode()&0o111 == 0:
			lacks("%s: %s is not executable; run chmod +x on it, or put the interpreter first", o.at("start"), name)
		default:
			if system := foreign(path); system != "" {
				lacks("%s: %s was built for %s", o.at("start"), name, system)
			}
		}
		return path
	}
	if _, err := exec.LookPath(name); err != nil {
		lacks("%s: %q not found on the PATH%s", o.at("start"), name, programs.Nearest(name))
	}
	return name
}

// suggestFile suggests a file beside one that is not there.
func suggestFile(path string) string {
	return didYouMean(filepath.Base(path), filesIn(filepath.Dir(path)))
}

func filesIn(dir string) (names []string) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// module returns patterns of the Go files of the module that a folder is in, as far as they are in the project.
func (l *loader) module(dir string) []string {
	for {
		rel, err := filepath.Rel(l.dir, dir)
		if err != nil || !filepath.IsLocal(rel) {
			return []string{"**/*.go", "go.mod"}
		}
		if _, err := os.Stat(filepath.Join(dir, "go.mod")); err == nil || rel == "." {
			at := escapePattern(filepath.ToSlash(rel))
			return []string{filepath.ToSlash(filepath.Join(at, "**", "*.go")),
				filepath.ToSlash(filepath.Join(at, "go.mod"))}
		}
		dir = filepath.Dir(dir)
	}
}

// archNames are other names that processors go by.
var archNames = map[string]string{"x86_64": "amd64", "x64": "amd64", "aarch64": "arm64", "x86": "386", "i386": "386",
	"i686": "386", "armv7": "arm", "armv7l": "arm"}

// target reads where a function is to run.
func (l *loader) target(f *plan.Function, o *object) {
	if o.fields["target"] == nil {
		return
	}
	t := o.child("target", "os", "arch", "java")
	if t == nil {
		return
	}
	f.Target = plan.Target{OS: plan.TargetSystems[max(t.choice("os", plan.TargetSystems, 0), 0)],
		Java: t.whole("java", 0, 1)}
	if t.fields["arch"] == nil {
		l.wrong(t.node, "%s is missing: the processor there, one of %s", t.at("arch"), listed(plan.TargetArchs))
		return
	}
	if arch := t.text("arch", ""); archNames[arch] != "" {
		f.Target.Arch = archNames[arch]
	} else {
		f.Target.Arch = plan.TargetArchs[max(t.choice("arch", plan.TargetArchs, 0), 0)]
	}
}

// watch reads the patterns of files that make a version of the code. Without,
// they are the files of the project that the command names.
func (l *loader) watch(f *plan.Function, o *object) {
	if n, ok := o.fields["watch"]; ok {
		f.Watch = l.patterns(o, "watch")
		if l.follow(n) != nil && f.Watch == nil {
			f.Watch = []string{}
		}
		return
	}
	if o.fields["start"] == nil && o.fields["handler"] == nil && o.fields["dir"] == nil {
		return // a variant keeps its function's
	}
	f.Watch = nil
	if f.Handler != nil { // the file, and those beside it that it may import
		path := HandlerPath(f)
		if f.Handler.Language == plan.Java {
			f.Watch = l.javaSources(f, path)
		} else if f.Handler.Built() {
			f.Watch = l.module(filepath.Dir(path))
		} else if rel, err := filepath.Rel(l.dir, filepath.Dir(path)); err == nil && filepath.IsLocal(rel) {
			f.Watch = []string{filepath.ToSlash(filepath.Join(escapePattern(filepath.ToSlash(rel)),
				"*"+filepath.Ext(path)))}
		}
	}
	l.watchNamed(f)
}

// watchNamed adds the project's files that the command names.
func (l *loader) watchNamed(f *plan.Function) {
	args := f.Start
	if f.Handler != nil {
		if f.Handler.Language != plan.OtherLanguage || len(args) < 3 {
			return
		}
		args = args[:len(args)-3]
	}
	for _, arg := range args {
		path := arg
		if !filepath.IsAbs(path) {
			path = filepath.Join(f.Dir, filepath.FromSlash(arg))
		}
		rel, err := filepath.Rel(l.dir, path)
		if err != nil || !filepath.IsLocal(rel) {
			continue
		}
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			f.Watch = append(f.Watch, escapePattern(filepath.ToSlash(rel)))
		}
	}
}

// javaSources returns patterns of what makes a version of a handler in Java: the sources in the function's folder
// where a build compiles them, else the jar or the classes themselves.
func (l *loader) javaSources(f *plan.Function, path string) []string {
	from, what := f.Dir, "**/*.{java,kt,scala}"
	switch {
	case f.Build != nil:
	case filepath.Ext(path) == "":
		from, what = path, "**/*.class"
	default:
		from, what = filepath.Dir(path), escapePattern(filepath.Base(path))
	}
	rel, err := filepath.Rel(l.dir, from)
	if err != nil || rel != "." && !filepath.IsLocal(rel) {
		return nil
	}
	return []string{filepath.ToSlash(filepath.Join(escapePattern(filepath.ToSlash(rel)), what))}
}

// patterns reads patterns of files of the project.
func (l *loader) patterns(o *object, key string) (out []string) {
	for i, v := range o.list(key) {
		s, ok := l.text(v, fmt.Sprintf("%s[%d]", o.at(key), i))
		switch {
		case !ok:
		case !doublestar.ValidatePattern(s):
			l.wrong(v, "%s[%d]: %q is not a pattern, such as functions/**/*.py", o.at(key), i, s)
		case !filepath.IsLocal(filepath.FromSlash(s)):
			l.wrong(v, "%s[%d]: %q leaves the project's folder", o.at(key), i, s)
		default:
			out = append(out, s)
		}
	}
	return out
}

// escapePattern makes a pattern that fits one path alone.
func escapePattern(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`).Replace(path)
}

func (l *loader) needs(f *plan.Function, o *object) {
	if o.fields["needs"] == nil {
		return
	}
	f.Needs = nil
	for i, v := range o.list("needs") {
		name, ok := l.text(v, fmt.Sprintf("%s[%d]", o.at("needs"), i))
		if !ok {
			continue
		}
		at := slices.IndexFunc(l.p.Services, func(s plan.Service) bool { return s.Name == name })
		if at < 0 {
			var names []string
			for _, s := range l.p.Services {
				names = append(names, s.Name)
			}
			l.wrong(v, "%s[%d]: unknown service %q%s", o.at("needs"), i, name, didYouMean(name, names))
			continue
		}
		f.Needs = append(f.Needs, at)
	}
}

// env reads env_file and env; what is named again takes the place of what was
// there.
func (l *loader) env(f *plan.Function, o *object) {
	f.Env = slices.Clone(f.Env) // a variant's own
	l.envFile(f, o)
	n := o.fields["env"]
	if n == nil {
		return
	}
	var values []*ast.MappingValueNode
	switch m := l.follow(n).(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		l.wrong(n, "%s is %s; expected a mapping of names to values", o.at("env"), describe(m))
		return
	}
	for _, v := range values {
		key := v.Key.GetToken().Value
		if key == "" || strings.ContainsAny(key, "=\x00") {
			l.wrong(v.Key, "%s: %q is not the name of an environment variable", o.at("env"), key)
			continue
		}
		if why, ours := ourNames[key]; ours {
			l.wrong(v.Key, "%s: %s is set by Night Drill, to %s", o.at("env"), key, why)
			continue
		}
		if s, ok := l.text(v.Value, join(o.at("env"), key)); ok {
			f.Env = SetEnv(f.Env, key, s)
			l.publishes(v.Value, join(o.at("env"), key), s)
		}
	}
}

// publishes notes the sources that a value has the address of, which are known later.
func (l *loader) publishes(n ast.Node, at, value string) {
	for _, source := range (&plan.Function{Env: []string{value}}).Publishes() {
		l.closing = append(l.closing, func() {
			k := l.p.SourceNamed(source)
			switch {
			case k < 0:
				l.wrong(n, "%s: unknown source %q%s", at, source, didYouMean(source, l.sourceNames()))
			case !l.p.Sources[k].Kind.Published():
				l.wrong(n, "%s: %s is of kind %s; events are published to queues and streams", at, source,
					l.p.Sources[k].Kind)
			}
		})
	}
}

// ourNames are the environment variables that every instance is given.
var ourNames = map[string]string{"PORT": "the port that the instance listens on",
	"SOCKET":           "the Unix socket that the instance listens on",
	"PUBLISH_URL":      "the address at which events are published",
	"PUBLISH_MQTT_URL": "the address at which events are published over MQTT"}

// SetEnv returns the environment, which is sorted, with one value changed.
func SetEnv(env []string, name, value string) []string {
	out := slices.DeleteFunc(slices.Clone(env), func(s string) bool { return strings.HasPrefix(s, name+"=") })
	out = append(out, name+"="+value)
	slices.Sort(out)
	return out
}

// envFile reads NAME=value lines; # begins a comment, quotes around a value are
// taken off.
func (l *loader) envFile(f *plan.Function, o *object) {
	if o.fields["env_file"] == nil {
		return
	}
	path := o.within("env_file", l.dir)
	if path == "" {
		return
	}
	name := o.text("env_file", "")
	text, err := ReadFile(path, mostProject)
	if err != nil {
		l.wrong(o.fields["env_file"], "%s: %s cannot be read: %v%s", o.at("env_file"), name, Cause(err),
			suggestFile(path))
		return
	}
	l.files = append(l.files, path)
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for at := 1; lines.Scan(); at++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		key, value, ok := strings.Cut(strings.TrimPrefix(line, "export "), "=")
		key, value = strings.TrimSpace(key), strings.TrimSpace(value)
		if !ok || key == "" || strings.ContainsAny(key, " \t") {
			// not the line itself: it may hold a secret
			l.mistakes = append(l.mistakes, Mistake{File: name, Line: at, Text: "expected NAME=value"})
			continue
		}
		if n := len(value); n > 1 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] {
			value = value[1 : n-1]
		}
		if why, ours := ourNames[key]; ours {
			l.mistakes = append(l.mistakes, Mistake{File: name, Line: at,
				Text: fmt.Sprintf("%s is set by Night Drill, to %s", key, why)})
			continue
		}
		f.Env = SetEnv(f.Env, key, value)
	}
	if err := lines.Err(); err != nil {
		l.mistakes = append(l.mistakes, Mistake{File: name, Text: "not a list of NAME=value lines: " + err.Error()})
	}
}

const readyForms = `tcp, {http: /path} or {line: "regular expression"}`

func (l *loader) ready(ready *plan.Ready, o *object) {
	n := o.fields["ready"]
	if n == nil {
		return
	}
	if s, ok := l.follow(n).(*ast.StringNode); ok {
		if *ready = (plan.Ready{}); s.Value != "tcp" {
			l.wrong(n, "%s: %q is not a condition; expected %s", o.at("ready"), s.Value, readyForms)
		}
		return
	}
	r := o.child("ready", "http", "line")
	switch {
	case len(r.fields) != 1:
		l.wrong(n, "%s takes one condition: %s", o.at("ready"), readyForms)
	case r.fields["http"] != nil:
		*ready = plan.Ready{By: plan.ReadyHTTP, Path: r.text("http", "/")}
		if !strings.HasPrefix(ready.Path, "/") {
			l.wrong(r.fields["http"], "%s: %q must begin with /", r.at("http"), ready.Path)
		}
	default:
		*ready = l.line(r)
	}
}

func (l *loader) line(r *object) plan.Ready {
	ready := plan.Ready{By: plan.ReadyLine, Line: r.text("line", "")}
	if _, err := regexp.Compile(ready.Line); err != nil {
		l.wrong(r.fields["line"], "%s: %v", r.at("line"), err)
	}
	return ready
}

// service reads something that functions need beside them.
func (l *loader) service(name string, all *object) {
	o := all.child(name, "start", "stop", "reset", "seed", "ready", "dir", "env", "env_file", "start_timeout")
	f := plan.Function{Dir: l.dir} // what a service has in common with a function
	if d := o.within("dir", l.dir); d != "" {
		f.Dir = d
	}
	l.env(&f, o)
	s := plan.Service{Name: name, Dir: f.Dir, Env: f.Env, Start: l.command(o, "start", nil),
		Stop:  l.command(o, "stop", nil),
		Seed:  l.command(o, "seed", nil),
		Reset: l.command(o, "reset", nil), StartTimeout: o.duration("start_timeout", DefaultStartTimeout,
			time.Millisecond), Ready: plan.Ready{By: plan.ReadyRuns}}
	if s.Start == nil && o.fields["start"] == nil {
		l.wrong(o.node, "%s is missing, such as start: [tide-server, --port, \"5433\"]", o.at("start"))
	}
	inReady := ""
	if r := o.fields["ready"]; r != nil {
		inReady = l.follow(r).String()
	}
	s.Port = strings.Contains(strings.Join(s.Start, " ")+inReady, "{port}")
	s.Data = strings.Contains(strings.Join(s.Start, " "), "{data}")
	defer func() { l.p.Services = append(l.p.Services, s) }()
	n := o.fields["ready"]
	if n == nil {
		if s.Port {
			s.Ready.By = plan.ReadyTCP // at its port
		}
		return
	}
	const forms = `{tcp: "127.0.0.1:5433"}, {http: "http://127.0.0.1:5433/health"}, {line: "regular expression"} ` +
		`or exit (the command ends with code 0)`
	if text, ok := l.follow(n).(*ast.StringNode); ok {
		if s.Ready.By = plan.ReadyExit; text.Value != "exit" {
			l.wrong(n, "%s: %q is not a condition; expected %s", o.at("ready"), text.Value, forms)
		}
		return
	}
	r := o.child("ready", "tcp", "http", "line")
	switch {
	case len(r.fields) != 1:
		l.wrong(n, "%s takes one condition: %s", o.at("ready"), forms)
	case r.fields["tcp"] != nil:
		s.Ready = plan.Ready{By: plan.ReadyTCP, Path: r.text("tcp", "")}
		if _, _, err := net.SplitHostPort(s.Ready.Path); err != nil {
			l.wrong(r.fields["tcp"], "%s: %q is not an address, such as 127.0.0.1:5433", r.at("tcp"), s.Ready.Path)
		}
	case r.fields["http"] != nil:
		s.Ready = plan.Ready{By: plan.ReadyHTTP, Path: r.text("http", "")}
		if u, err := url.Parse(strings.ReplaceAll(s.Ready.Path, "{port}", "1")); err != nil || u.Host == "" {
			l.wrong(r.fields["http"], "%s: %q is not a URL, such as http://127.0.0.1:5433/health", r.at("http"),
				s.Ready.Path)
		}
	default:
		s.Ready = l.line(r)
	}
}

// Cause leaves out the path that errors of package os repeat.
func Cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
