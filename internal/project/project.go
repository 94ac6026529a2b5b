// Package project reads nightdrill.yaml: strictly, with every mistake at once,
// each with its file, line and column. Load gives the resolved plan.
package project

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
)

// File is the name of a project's file.
const File = "nightdrill.yaml"

// Defaults of settings that a project leaves out.
const (
	DefaultConcurrency  = 32 // of a project
	DefaultMax          = 10 // of a function
	DefaultTimeout      = 30 * time.Second
	DefaultStartTimeout = 30 * time.Second
	DefaultIdleAfter    = time.Minute
	DefaultAttempts     = 3
	DefaultBackoff      = 100 * time.Millisecond
	DefaultSettle       = 20 * time.Second
	DefaultSteps        = 16 // of a chain
	DefaultPartitions   = 4
	leaseBeyondTimeout  = 10 * time.Second
)

// Loaded is a project that was read.
type Loaded struct {
	*plan.Project
	Skipped Mistakes // broken records that their set's `broken: skip` leaves out
	Missing Mistakes // programs that functions are started with and that are not there
	Doubts  Mistakes // what is allowed, and probably not meant
	Files   []string // absolute, beside the project file: what was read
	Folders []string // absolute: those whose files are payloads
}

// ErrNoProject means that the folder has no project file.
var ErrNoProject = errors.New("no " + File + " here")

// Load reads the project in a folder. The error is Mistakes when the file was
// found and is wrong. Payloads are made, which may take long: the context ends that, and
// [WithProgress] tells how far it is.
func Load(ctx context.Context, dir string) (*Loaded, error) {
	given := dir
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	text, err := ReadFile(filepath.Join(dir, File), mostProject)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s has no nightdrill.yaml; go to the project's folder or name it with --project "+
			"DIR, or try nightdrill demo", ErrNoProject, dir)
	} else if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", filepath.Join(given, File), Cause(err))
	}
	l, err := parse(ctx, dir, text)
	var found Mistakes
	if errors.As(err, &found) {
		found.below(given)
	} else if err == nil {
		l.Skipped.below(given)
		l.Missing.below(given)
		l.Doubts.below(given)
	}
	return l, err
}

// Startable returns the programs that are missing as an error.
func (l *Loaded) Startable() error {
	if len(l.Missing) > 0 {
		return l.Missing
	}
	return nil
}

// below names the files as seen from where the user is.
func (m Mistakes) below(dir string) {
	for i := range m {
		m[i].File = filepath.Join(dir, m[i].File)
	}
}

func parse(ctx context.Context, dir string, text []byte) (*Loaded, error) {
	l := &loader{reader: reader{file: File, anchors: map[string]ast.Node{}}, dir: dir, ctx: ctx, say: progress(ctx),
		wires: map[string][]ast.Node{}, users: map[string][]string{}, unfed: map[string]bool{}}
	if bytes.IndexByte(text, 0) >= 0 {
		return nil, Mistakes{{File: File, Line: 1, Column: 1, Text: "not a text file (it contains a NUL byte)"}}
	}
	if m := tooMuch(text); m.Text != "" {
		return nil, Mistakes{m}
	}
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, Mistakes{syntax(err)}
	}
	var bodies []ast.Node
	for _, d := range file.Docs {
		if d.Body != nil {
			bodies = append(bodies, d.Body)
		}
	}
	switch len(bodies) {
	case 0:
		return nil, Mistakes{{File: File, Line: 1, Column: 1,
			Text: "the file is empty; it must begin with nightdrill: 1"}}
	case 1:
	default:
		l.wrong(bodies[1], "a project file is one YAML document; this is a second one")
	}
	l.project(bodies[0])
	if l.cut != nil {
		return nil, l.cut
	}
	if len(l.mistakes) > 0 {
		l.mistakes = append(l.mistakes, l.missing...)
		slices.SortStableFunc(l.mistakes, func(a, b Mistake) int {
			if a.File != b.File {
				return 0
			}
			if a.Line != b.Line {
				return a.Line - b.Line
			}
			return a.Column - b.Column
		})
		return nil, l.mistakes
	}
	return &Loaded{&l.p, l.skipped, l.missing, l.doubts, l.files, l.folders}, nil
}

var syntaxPlace = regexp.MustCompile(`(?s)^\[(\d+):(\d+)\] (.*?)(\n|$)`)

// syntax turns the parser's error, which begins with [line:column], into an error.
func syntax(err error) Mistake {
	m := Mistake{File: File, Text: "not valid YAML: " + err.Error()}
	if parts := syntaxPlace.FindStringSubmatch(err.Error()); parts != nil {
		fmt.Sscan(parts[1], &m.Line)
		fmt.Sscan(parts[2], &m.Column)
		m.Text = "not valid YAML: " + parts[3]
	}
	return m
}

