package project

import (
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

// RecordingsDir is the folder of a project that holds the recordings of upstreams.
const RecordingsDir = "upstreams"

// behaviourKeys are the settings of an upstream that a drill may change.
var behaviourKeys = []string{"mode", "missing", "latency", "fail", "status", "concurrency"}

// upstream reads a service that functions call.
func (l *loader) upstream(name string, all *object) {
	o := all.child(name, append([]string{"url", "service", "env", "functions", "proxy", "recording", "redact",
		"ignore"},
		behaviourKeys...)...)
	u := plan.Upstream{Name: name, Service: -1, Env: o.text("env", "")}
	defer func() { l.p.Upstreams = append(l.p.Upstreams, u) }()
	switch {
	case o.fields["url"] != nil && o.fields["service"] != nil:
		l.wrong(o.fields["service"], "%s: an upstream has either a url or a service", o.at("service"))
	case o.fields["service"] != nil:
		wanted := o.text("service", "")
		var names []string
		for i := range l.p.Services {
			names = append(names, l.p.Services[i].Name)
			if l.p.Services[i].Name == wanted {
				u.Service = i
			}
		}
		if u.Service < 0 {
			l.wrong(o.fields["service"], "%s: unknown service %q%s", o.at("service"), wanted, didYouMean(wanted, names))
		} else if x := &l.p.Services[u.Service]; !x.Port { // functions find it at its port
			if x.Port = true; x.Ready.By == plan.ReadyRuns {
				x.Ready.By = plan.ReadyTCP
			}
		}
	default:
		u.URL = l.serviceURL(o)
	}
	if u.Proxy = o.choice("proxy", []string{"false", "true"}, 0) == 1; u.Proxy && u.Service >= 0 {
		l.wrong(o.fields["proxy"], "%s: calls to a service of the project do not go through a proxy; use env",
			o.at("proxy"))
	}
	switch {
	case u.Env == "" && !u.Proxy:
		l.wrong(o.node, "%s is missing: the variable in which functions get the address, such as env: %s_URL",
			o.at("env"),
			strings.ToUpper(strings.ReplaceAll(name, "-", "_")))
	case u.Env != "" && !isVariable(u.Env):
		l.wrong(o.fields["env"], "%s: %q is not the name of a variable, such as RATES_URL", o.at("env"), u.Env)
	}
	for i := range l.p.Upstreams {
		if other := &l.p.Upstreams[i]; u.Env != "" && other.Env == u.Env {
			l.wrong(o.fields["env"], "%s: %s is the variable of %s already", o.at("env"), u.Env, other.Name)
		}
	}
	u.Recording = filepath.Join(l.dir, RecordingsDir, name+".har")
	if o.fields["recording"] != nil {
		if path := o.within("recording", l.dir); path != "" {
			u.Recording = path
		}
	}
	for _, key := range []string{"redact", "ignore"} {
		for i, n := range o.list(key) {
			at := fmt.Sprintf("%s[%d]", o.at(key), i)
			p, ok := l.text(n, at)
			if _, err := jsondiff.Parse(p); ok && err != nil && (key == "redact" || strings.HasPrefix(p, "/") ||
				p == "") {
				l.wrong(n, "%s: %v", at, err)
				continue
			}
			if key == "redact" {
				u.Redact = append(u.Redact, p)
			} else {
				u.Ignore = append(u.Ignore, p)
			}
		}
	}
	l.callers(name, o)
	l.behaviour(&u, o)
}

// isVariable reports whether a text can be the name of an environment variable (POSIX.1-2017, §8.1).
func isVariable(s string) bool {
	for i := range len(s) {
		c := s[i]
		if c != '_' && !('A' <= c && c <= 'Z' || 'a' <= c && c <= 'z' || '0' <= c && c <= '9' && i > 0) {
			return false
		}
	}
	return s != ""
}

// serviceURL reads the address of the real service.
func (l *loader) serviceURL(o *object) string {
	text := o.need("url", "https://rates.example")
	if text == "" {
		return ""
	}
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "":
		l.wrong(o.fields["url"], "%s: %q is not the URL of a service, such as https://rates.example", o.at("url"),
			payload.ShownTarget(text))
	case u.User != nil:
		l.wrong(o.fields["url"], "%s: a password does not belong in the project file; let the function send it in "+
			"a header, "+
			"from a variable of its own", o.at("url"))
	case u.RawQuery != "" || u.Fragment != "":
		l.wrong(o.fields["url"], "%s: %q must have no query", o.at("url"), payload.ShownTarget(text))
	default:
		return strings.TrimSuffix(text, "/")
	}
	return ""
}

