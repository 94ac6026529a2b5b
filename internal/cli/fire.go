package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
)

func fireCommand(dir *string) *cobra.Command {
	var o session.Order
	var times int
	var asJSON, all, watch bool
	var junit string
	var as asked
	var upstreams []string
	c := &cobra.Command{
		Use:   "fire SOURCE PAYLOAD",
		Short: "Fire one event and print reply, log lines and timing",
		Long: `Fire starts what is needed, sends one event to a source, and prints the function's
reply, what it logged meanwhile, and where the time went.

PAYLOAD is a payload set (its first payload), SET#N, the name of a saved payload, a
file, or - for standard input: a raw HTTP request, an event as JSON, or a recording
(its first event). For a storage source, any other file is uploaded, and its event is
fired. For a schedule, next is its next time, and now is this moment. The exit code is
0 only if the event's outcome is done.

Where replies are sent on to other sources, the command waits for all steps and
prints what went into and came out of each.

With --all every payload that has expectations is fired once, and each unexpected
reply is listed; --watch fires them again after each change of a file, those of
functions that changed first, until Ctrl+C.`,
		Args: func(_ *cobra.Command, args []string) error {
			if all && len(args) == 0 {
				return nil
			}
			if all {
				return errors.New("--all takes no source or payload")
			}
			if len(args) != 2 {
				return errors.New("fire needs a source and a payload, such as nightdrill fire fares fare-requests#1")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if times < 1 {
				return wrong(fmt.Errorf("--times must be at least 1, got %d", times))
			}
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			if err := d.ChangeUpstreams(upstreams); err != nil {
				return wrong(err)
			}
			if all {
				return fireAll(cmd, d, o, junit, watch)
			}
			if junit != "" || watch {
				return wrong(errors.New("--junit and --watch need --all"))
			}
			if o.Item, err = findItem(cmd.InOrStdin(), d, args[0], args[1], as); err != nil {
				return wrong(err)
			}
			if apart := d.Apart(); apart != "" && d.Sources[o.Item.Source].Kind == plan.Storage {
				fmt.Fprintln(cmd.ErrOrStderr(), "nightdrill: "+apart)
			}
			return fire(cmd, d, o, times, asJSON)
		},
	}
	f := c.Flags()
	f.BoolVar(&o.Cold, "cold", false, "stop running instances before each firing")
	f.IntVar(&times, "times", 1, "fire N times in a row and print statistics")
	f.StringVar(&o.Variant, "variant", "", "fire at a variant of the function")
	f.BoolVar(&asJSON, "json", false, "print JSON")
	f.StringVar(&as.method, "method", "", "method of a request made of bare JSON (default: that of the source's "+
		"only wire)")
	f.StringVar(&as.path, "path", "", "path of a request made of bare JSON (default: that of the source's only wire)")
	f.StringVar(&as.key, "key", "", "object key of a file that is uploaded to a storage source (default: the "+
		"file's name)")
	f.BoolVar(&all, "all", false, "fire every payload of the project that has expectations")
	f.BoolVar(&watch, "watch", false, "with --all: again after each change, until Ctrl+C")
	upstreamFlag(c, &upstreams)
	f.StringVar(&junit, "junit", "", "with --all: write the results to a file as JUnit XML")
	return c
}

// asked is what flags say of a file, or of standard input, that does not say it itself.
type asked struct {
	key          string // of an object
	method, path string // of a request
}

// findItem finds what is to be fired.
func findItem(in io.Reader, d *session.Workspace, source, name string, as asked) (*catalog.Item, error) {
	s := d.SourceNamed(source)
	if s < 0 {
		return nil, unknownSource(d.Project, source)
	}
	src := &d.Sources[s]
	if src.Kind != plan.HTTP && as.method+as.path != "" {
		return nil, fmt.Errorf("--method and --path are for HTTP sources; %s is a %v source", source, src.Kind)
	}
	if name == "-" {
		content, err := io.ReadAll(in)
		if err != nil {
			return nil, err
		}
		return itemOf("standard input", content, s, src, as)
	}
	if set, n, err := d.InSet(name); err != nil {
		return nil, err
	} else if set != nil {
		return ofSet(set, n, s, src)
	}
	if i := catalog.SavedNamed(d.Dir, name, s, src); i != nil {
		return usable(i)
	}
	if src.Kind == plan.Schedule && (name == "next" || name == "now") {
		return timeItem(name, s, src)
	}
	if info, err := os.Stat(name); err == nil && src.Kind == plan.Storage && info.Size() > mostEvent {
		return d.Upload(s, name, as.key)
	}
	content, err := os.ReadFile(name)
	if err != nil {
		var names []string
		for i := range d.Sets {
			names = append(names, d.Sets[i].Name)
		}
		return nil, fmt.Errorf("no payload set, saved payload or file %q; available sets: %s", name,
			strings.Join(names, ", "))
	}
	if i, err := itemOf(name, content, s, src, as); err == nil || src.Kind != plan.Storage {
		return i, err
	}
	return d.Upload(s, name, as.key)
}

func unknownSource(p *plan.Project, name string) error {
	var names []string
	for i := range p.Sources {
		names = append(names, p.Sources[i].Name)
	}
	return fmt.Errorf("unknown source %q; available: %s", name, strings.Join(names, ", "))
}

// mostEvent is the largest file, in bytes, that is looked into to see whether it is an
// event itself and no object.
const mostEvent = 1 << 20

// timeItem makes the event of a schedule's next time, or of now.
func timeItem(name string, s int, src *plan.Source) (*catalog.Item, error) {
	times := catalog.NextTimes(src, time.Now(), 1)
	if len(times) == 0 {
		return nil, fmt.Errorf("%s never falls due", src.Name)
	}
	at := times[0].At
	if name == "now" {
		at = time.Now().In(at.Location()).Truncate(time.Second)
	}
	p := plan.ScheduleEvent(src, times[0].Spec, at)
	return &catalog.Item{Source: s, SourceName: src.Name, Label: "due " + at.Format(time.RFC3339), Set: name, N: 1,
		Payload: &p}, nil
}

func usable(i *catalog.Item) (*catalog.Item, error) {
	if i.Wrong != "" {
		return nil, fmt.Errorf("%s: %s", i.Title(), i.Wrong)
	}
	return i, nil
}

// ofSet returns payload n of a set, from 1.
func ofSet(x *payload.Set, n, s int, src *plan.Source) (*catalog.Item, error) {
	p := &x.Payloads[n-1]
	if (p.Request != nil) != (src.Kind == plan.HTTP) {
		return nil, fmt.Errorf("%s#%d is %s, which a source of kind %v does not take", x.Name, n, kindOf(p), src.Kind)
	}
	return &catalog.Item{Source: s, SourceName: src.Name, HTTP: p.Request != nil, Label: p.Label(), Set: x.Name, N: n,
		Payload: p, Expect: x.ExpectOf(n - 1)}, nil
}

func kindOf(p *payload.Payload) string {
	if p.Request != nil {
		return "an HTTP request"
	}
	return "an event"
}

// itemOf makes an item of a text: a payload as it is saved, a recording, or for an HTTP source
// the JSON body of a request.
func itemOf(name string, content []byte, s int, src *plan.Source, as asked) (*catalog.Item, error) {
	i := catalog.ItemOf(name, content, s, src)
	if i.Wrong == "" {
		return i, nil
	}
	if recorded, mistakes := payload.Read(content); len(recorded) > 0 && len(mistakes) == 0 &&
		(src.Kind != plan.HTTP || recorded[0].Request != nil || !json.Valid(content)) {
		return ofSet(&payload.Set{Name: name, Payloads: recorded}, 1, s, src)
	}
	if src.Kind != plan.HTTP {
		return nil, fmt.Errorf("%s is not an event as CloudEvents JSON: %s", name, i.Wrong)
	}
	if !json.Valid(content) {
		return nil, fmt.Errorf("%s is neither a raw HTTP request nor JSON: %s", name, i.Wrong)
	}
	r, err := requestOf(content, src, as)
	if err != nil {
		return nil, err
	}
	p := payload.Payload{Request: r}
	return &catalog.Item{Source: s, SourceName: src.Name, HTTP: true, Label: p.Label(), Set: name, N: 1, Payload: &p},
		nil
}

// requestOf makes a request with a JSON body, to the method and path of the source's only wire
// where the flags name no others.
func requestOf(body []byte, src *plan.Source, as asked) (*event.Request, error) {
	r := &event.Request{Method: strings.ToUpper(as.method), Target: as.path, Body: body,
		Header: []event.Field{{Name: "Content-Type", Value: "application/json"}}}
	if when := src.Only(); when != nil {
		if r.Target == "" {
			r.Target = when.Path.Literal()
			if when.Path.Text() == "" { // any will do
				r.Target = "/"
			}
		}
		if r.Method == "" {
			r.Method = when.Method
		}
		if r.Method == "" && r.Target != "" {
			r.Method = "POST"
		}
	}
	if r.Method == "" || r.Target == "" {
		var takes []string
		for w := range src.Wires {
			takes = append(takes, src.Wires[w].When.String())
		}
		return nil, fmt.Errorf("bare JSON needs a method and a path here, since %s takes %s; add such as "+
			"--method POST "+
			"--path /place, or give a raw HTTP request", src.Name, strings.Join(takes, "; "))
	}
	if !strings.HasPrefix(r.Target, "/") {
		return nil, fmt.Errorf("--path must begin with /, got %q", r.Target)
	}
	if strings.ContainsAny(r.Method+r.Target, " \t\r\n") {
		return nil, fmt.Errorf("--method and --path cannot hold spaces, got %q %q", r.Method, r.Target)
	}
	return r, nil
}

// fired is one firing in the JSON form of the command.
type fired struct {
	N           int                `json:"n"`
	Source      string             `json:"source"`
	Payload     string             `json:"payload"`
	Outcome     string             `json:"outcome"` // or "not sent"
	Why         string             `json:"why,omitempty"`
	Function    string             `json:"function,omitempty"`
	Version     string             `json:"version,omitempty"`
	Instance    string             `json:"instance,omitempty"`
	Class       string             `json:"class,omitempty"`
	Attempts    int                `json:"attempts"`
	Ms          float64            `json:"ms"`
	Phases      map[string]float64 `json:"phases_ms"`
	Own         map[string]float64 `json:"server_timing_ms,omitempty"`
	Status      int                `json:"status,omitempty"`
	Header      map[string]string  `json:"headers,omitempty"`
	Size        int64              `json:"size"`
	Body        any                `json:"body,omitempty"` // JSON as it is, text as a string
	Log         []string           `json:"log,omitempty"`
	Unexpected  []string           `json:"unexpected,omitempty"`
	DeadLetters int                `json:"dead_letters,omitempty"`
	Broken      int                `json:"failed_steps,omitempty"` // of its chain, beside the event itself
	Steps       []firedStep        `json:"steps,omitempty"`        // the event, and what was made of it
	Calls       []firedCall        `json:"calls,omitempty"`        // to upstreams, during the last attempt
	Spans       []firedSpan        `json:"spans,omitempty"`        // that the function sent, likewise
}

// firedCall is a call to an upstream.
type firedCall struct {
	Upstream string  `json:"upstream"`
	Request  string  `json:"request"`
	AtMs     float64 `json:"at_ms"` // after the invocation was sent
	Ms       float64 `json:"ms"`
	Status   int     `json:"status"`
	Way      string  `json:"way"` // passed, recorded, replayed, missing or planned
	Failed   string  `json:"failed,omitempty"`
	Repeated bool    `json:"repeated,omitempty"`
	Among    int     `json:"among,omitempty"` // invocations that it may be of, where it is not known which
	Why      string  `json:"why,omitempty"`
}

// firedSpan is a span that a function sent.
type firedSpan struct {
	Name       string          `json:"name"`
	ID         string          `json:"id"`
	Parent     string          `json:"parent"`
	AtMs       float64         `json:"at_ms"` // after the invocation was sent, by the wall clock
	Ms         float64         `json:"ms"`
	Kind       int             `json:"kind"` // of trace/v1
	Failed     bool            `json:"failed,omitempty"`
	Attributes json.RawMessage `json:"attributes,omitempty"`
}

// insideOf returns the calls and the spans of an attempt.
func insideOf(t *runner.Attempt) (calls []firedCall, spans []firedSpan) {
	began := t.Invocation.Began()
	for i := range t.Calls {
		c := &t.Calls[i]
		calls = append(calls, firedCall{Upstream: c.Name, Request: c.Label, AtMs: millis(c.Began.Sub(began)),
			Ms: millis(c.Done.Sub(c.Began)), Status: int(c.Status), Way: c.Way.String(), Failed: c.Failed.String(),
			Repeated: c.Repeated, Among: int(c.Among), Why: c.Why})
	}
	for i := range t.Spans {
		s := &t.Spans[i]
		spans = append(spans, firedSpan{s.Name, fmt.Sprintf("%016x", s.ID), fmt.Sprintf("%016x", s.Parent),
			millis(s.Begin.Sub(began)), millis(s.End.Sub(s.Begin)), int(s.Kind), s.Failed,
			json.RawMessage(s.Attributes)})
	}
	return calls, spans
}

// firedStep is one function that an event, or what was made of it, came to.
type firedStep struct {
	Depth    int            `json:"depth"` // 0 for the event that was fired
	From     string         `json:"from"`
	Source   string         `json:"source"`
	Event    string         `json:"event"`
	Function string         `json:"function,omitempty"`
	Outcome  string         `json:"outcome"`
	Status   int            `json:"status,omitempty"`
	WaitMs   float64        `json:"wait_ms"`
	Ms       float64        `json:"ms"`
	Attempts []firedAttempt `json:"attempts,omitempty"`
	Why      string         `json:"why,omitempty"`
	Hint     string         `json:"hint,omitempty"`
}

type firedAttempt struct {
	N        int     `json:"n"`
	Result   string  `json:"result"`
	Status   int     `json:"status,omitempty"`
	Class    string  `json:"class,omitempty"`
	Instance string  `json:"instance,omitempty"`
	AtMs     float64 `json:"at_ms"` // after the event came
	Ms       float64 `json:"ms"`
	Why      string  `json:"why,omitempty"`
}

// origins are how a step came about.
var origins = map[engine.Origin]string{engine.FromOutside: "fired", engine.FromDeadLetter: "dead-lettered",
	engine.FromReply: "reply", engine.FromFault: "fault"}

func stepOf(x *explain.Step) firedStep {
	out := firedStep{Depth: x.Depth, From: origins[x.Origin], Source: x.Source, Event: x.Label, Function: x.Function,
		Outcome: "in progress", Status: x.Status, WaitMs: millis(x.Waited), Ms: millis(x.Took), Why: x.Why,
		Hint: x.Hint}
	if x.Over {
		out.Outcome = x.Outcome.Words()
	}
	for _, t := range x.Tried {
		a := firedAttempt{N: t.N, Result: t.Result.String(), Status: t.Status, Why: t.Why}
		if t.Instance != "" { // it came to one
			a.Class, a.Instance, a.AtMs, a.Ms = t.Class.String(), t.Instance, millis(t.At), millis(t.Took)
		}
		out.Attempts = append(out.Attempts, a)
	}
	return out
}

func fire(cmd *cobra.Command, d *session.Workspace, o session.Order, times int, asJSON bool) error {
	s, leave, err := quietly(d)
	if err != nil {
		return err
	}
	defer leave()
	out := cmd.OutOrStdout()
	var all []fired
	good, expected := true, true
	held := 0 // replies that the network held back
	took := map[engine.Class][]time.Duration{}
	if p, err := s.Preview(o.Item); err == nil { // what cannot be read is reported when it is fired
		if why := neverInvoked(d, o.Item, p, o.Variant); why != "" {
			return coded{failed, errors.New(why)}
		}
	}
	for n := range times {
		v, err := shoot(cmd, s, o)
		if err != nil {
			return err
		}
		if times == 1 {
			s.Heard(v)
		}
		x := describe(s, &v)
		all = append(all, x)
		good = good && x.Outcome == "done" && x.Broken == 0
		expected = expected && len(x.Unexpected) == 0
		if t := v.Last(); t != nil && v.Outcome() == engine.Done {
			took[t.Invocation.Class] = append(took[t.Invocation.Class], v.Latency())
			if t.Invocation.HeldBack() {
				held++
			}
		}
		switch {
		case asJSON:
		case times == 1:
			printFiring(out, s, &v, &x)
		default:
			fmt.Fprintf(out, "%3d  %s\n", n+1, line(&x))
		}
		if v.Refused != nil {
			break
		}
	}
	if asJSON {
		content, err := json.MarshalIndent(map[string]any{"format": "nightdrill.firing/2", "project": d.Name,
			"firings": all},
			"", "  ")
		if err != nil {
			return could(err)
		}
		fmt.Fprintf(out, "%s\n", content)
	} else if times > 1 {
		printFigures(out, took)
		if 2*held > times {
			fmt.Fprintf(out, "\nof %d replies, %s\n", held, explain.HeldBack)
		}
	}
	switch {
	case !good && all[len(all)-1].Outcome == "not sent":
		return coded{failed, errors.New(oneLine(all[len(all)-1].Why))}
	case !good, !expected:
		return errMissed
	}
	return nil
}

// neverInvoked returns why an event would wait without an end: a function that it reaches
// has a limit of 0. It returns "" where all may be invoked; an HTTP request is rejected, and waits for
// nothing.
func neverInvoked(d *session.Workspace, i *catalog.Item, p *payload.Payload, variant string) string {
	src := &d.Sources[i.Source]
	if src.Kind == plan.HTTP {
		return ""
	}
	takes := d.Routes(i.Source, p)
	for w := range src.Wires {
		if takes&(1<<w) == 0 {
			continue
		}
		f := &d.Functions[src.Wires[w].To]
		limits := f.Limits
		name := f.Name
		if k := d.Whole.FunctionNamed(f.Name + "@" + variant); variant != "" && k >= 0 {
			limits, name = d.Whole.Functions[k].Limits, d.Whole.Functions[k].Name
		}
		if limits.Max == 0 {
			return fmt.Sprintf("not sent: the limit of %s is 0 (concurrency: {max: 0}), so nothing is invoked and "+
				"the event would wait forever; raise functions.%s.concurrency.max",
				name, f.Name)
		}
	}
	return ""
}

// shoot fires once and waits for the end.
func shoot(cmd *cobra.Command, s *session.Session, o session.Order) (session.Shown, error) {
	f := s.Fire(o)
	select {
	case <-f.Whole():
	case <-cmd.Context().Done():
		f.Stop()
		return session.Shown{}, coded{interrupted, errors.New("interrupted")}
	}
	s.AwaitSpans(cmd.Context(), f)
	return s.Look(f), nil
}

// quietly opens the session for one command; leave ends it and whatever runs.
func quietly(d *session.Workspace) (s *session.Session, leave func(), err error) {
	farewell, err := proc.Guard(nil)
	if err != nil {
		return nil, nil, could(err)
	}
	s = d.StandQuietly()
	if err := s.UpstreamTrouble(); err != nil {
		s.Close()
		farewell()
		return nil, nil, could(err)
	}
	return s, func() { s.Close(); farewell() }, nil
}

func describe(s *session.Session, v *session.Shown) fired {
	x := fired{N: v.N, Source: v.Item.SourceName, Payload: v.Item.Title(), Phases: map[string]float64{}}
	if v.Refused != nil {
		x.Outcome, x.Why, x.Log = "not sent", v.Refused.Text, v.Refused.Lines
		return x
	}
	x.Outcome = v.Outcome().Words()
	x.Ms = millis(v.Latency())
	for _, step := range s.Trace(v) {
		x.Steps = append(x.Steps, stepOf(&step))
		if step.Depth > 0 && step.Origin == engine.FromReply && step.Outcome != engine.Done {
			x.Broken++
		}
		if step.Depth == 0 && step.Outcome == engine.Unmatched {
			x.Why = step.Why
		}
	}
	t := v.Last()
	if t == nil {
		return x
	}
	x.Attempts = len(v.Trace.Attempts)
	for _, m := range v.Trace.Made {
		if m.Origin == engine.FromDeadLetter {
			x.DeadLetters++
		}
	}
	x.Function, x.Version, x.Instance, x.Why = s.NameOf(t), t.Version, t.Name, t.Why
	if t.Result != engine.OK && x.Why == "" {
		x.Why = t.Result.String()
	}
	if t.Name == "" {
		x.Log = t.Lines
		return x
	}
	x.Class = t.Invocation.Class.String()
	x.Calls, x.Spans = insideOf(t)
	for _, p := range record.Phases(v.Trace.Arrived, &t.Instance, &t.Invocation) {
		x.Phases[strings.ReplaceAll(p.Name, " ", "_")] += millis(p.Took())
	}
	for _, l := range s.Lines(*v, t, 1000) {
		x.Log = append(x.Log, l.Text)
	}
	if r := t.Reply; r != nil && r.Status > 0 {
		x.Status, x.Size, x.Header = r.Status, r.Size, map[string]string{}
		for name, values := range r.Header {
			if x.Header[name] = strings.Join(values, ", "); payload.SecretHeader(name) {
				x.Header[name] = proc.Stars
			}
		}
		if r.Timing != "" {
			x.Own = map[string]float64{}
			for _, own := range measure.ParseServerTiming(r.Timing) {
				x.Own[own.Name] += millis(own.Took)
			}
		}
		body, _ := r.Plain()
		switch {
		case json.Valid(body):
			x.Body = json.RawMessage(body)
		case text.IsText(body):
			x.Body = string(body)
		}
	}
	x.Unexpected = v.Unexpected()
	return x
}

func millis(d time.Duration) float64 { return float64(d.Round(time.Microsecond)) / 1e6 }

// line is a firing in one line.
func line(x *fired) string {
	content := fmt.Sprintf("%-9s %8.2f ms", x.Outcome, x.Ms)
	if x.Class != "" {
		content += fmt.Sprintf("  %-5s on %s, %s", x.Class, x.Instance, x.Version)
	}
	if x.Status > 0 {
		content += fmt.Sprintf("  status %d, %d B", x.Status, x.Size)
	}
	if x.Why != "" {
		content += "  " + text.Harmless(x.Why)
	}
	return content
}

func printFiring(w io.Writer, s *session.Session, v *session.Shown, x *fired) {
	fmt.Fprintf(w, "%s %s  %s\n", x.Source, x.Payload, text.Harmless(v.Item.Label))
	fmt.Fprintln(w, line(x))
	if v.Refused != nil {
		for _, l := range x.Log[max(0, len(x.Log)-20):] {
			fmt.Fprintln(w, "  "+l)
		}
		return
	}
	t := v.Last()
	if t == nil {
		if v.Outcome() == engine.Unmatched {
			fmt.Fprintln(w, "  nightdrill check --event prints for each wire which conditions are met")
		}
		return
	}
	if len(v.Trace.Attempts) > 1 {
		for _, a := range v.Trace.Attempts {
			fmt.Fprintln(w, "  "+text.Harmless(explain.AttemptOf(a, v.Trace.Arrived).Words()))
		}
	}
	if r := t.Reply; r != nil && r.Status > 0 {
		fmt.Fprintln(w, "\nreply")
		printReply(w, r)
	}
	fmt.Fprintf(w, "\nlog, %s\n", text.Plural(len(x.Log), "line"))
	for _, l := range x.Log {
		fmt.Fprintln(w, "  "+l)
	}
	if t.Name == "" {
		return
	}
	fmt.Fprintln(w, "\nwhere the time went, ms")
	if content := explain.WhatWaits(&s.Plan().Sources[v.Item.Source]); content != "" {
		fmt.Fprintf(w, "  (it waits for %s)\n", content)
	}
	for _, p := range record.Phases(v.Trace.Arrived, &t.Instance, &t.Invocation) {
		fmt.Fprintf(w, "  %-12s %9.2f\n", p.Name, millis(p.Took()))
	}
	if t.Invocation.HeldBack() {
		fmt.Fprintf(w, "  (%s)\n", explain.HeldBack)
	}
	if t.Reply != nil {
		for _, own := range measure.ParseServerTiming(t.Reply.Timing) {
			fmt.Fprintf(w, "    %-10s %9.2f  %s\n", text.Harmless(own.Name), millis(own.Took),
				report.OwnWords(own.Name))
		}
	}
	printInside(w, t)
	for _, u := range x.Unexpected {
		fmt.Fprintln(w, "\nunexpected: "+text.Harmless(u))
	}
	printTrace(w, s, v)
}

// printInside prints what happened during an invocation: calls to upstreams, and spans.
func printInside(w io.Writer, t *runner.Attempt) {
	all := explain.InsideOf(t)
	if len(all) == 0 {
		return
	}
	fmt.Fprintln(w, "\nwithin the invocation, ms: after it was sent, and how long")
	for i := range all {
		x := &all[i]
		what := x.Name
		if x.Call {
			what = "→ " + x.Name + "  " + x.Label
		}
		if x.Note != "" {
			what += "  " + x.Note
		}
		fmt.Fprintf(w, "  %9.2f %9.2f  %s%s\n", millis(x.From.Sub(t.Invocation.Began())), millis(x.To.Sub(x.From)),
			strings.Repeat("  ", x.Depth), text.Harmless(what))
	}
	for i := range t.Calls {
		if why := t.Calls[i].Why; why != "" {
			fmt.Fprintln(w, "  "+text.Harmless(why))
		}
	}
}

// printTrace prints the steps of a chain, with what went in and came out.
func printTrace(w io.Writer, s *session.Session, v *session.Shown) {
	steps := s.Trace(v)
	if len(steps) < 2 {
		return
	}
	fmt.Fprintln(w, "\nstep by step")
	for i := range steps {
		x := &steps[i]
		indent := strings.Repeat("  ", x.Depth+1)
		fmt.Fprintf(w, "%s%s\n", indent, text.Harmless(x.Line()))
		for _, part := range []struct {
			name string
			body []byte
		}{{"in ", x.Payload.Data()}, {"out", x.Out}} {
			if len(part.body) > 0 {
				fmt.Fprintf(w, "%s  %s  %s\n", indent, part.name, text.Harmless(payload.Line(part.body, 160)))
			}
		}
		for _, content := range []string{x.Why, x.Hint} {
			if content != "" {
				fmt.Fprintf(w, "%s  %s\n", indent, text.Harmless(content))
			}
		}
	}
}

// printed is how much of a body is printed for people.
const printed = 64_000

func printReply(w io.Writer, r *transport.Reply) {
	for _, name := range sortedNames(r.Header) {
		for _, value := range r.Header[name] {
			if payload.SecretHeader(name) {
				value = proc.Stars
			}
			fmt.Fprintf(w, "  %s: %s\n", name, text.Harmless(value))
		}
	}
	body, note := r.Plain()
	if note != "" {
		fmt.Fprintf(w, "  (%s)\n", note)
	}
	fmt.Fprintln(w)
	if len(body) > printed {
		defer fmt.Fprintf(w, "  (the first %d kB of %d kB; --json has all of it)\n", printed/1000, len(body)/1000)
		body = body[:printed]
	}
	var pretty bytes.Buffer
	switch {
	case len(body) == 0:
		fmt.Fprintln(w, "  (no body)")
	case text.Indent(&pretty, body):
		fmt.Fprintln(w, "  "+harmlessLines(pretty.String()))
	case text.IsText(body):
		fmt.Fprintln(w, "  "+harmlessLines(string(body)))
	default:
		fmt.Fprintf(w, "  (%d bytes of binary data)\n", len(body))
	}
}

// harmlessLines keeps the lines of a text and nothing that a terminal obeys.
func harmlessLines(content string) string {
	lines := strings.Split(strings.TrimRight(content, "\n"), "\n")
	for i, l := range lines {
		indent := len(l) - len(strings.TrimLeft(l, " "))
		lines[i] = l[:indent] + text.Harmless(strings.TrimRight(l[indent:], "\r"))
	}
	return strings.Join(lines, "\n  ")
}

func printFigures(w io.Writer, took map[engine.Class][]time.Duration) {
	fmt.Fprintf(w, "\n%-6s %5s %9s %9s %9s   ms, from firing to the last byte\n", "", "n", "min", "median", "max")
	for _, class := range []engine.Class{engine.Cold, engine.First, engine.Warm} {
		all := took[class]
		if len(all) == 0 {
			continue
		}
		slices.Sort(all)
		fmt.Fprintf(w, "%-6v %5d %9.2f %9.2f %9.2f\n", class, len(all), millis(all[0]), millis(all[(len(all)-1)/2]),
			millis(all[len(all)-1]))
	}
}