type loader struct {
	reader
	dir     string
	p       plan.Project
	skipped Mistakes
	missing Mistakes
	files   []string
	folders []string
	closing []func()              // what needs all sources to be known
	wires   map[string][]ast.Node // of each source: where the file has each of its wires
	doubts  Mistakes
	ctx     context.Context     // ends what takes long
	say     func(string)        // hears how far it is
	users   map[string][]string // functions by the upstreams that they call; all call those that are not in it
	spans   bool                // functions are asked to send spans
	unfed   map[string]bool     // sources of which it is wrong from which broker they get messages
	cut     *cut                // why it was interrupted, where it was
}

func (l *loader) project(n ast.Node) {
	o := l.object(n, "", "nightdrill", "project", "concurrency", "chain_steps", "memory_per_cpu", "cost", "runs",
		"publish", "spans", "services", "upstreams", "brokers", "functions", "sources", "payloads", "drills")
	if o.fields["nightdrill"] == nil {
		l.wrong(n, "nightdrill is missing: the file must begin with nightdrill: 1, its version")
	} else if v := o.text("nightdrill", ""); v != "1" {
		l.wrong(o.fields["nightdrill"], "nightdrill: this program supports file version 1, not %q", v)
	}
	l.p.Dir = l.dir
	l.p.Name = o.text("project", filepath.Base(l.dir))
	if strings.ContainsFunc(l.p.Name, unicode.IsControl) {
		if l.p.Name = text.Harmless(l.p.Name); o.fields["project"] != nil {
			l.wrong(o.fields["project"], "project: %q contains control characters", o.text("project", ""))
		}
	}
	l.p.Concurrency = o.whole("concurrency", DefaultConcurrency, 1)
	if n := o.fields["memory_per_cpu"]; n != nil {
		bytes, err := plan.ParseSize(o.text("memory_per_cpu", ""), 1<<50)
		if l.p.MemoryPerCPU = bytes; err != nil || bytes < leastMemory {
			l.wrong(n, "memory_per_cpu: %q must be a size of at least 1 MiB, such as 2GiB",
				o.text("memory_per_cpu", ""))
			l.p.MemoryPerCPU = 1 << 30
		}
	}
	l.cost(o)
	l.keeping(o)
	l.p.Steps = o.whole("chain_steps", DefaultSteps, 1)
	if c := o.child("publish", "mqtt"); c != nil {
		l.p.MQTT = c.choice("mqtt", []string{"false", "true"}, 0) == 1
	}
	l.spans = o.choice("spans", []string{"false", "true"}, 0) == 1
	if all := o.child("services"); all != nil {
		for _, name := range all.order {
			l.service(name, all)
		}
	}
	if all := o.child("upstreams"); all != nil {
		for _, name := range all.order {
			l.upstream(name, all)
		}
	}
	if all := o.child("brokers"); all != nil {
		for _, name := range all.order {
			l.broker(name, all)
		}
	}
	if all := o.child("functions"); all != nil {
		for _, name := range all.order {
			l.function(name, all)
		}
	}
	all := []plan.Limits{}
	for i := range l.p.Functions {
		all = append(all, l.p.Functions[i].Limits)
	}
	l.sharesFit(o.fields["functions"], "", l.p.Concurrency, all)
	if len(l.p.Functions) == 0 && o.fields["functions"] == nil {
		l.wrong(n, "functions is missing: a project needs at least one function with a start command")
	}
	l.doubtShares(o.child("functions"))
	if all := o.child("sources"); all != nil {
		// names first, since a dead letter may come later in the file
		for _, name := range all.order {
			l.p.Sources = append(l.p.Sources, plan.Source{Name: name, DeadLetter: -1})
		}
		for i, name := range all.order {
			l.source(&l.p.Sources[i], name, all)
		}
		l.shadows(all)
	}
	for _, check := range l.closing {
		check()
	}
	l.loops(o.child("functions"))
	if all := o.child("payloads"); all != nil {
		for _, name := range all.order {
			l.set(name, all)
		}
	}
	if all := o.child("drills"); all != nil {
		for _, name := range all.order {
			l.drill(name, all)
		}
	}
}

func (l *loader) sourceNames() (names []string) {
	for _, s := range l.p.Sources {
		names = append(names, s.Name)
	}
	return names
}

func (l *loader) functionNames() (names []string) {
	for _, f := range l.p.Functions {
		names = append(names, f.Name)
	}
	return names
}