// behaviour reads those settings of an upstream that a drill may change, too.
func (l *loader) behaviour(u *plan.Upstream, o *object) {
	if o.fields["mode"] != nil {
		u.Mode = plan.Mode(1 + o.choice("mode", plan.Modes[1:], 0))
	}
	if o.fields["missing"] != nil {
		u.PassMissing = o.choice("missing", []string{"fail", "pass"}, 0) == 1
	}
	if n := o.fields["latency"]; n != nil {
		if s, ok := l.follow(n).(*ast.StringNode); ok && s.Value == "recorded" {
			u.Times, u.P50, u.P99 = 0, 0, 0
		} else if c := o.child("latency", "times", "p50", "p99"); c != nil {
			u.Times, u.P50, u.P99 = 0, 0, 0
			for _, key := range c.order {
				if err := u.Set(key, c.text(key, "")); err != nil {
					l.wrong(c.fields[key], "%s: %v", c.at(key), err)
				}
			}
		}
	}
	for _, key := range []string{"fail", "status", "concurrency"} {
		if n := o.fields[key]; n != nil {
			if err := u.Set(key, o.text(key, "")); err != nil {
				l.wrong(n, "%s: %v", o.at(key), err)
			}
		}
	}
	if why := u.Check(); why != "" {
		l.wrong(o.node, "%s: %s", o.path, why)
	}
}

// upstreamsOf enters which upstreams a function calls, and the services that it needs for them.
func (l *loader) upstreamsOf(f *plan.Function) {
	f.Upstreams = nil
	for i := range l.p.Upstreams {
		u := &l.p.Upstreams[i]
		if users := l.users[u.Name]; users != nil && !slices.Contains(users, plan.BaseName(f.Name)) {
			continue
		}
		f.Upstreams = append(f.Upstreams, i)
		if s := u.Service; s >= 0 && !slices.Contains(f.Needs, s) {
			f.Needs = append(slices.Clone(f.Needs), s)
		}
	}
}

// callers reads which functions call an upstream: all of them where it does not say.
func (l *loader) callers(name string, o *object) {
	if o.fields["functions"] == nil {
		return
	}
	l.users[name] = []string{}
	for i, n := range o.list("functions") {
		at := fmt.Sprintf("%s[%d]", o.at("functions"), i)
		function, ok := l.text(n, at)
		if !ok {
			continue
		}
		l.users[name] = append(l.users[name], function)
		l.closing = append(l.closing, func() {
			if l.p.FunctionNamed(function) < 0 {
				l.wrong(n, "%s: unknown function %q%s", at, function, didYouMean(function, l.functionNames()))
			}
		})
	}
}

// drillUpstreams reads what a drill changes of upstreams.
func (l *loader) drillUpstreams(d *plan.Drill, o *object) {
	all := o.child("upstreams")
	if all == nil {
		return
	}
	d.Upstreams = slices.Clone(l.p.Upstreams)
	for _, name := range all.order {
		i := l.p.UpstreamNamed(name)
		if i < 0 {
			l.wrong(all.keys[name], "%s: unknown upstream%s", all.at(name), didYouMean(name, names(l.p.Upstreams)))
			continue
		}
		l.behaviour(&d.Upstreams[i], all.child(name, behaviourKeys...))
	}
}

func names(all []plan.Upstream) (out []string) {
	for i := range all {
		out = append(out, all[i].Name)
	}
	return out
}

// ChangeUpstreams returns upstreams with other settings. Each change is NAME=MODE or NAME.SETTING=VALUE; the error says
// which is wrong, and why.
func ChangeUpstreams(all []plan.Upstream, changes []string) ([]plan.Upstream, error) {
	out := slices.Clone(all)
	for _, change := range changes {
		what, value, ok := strings.Cut(change, "=")
		name, key, set := strings.Cut(what, ".")
		if !set {
			key = "mode"
		}
		at := slices.IndexFunc(out, func(u plan.Upstream) bool { return u.Name == name })
		switch {
		case !ok:
			return nil, fmt.Errorf("--upstream %s: expected NAME=MODE or NAME.SETTING=VALUE, such as rates=replay or "+
				"rates.times=0.5", change)
		case len(out) == 0:
			return nil, fmt.Errorf("--upstream %s: the project has no upstreams", change)
		case at < 0:
			return nil, fmt.Errorf("--upstream %s: unknown upstream %q%s; available: %s", change, name, didYouMean(name,
				names(out)), listed(names(out)))
		}
		if err := out[at].Set(key, value); err != nil {
			return nil, fmt.Errorf("--upstream %s: %w", change, err)
		}
	}
	for i := range out {
		if why := out[i].Check(); why != "" {
			return nil, fmt.Errorf("--upstream: %s: %s", out[i].Name, why)
		}
	}
	return out, nil
}

// ReadRecording reads what was recorded of an upstream. The error is fs.ErrNotExist where nothing was.
func ReadRecording(u *plan.Upstream) ([]payload.Payload, error) {
	text, err := ReadFile(u.Recording, mostRecording)
	if err != nil {
		return nil, err
	}
	all, mistakes := payload.Read(text)
	if len(mistakes) > 0 {
		m := mistakes[0]
		return nil, fmt.Errorf("%s:%d:%d: %s", u.Recording, m.Line, m.Column, m.Text)
	}
	if len(all) > 0 && all[0].Request == nil {
		return nil, fmt.Errorf("%s holds events; a recording of an upstream is a HAR archive of requests and replies",
			u.Recording)
	}
	return all, nil
}