func (l *loader) set(name string, all *object) {
	o := all.child(name, "recording", "broken", "schema", "openapi", "operation", "mode", "seed", "count", "size",
		"extras",
		"body", "type", "request", "kind", "time", "id", "key", "fits", "expect", "expect_each", "reaches")
	set := payload.Set{Name: name, Expect: l.expect(o.fields["expect"], o.at("expect"))}
	skip := o.choice("broken", []string{"refuse", "skip"}, 0) == 1
	defer func() {
		l.expectEach(&set, o)
		l.reaches(&set, o)
		l.p.Sets = append(l.p.Sets, set)
	}()
	if o.fields["openapi"] != nil {
		l.described(&set, o)
		return
	}
	if n := o.keys["operation"]; n != nil {
		l.wrong(n, "%s needs openapi", o.at("operation"))
	}
	if o.fields["schema"] != nil {
		l.made(&set, o)
		return
	}
	form := l.form(name, o)
	for _, key := range []string{"mode", "seed", "count", "size", "extras", "body", "request"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s needs schema", o.at(key))
		}
	}
	if set.Origin = o.need("recording", "payloads/evening.ndjson"); set.Origin == "" {
		return
	}
	path := o.within("recording", l.dir)
	if path == "" {
		return
	}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		l.folder(&set, o, path)
		return
	}
	if fits := o.within("fits", l.dir); fits != "" {
		set.FitsName = o.text("fits", "")
		l.files = append(l.files, fits)
		var err error
		if set.Fits, err = Schema(fits, l.dir); err != nil {
			l.wrong(o.fields["fits"], "%s: %v", o.at("fits"), err)
		}
	}
	if !l.going("the recording %s was being read", set.Origin) {
		return
	}
	text, err := ReadFile(path, mostRecording)
	if err != nil {
		l.wrong(o.fields["recording"], "%s: %s cannot be read: %v%s", o.at("recording"), set.Origin, Cause(err),
			suggestFile(path))
		return
	}
	payloads, mistakes := payload.ReadAs(text, form)
	set.Payloads = payloads
	l.files = append(l.files, path)
	for i, m := range mistakes {
		found := Mistake{set.Origin, m.Line, m.Column, m.Text}
		switch {
		case skip && len(payloads) > 0:
			l.skipped = append(l.skipped, found)
		case i < 20:
			if len(payloads) > 0 && i == 0 {
				found.Text += fmt.Sprintf(" (to use the other %d, set broken: skip at %s)", len(payloads), o.path)
			}
			l.mistakes = append(l.mistakes, found)
		case i == 20:
			l.mistakes = append(l.mistakes, Mistake{File: set.Origin, Text: fmt.Sprintf("%d more records are broken",
				len(mistakes)-20)})
		}
	}
}

// reaches reads which sources a set is for.
func (l *loader) reaches(set *payload.Set, o *object) {
	for i, n := range o.list("reaches") {
		at := fmt.Sprintf("%s[%d]", o.at("reaches"), i)
		name, ok := l.text(n, at)
		if !ok {
			continue
		}
		source := l.p.SourceNamed(name)
		switch {
		case source < 0:
			l.wrong(n, "%s: unknown source %q%s", at, name, didYouMean(name, l.sourceNames()))
		case len(set.Payloads) > 0 && (set.Payloads[0].Request != nil) != (l.p.Sources[source].Kind == plan.HTTP),
			l.p.Sources[source].Kind == plan.Schedule:
			l.wrong(n, "%s: %s is a source of kind %v, which does not take these payloads", at, name,
				l.p.Sources[source].Kind)
		default:
			set.Reaches = append(set.Reaches, name)
		}
	}
}

// form reads how a recording is to be read.
func (l *loader) form(name string, o *object) payload.Form {
	f := payload.Form{Type: o.text("type", name+".recorded"), Source: "/recorded/" + name}
	if o.fields["kind"] != nil {
		f.Kind = payload.Kinds[o.choice("kind", payload.Kinds, 0)]
	}
	for key, to := range map[string]*string{"time": &f.Time, "id": &f.ID, "key": &f.Key} {
		if *to = o.text(key, ""); *to != "" {
			if _, err := jsondiff.Parse(*to); err != nil {
				l.wrong(o.fields[key], "%s: %v", o.at(key), err)
			}
		}
	}
	return f
}

// mostMade is the largest set that is made from a schema.
const mostMade = 100_000

// made reads a set that is made from a JSON Schema.
func (l *loader) made(set *payload.Set, o *object) {
	for _, key := range []string{"recording", "broken", "kind", "time", "id", "key", "fits"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s cannot be used with schema: a set is either recorded or generated", o.at(key))
		}
	}
	path := o.within("schema", l.dir)
	seed, count := uint64(o.whole("seed", 1, 0)), o.whole("count", 100, 1)
	if count > mostMade {
		l.wrong(o.fields["count"], "%s is %d; it must be at most %d", o.at("count"), count, mostMade)
		return
	}
	as := payload.Made{Set: set.Name, Type: o.text("type", set.Name+".made"),
		Mode: payload.Modes[o.choice("mode", payload.Modes, 0)],
		Body: payload.Bodies[o.choice("body", payload.Bodies, 0)]}
	if r := o.child("request", "method", "path"); r != nil {
		as.Method, as.Target = r.text("method", "POST"), r.text("path", "/")
		if n := o.keys["type"]; n != nil {
			l.wrong(n, "%s makes events, but request makes HTTP requests", o.at("type"))
		}
		if as.Method != strings.ToUpper(as.Method) || as.Method == "" {
			l.wrong(r.fields["method"], "%s: methods must be in capitals: %s", r.at("method"),
				strings.ToUpper(as.Method))
		}
		if !strings.HasPrefix(as.Target, "/") {
			l.wrong(r.fields["path"], "%s: %q must begin with /", r.at("path"), as.Target)
		}
	}
	if path == "" {
		return
	}
	set.Origin = o.text("schema", "")
	g, read, err := Generator(l.ctx, path, l.dir)
	l.files = append(l.files, read...)
	if _, refused := errors.AsType[*generate.Refused](err); refused {
		l.wrong(o.fields["schema"], "%s: %s cannot be satisfied: %v", o.at("schema"), set.Origin, err)
		return
	} else if err != nil {
		l.wrong(o.fields["schema"], "%s: %s cannot be read: %v%s", o.at("schema"), set.Origin, Cause(err),
			suggestFile(path))
		return
	}
	size, err := Bytes(o.text("size", ""))
	if err != nil {
		l.wrong(o.fields["size"], "%s: %v", o.at("size"), err)
	}
	g.Size(size)
	g.Extras(o.choice("extras", []string{"false", "true"}, 0) == 1)
	set.Fits, set.FitsName = g.Validator(), set.Origin
	set.Maker = &payload.Maker{Mode: as.Mode, Seed: seed, Outline: g.Outline(), Make: func(mode string, seed,
		n uint64) (p payload.Payload, breaks string, err error) {
		how := as
		how.Mode = mode
		data, breaks, err := how.Make(g, seed, n)
		if err == nil {
			p, err = how.Payload(seed, n, data, breaks)
		}
		return p, breaks, err
	}}
	for n := range uint64(count) {
		p, _, err := set.Maker.Make(as.Mode, seed, n)
		if !l.going("payload %d of %d of the set %s was being made", n+1, count, set.Name) {
			return
		}
		if err != nil {
			l.wrong(o.fields["schema"], "%s: %s: %v", o.at("schema"), set.Origin, err)
			return
		}
		set.Payloads = append(set.Payloads, p)
	}
}

// described reads a set of requests that are made from an OpenAPI description.
func (l *loader) described(set *payload.Set, o *object) {
	for _, key := range []string{"recording", "broken", "schema", "size", "extras", "body", "type", "request", "kind",
		"time", "id", "key", "fits"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s cannot be used with openapi, which describes the whole request", o.at(key))
		}
	}
	path := o.within("openapi", l.dir)
	seed, count := uint64(o.whole("seed", 1, 0)), o.whole("count", 100, 1)
	mode := payload.Modes[o.choice("mode", payload.Modes, 0)]
	if path == "" || count > mostMade {
		return
	}
	set.Origin = o.text("openapi", "")
	l.files = append(l.files, path)
	a, err := LoadAPI(l.ctx, path, l.dir)
	if err != nil {
		l.wrong(o.fields["openapi"], "%s: %s: %v", o.at("openapi"), set.Origin, Cause(err))
		return
	}
	l.files = append(l.files, a.Files...)
	operations, err := a.Find(o.text("operation", ""))
	if err != nil {
		l.wrong(o.fields["operation"], "%s: %v", o.at("operation"), err)
		return
	}
	operations, left := Usable(operations)
	for _, err := range left {
		l.skipped = append(l.skipped, Mistake{File: set.Origin, Text: err.Error()})
	}
	if len(operations) == 0 {
		l.wrong(o.fields["openapi"], "%s: %v", o.at("openapi"), errors.Join(left...))
		return
	}
	set.Maker = &payload.Maker{Mode: mode, Seed: seed, Make: func(mode string, seed, n uint64) (payload.Payload, string,
		error) {
		return operations[n%uint64(len(operations))].Make(mode, seed, n/uint64(len(operations)))
	}}
	for i := range uint64(count) {
		p, _, err := set.Maker.Make(mode, seed, i)
		if !l.going("request %d of %d of the set %s was being made", i+1, count, set.Name) {
			return
		}
		if err != nil {
			l.wrong(o.fields["openapi"], "%s: %v", o.at("openapi"), err)
			return
		}
		set.Payloads = append(set.Payloads, p)
	}
}

// expect reads what replies to a set's payloads should be.
func (l *loader) expect(n ast.Node, path string) *payload.Expect {
	if n == nil {
		return nil
	}
	if s, ok := l.follow(n).(*ast.StringNode); ok && s.Value == "recorded" {
		return &payload.Expect{Recorded: true}
	}
	o := l.object(n, path, "status", "schema", "values", "recorded", "leave_out")
	x := &payload.Expect{Recorded: o.choice("recorded", []string{"false", "true"}, 0) == 1}
	statuses := []ast.Node{}
	if n := o.fields["status"]; n != nil {
		if seq, ok := l.follow(n).(*ast.SequenceNode); ok {
			statuses = seq.Values
		} else {
			statuses = append(statuses, n)
		}
	}
	for _, n := range statuses {
		s, _ := l.text(n, o.at("status"))
		status, err := strconv.Atoi(s)
		if err != nil || status < 100 || status > 599 {
			l.wrong(n, "%s: %q is not an HTTP status, such as 200", o.at("status"), s)
			continue
		}
		x.Status = append(x.Status, status)
	}
	if path := o.within("schema", l.dir); path != "" {
		x.SchemaName = o.text("schema", "")
		l.files = append(l.files, path)
		var err error
		if x.Schema, err = Schema(path, l.dir); err != nil {
			l.wrong(o.fields["schema"], "%s: %v", o.at("schema"), err)
		}
	}
	if values := o.fields["values"]; values != nil {
		x.Values = l.values(values, o.at("values"))
	}
	for i, n := range o.list("leave_out") {
		if p, ok := l.text(n, fmt.Sprintf("%s[%d]", o.at("leave_out"), i)); ok {
			if _, err := jsondiff.Parse(p); err != nil {
				l.wrong(n, "%s[%d]: %v", o.at("leave_out"), i, err)
				continue
			}
			x.LeaveOut = append(x.LeaveOut, p)
		}
	}
	return x
}

// expectEach reads what replies to single payloads should be, by their numbers.
func (l *loader) expectEach(set *payload.Set, o *object) {
	if each := o.fields["expect_each"]; each != nil {
		values := mapping(l.follow(each))
		if values == nil {
			l.wrong(each, "%s is %s; expected a mapping of payload numbers to expectations, such as {3: {status: 404}}",
				o.at("expect_each"), describe(l.follow(each)))
			return
		}
		for _, v := range values {
			key := v.Key.GetToken().Value
			x := l.expect(v.Value, join(o.at("expect_each"), key))
			n, err := strconv.Atoi(key)
			if err == nil && n >= 1 && n <= len(set.Payloads) {
				set.Payloads[n-1].Expect = x
			} else if len(set.Payloads) > 0 {
				l.wrong(v.Key, "%s: %s has payloads 1 to %d, not %s", o.at("expect_each"), set.Name, len(set.Payloads),
					key)
			}
		}
	}
	for n := range set.Payloads {
		if x := set.ExpectOf(n); x != nil && x.Recorded && set.Payloads[n].Reply == nil {
			at := o.fields["expect"]
			if at == nil {
				at = o.fields["expect_each"]
			}
			l.wrong(at, "%s: payload %d of %s was recorded without a reply, so the recorded reply cannot be expected",
				o.at("expect"), n+1, set.Name)
			return
		}
	}
}

// InSet finds a payload by the name of its set, or SET#N: the set and the place
// in it, from 1. The set is nil where there is none of the name.
func (l *Loaded) InSet(name string) (set *payload.Set, n int, err error) {
	name, number, numbered := strings.Cut(name, "#")
	i := l.SetNamed(name)
	if i < 0 {
		return nil, 0, nil
	}
	set, n = &l.Sets[i], 1
	if numbered {
		if n, err = strconv.Atoi(number); err != nil {
			n = 0
		}
	}
	if n < 1 || n > len(set.Payloads) {
		return set, 0, fmt.Errorf("%s has payloads 1 to %d, not %s", name, len(set.Payloads), number)
	}
	return set, n, nil
}

// Payload finds a payload as InSet does, which must be there.
func (l *Loaded) Payload(name string) (*payload.Payload, error) {
	set, n, err := l.InSet(name)
	if err != nil {
		return nil, err
	}
	if set == nil {
		name, _, _ = strings.Cut(name, "#")
		return nil, fmt.Errorf("no payload set %q%s; available: %s", name, didYouMean(name, l.setNames()),
			listed(l.setNames()))
	}
	return &set.Payloads[n-1], nil
}

func (l *Loaded) setNames() []string { return setNames(l.Sets) }

func (l *loader) setNames() []string { return setNames(l.p.Sets) }

func setNames(sets []payload.Set) (names []string) {
	for i := range sets {
		names = append(names, sets[i].Name)
	}
	return names
}

// values reads a mapping of JSON Pointers to values.
func (l *loader) values(n ast.Node, path string) (out []payload.Value) {
	var pairs []*ast.MappingValueNode
	switch m := l.follow(n).(type) {
	case *ast.MappingNode:
		pairs = m.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{m}
	default:
		l.wrong(n, "%s is %s; expected JSON Pointers with their values, such as {/cents: 450}", path, describe(m))
		return nil
	}
	for _, v := range pairs {
		at := v.Key.GetToken().Value
		if _, err := jsondiff.Parse(at); err != nil {
			l.wrong(v.Key, "%s: %v", path, err)
			continue
		}
		var plain any
		if err := yaml.NodeToValue(l.follow(v.Value), &plain); err != nil {
			l.wrong(v.Value, "%s: not a value: %v", join(path, at), err)
			continue
		}
		text, err := json.Marshal(plain)
		if err != nil {
			l.wrong(v.Value, "%s: not a JSON value: %v", join(path, at), err)
			continue
		}
		want, _ := jsondiff.Decode(text) // it was just written
		out = append(out, payload.Value{At: at, Want: want})
	}
	return out
}

func (l *loader) drill(name string, all *object) {
	o := all.child(name, "seed", "feeds", "settle", "limits", "concurrency", "changes", "marks", "cold_starts",
		"budgets", "upstreams",
		"idempotence", "begin", "calm")
	d := plan.Drill{Name: name, Seed: uint64(o.whole("seed", 1, 0)), Settle: o.duration("settle", DefaultSettle, 0)}
	for _, f := range l.p.Functions {
		d.Limits = append(d.Limits, f.Limits)
	}
	d.Concurrency = o.whole("concurrency", l.p.Concurrency, 1)
	l.coldStarts(&d, o)
	d.Idempotence = o.choice("idempotence", []string{"false", "true"}, 0) == 1
	l.calm(&d, o)
	d.BeginEmpty = o.choice("begin", []string{"warm", "empty"}, 0) == 1
	for i, n := range o.list("feeds") {
		l.feed(&d, n, fmt.Sprintf("%s[%d]", o.at("feeds"), i))
	}
	if len(o.list("feeds")) == 0 {
		l.wrong(o.node, "%s is missing: a drill needs at least one feed, such as {source: fares, payloads: "+
			"fare-requests, arrive: [{steady: 20/s, for: 10s}]}", o.at("feeds"))
	}
	l.eachFunction(o.child("limits"), func(fn int, under *object, name string) {
		d.Limits[fn] = l.limitsFor(fn, under, name, d.Limits[fn])
	})
	at := o.fields["limits"]
	if at == nil {
		at = o.node
	}
	l.sharesFit(at, o.path, d.Concurrency, d.Limits)
	l.drillUpstreams(&d, o)
	l.changes(&d, o)
	l.marks(&d, o)
	for i, n := range o.list("budgets") {
		text, ok := l.text(n, fmt.Sprintf("%s[%d]", o.at("budgets"), i))
		if !ok {
			continue
		}
		b, err := measure.ParseBudget(text)
		switch {
		case err != nil:
			l.wrong(n, "%v", err)
		case b.Of == "function" && !slices.Contains(l.budgeted(&d), b.Name):
			l.wrong(n, "budget %q: unknown function %q%s", text, b.Name, didYouMean(b.Name, l.budgeted(&d)))
		case (b.Of == "source" || b.Of == "chain") && l.p.SourceNamed(b.Name) < 0:
			l.wrong(n, "budget %q: unknown source %q%s", text, b.Name, didYouMean(b.Name, l.sourceNames()))
		case b.Kind == "cost" && l.p.Rates == nil:
			l.wrong(n, "budget %q: the project has no rates; add a cost, such as cost: {currency: EUR, memory: "+
				"0.00002}", text)
		default:
			d.Budgets = append(d.Budgets, plan.Budget{Text: text})
		}
	}
	l.p.Drills = append(l.p.Drills, d)
}

func (l *loader) feed(d *plan.Drill, n ast.Node, path string) {
	o := l.object(n, path, "source", "payloads", "arrive", "retained", "clock", "faults", "live")
	f := plan.Feed{Source: -1, Set: -1}
	if name := o.need("source", "fares"); name != "" {
		if f.Source = l.p.SourceNamed(name); f.Source < 0 {
			l.wrong(o.fields["source"], "%s: unknown source %q%s", o.at("source"), name,
				didYouMean(name, l.sourceNames()))
		}
	}
	if n := o.fields["live"]; n != nil {
		l.live(d, &f, o, n)
		return
	}
	ofSchedule := f.Source >= 0 && l.p.Sources[f.Source].Kind == plan.Schedule
	if o.fields["payloads"] != nil || !ofSchedule {
		if name := o.need("payloads", "fare-requests"); name != "" {
			f.Set = l.p.SetNamed(name)
			if f.Set < 0 {
				l.wrong(o.fields["payloads"], "%s: unknown payload set %q%s", o.at("payloads"), name,
					didYouMean(name, l.setNames()))
			}
		}
	}
	f.Faults = l.faults(o)
	if f.Source >= 0 && f.Faults.DropAck > 0 {
		if src := &l.p.Sources[f.Source]; src.Kind == plan.Queue && src.Lease > d.Settle {
			l.doubts = append(l.doubts, l.mistake(o.fields["faults"],
				"%s.drop_ack: an event whose acknowledgement %s does not receive is delivered again after its lease, "+
					"%v, but the drill ends %v after its last arrival; set settle: %v, or a shorter lease",
				o.at("faults"), src.Name, src.Lease, d.Settle, src.Lease+5*time.Second))
		}
	}
	if ofSchedule {
		l.clock(d, &f, o)
		return
	}
	if d.Cold != nil {
		if n := o.keys["arrive"]; n != nil {
			l.wrong(n, "%s cannot be used with cold_starts, which send one event after the other", o.at("arrive"))
		}
		if f.Source >= 0 && f.Set >= 0 {
			d.Feeds = append(d.Feeds, f)
		}
		return
	}
	if k := o.keys["clock"]; k != nil && f.Source >= 0 {
		l.wrong(k, "%s is for sources of kind schedule; %s is of kind %s", o.at("clock"), l.p.Sources[f.Source].Name,
			l.p.Sources[f.Source].Kind)
	}
	phases := []ast.Node{}
	if a := o.fields["arrive"]; a == nil {
		l.wrong(o.node, "%s is missing, such as arrive: [{steady: 20/s, for: 10s}]", o.at("arrive"))
	} else if seq, ok := l.follow(a).(*ast.SequenceNode); ok {
		phases = seq.Values
	} else {
		phases = append(phases, a)
	}
	for i, p := range phases {
		if phase, ok := l.phase(p, fmt.Sprintf("%s[%d]", o.at("arrive"), i)); ok {
			f.Phases = append(f.Phases, phase)
			if phase.Pattern == arrival.Recorded && f.Set >= 0 {
				if _, missing, ok := l.p.Sets[f.Set].Offsets(); !ok {
					l.wrong(p, "%s[%d]: payload %d of %s has no recorded time, so it cannot arrive as recorded",
						o.at("arrive"), i, missing+1, l.p.Sets[f.Set].Name)
				}
			}
		}
	}
	if f.Source < 0 || f.Set < 0 {
		return
	}
	src, set := &l.p.Sources[f.Source], &l.p.Sets[f.Set]
	if len(set.Payloads) > 0 && (set.Payloads[0].Request != nil) != (src.Kind == plan.HTTP) {
		what := map[bool]string{true: "HTTP requests", false: "events"}
		l.wrong(o.fields["payloads"], "%s: %s contains %s, but %s is a source of kind %s", o.at("payloads"), set.Name,
			what[set.Payloads[0].Request != nil], src.Name, src.Kind)
		return
	}
	if f.Retained = o.whole("retained", 0, 0); f.Retained > 0 && src.Kind != plan.Stream {
		l.wrong(o.keys["retained"], "%s is for sources of kind stream, which keep their records", o.at("retained"))
	} else if f.Retained > len(set.Payloads) && len(set.Payloads) > 0 {
		l.wrong(o.fields["retained"], "%s is %d, but %s has %d payloads", o.at("retained"), f.Retained, set.Name,
			len(set.Payloads))
	}
	d.Feeds = append(d.Feeds, f)
}

func (l *loader) phase(n ast.Node, path string) (arrival.Phase, bool) {
	if s, ok := l.follow(n).(*ast.StringNode); ok && (s.Value == "once" || s.Value == "recorded") {
		if s.Value == "once" {
			return arrival.Phase{Pattern: arrival.Once}, true
		}
		return arrival.Phase{Pattern: arrival.Recorded, Speed: 1}, true
	}
	patterns := []string{"recorded", "once", "steady", "poisson", "ramp", "burst", "callers"}
	before := len(l.mistakes)
	o := l.object(n, path, append(slices.Clone(patterns), "for")...)
	if len(l.mistakes) > before {
		return arrival.Phase{}, false
	}
	var given []string
	for _, key := range o.order {
		if key != "for" {
			given = append(given, key)
		}
	}
	if len(given) != 1 {
		l.wrong(n, "%s: a phase has one pattern: %s", path, listed(patterns))
		return arrival.Phase{}, false
	}
	p := arrival.Phase{Pattern: arrival.Pattern(slices.Index(patterns, given[0]))}
	l.pattern(&p, o, given[0])
	timed := p.Pattern != arrival.Recorded && p.Pattern != arrival.Once
	switch {
	case timed && o.fields["for"] == nil:
		l.wrong(n, "%s: missing duration, such as {%s: …, for: 10s}", path, given[0])
	case !timed && o.fields["for"] != nil:
		l.wrong(o.keys["for"], "%s: %s takes no duration", path, given[0])
	case timed:
		p.For = o.duration("for", time.Second, time.Nanosecond)
		if events := p.Expected(); events > mostEvents {
			l.wrong(n, "%s would produce %.0f events, and a run keeps each of them; the limit of one phase is %d", path,
				events,
				mostEvents)
		}
	}
	return p, len(l.mistakes) == before
}

// mostEvents bounds the events of one phase of a drill: each is kept, in about 300 bytes.
const mostEvents = 10_000_000

func (l *loader) pattern(p *arrival.Phase, o *object, key string) {
	n := o.fields[key]
	positive := func(o *object, key string) arrival.Rate {
		rate := o.rate(key)
		if rate.Events == 0 {
			l.wrong(o.fields[key], "%s: the rate must be above 0", o.at(key))
			rate.Events = 1
		}
		return rate
	}
	switch p.Pattern {
	case arrival.Recorded:
		p.Speed = 1
		if _, null := l.follow(n).(*ast.NullNode); null {
			return
		}
		c := o.child(key, "speed")
		if s := c.text("speed", "1"); c.fields["speed"] != nil {
			if _, err := fmt.Sscan(s, &p.Speed); err != nil || p.Speed < 0.001 || p.Speed > 1e6 {
				l.wrong(c.fields["speed"], "%s: %q must be a factor from 0.001 to 1000000; 2 is twice as fast",
					c.at("speed"), s)
				p.Speed = 1
			}
		}
	case arrival.Once:
		switch x := l.follow(n).(type) {
		case *ast.NullNode:
		case *ast.MappingNode:
			if len(x.Values) > 0 {
				l.wrong(n, "%s takes no settings", o.at(key))
			}
		default:
			l.wrong(n, "%s takes no settings", o.at(key))
		}
	case arrival.Steady, arrival.Poisson:
		p.Rate = positive(o, key)
	case arrival.Ramp:
		c := o.child(key, "from", "to")
		p.Rate, p.To = c.rate("from"), c.rate("to")
		if p.Rate.Events == 0 && p.To.Events == 0 {
			l.wrong(n, "%s: a ramp from 0 to 0 produces no events", o.at(key))
		}
	case arrival.Burst:
		c := o.child(key, "size", "every")
		p.Size = c.whole("size", 1, 1)
		p.Every = c.duration("every", time.Second, time.Microsecond)
		for _, need := range []string{"size", "every"} {
			if c.fields[need] == nil {
				l.wrong(n, "%s is missing, such as burst: {size: 20, every: 2s}", c.at(need))
			}
		}
	case arrival.Callers:
		c := o.child(key, "count", "rate")
		p.Size = c.whole("count", 1, 1)
		if c.fields["count"] == nil {
			l.wrong(n, "%s is missing, such as callers: {count: 8}", c.at("count"))
		}
		if p.Size > 10_000 {
			l.wrong(c.fields["count"], "%s is %d; it must be at most 10000", c.at("count"), p.Size)
			p.Size = 1
		}
		if c.fields["rate"] != nil {
			p.Rate = positive(c, "rate")
		}
	}
}
