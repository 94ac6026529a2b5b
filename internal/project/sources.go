package project

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on machines without a database of them too

	"github.com/bmatcuk/doublestar/v4"
	"github.com/goccy/go-yaml/ast"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/route"
	"nightdrill.dev/internal/core/schedule"
	"nightdrill.dev/internal/core/template"
)

// ofSource are the settings of a source, with the kinds that have them; a setting
// without kinds is for all.
var ofSource = []struct {
	name  string
	kinds []plan.Kind
}{
	{"kind", nil}, {"wires", nil},
	{
		"wait",
		[]plan.Kind{plan.HTTP},
	}, {"cors", []plan.Kind{plan.HTTP}}, {"token", []plan.Kind{plan.HTTP, plan.Queue, plan.Stream}},
	{"batch", []plan.Kind{plan.Queue, plan.Stream}},
	{"lease", []plan.Kind{plan.Queue}}, {"extend_to", []plan.Kind{plan.Queue}}, {"max_age", []plan.Kind{plan.Queue}},
	{"delay", []plan.Kind{plan.Queue}}, {"group", []plan.Kind{plan.Queue}},
	{"attempts", []plan.Kind{plan.Queue, plan.Storage, plan.Stream, plan.Schedule}},
	{"backoff", []plan.Kind{plan.Queue, plan.Storage, plan.Stream, plan.Schedule}},
	{"dead_letter", []plan.Kind{plan.Queue, plan.Storage, plan.Stream, plan.Schedule}},
	{"bucket", []plan.Kind{plan.Storage}}, {"folder", []plan.Kind{plan.Storage}}, {"notify", []plan.Kind{plan.Storage}},
	{"poll", []plan.Kind{plan.Storage}},
	{"partitions", []plan.Kind{plan.Stream}}, {"key", []plan.Kind{plan.Stream}},
	{"on_failure", []plan.Kind{plan.Stream}}, {"begin", []plan.Kind{plan.Stream}},
	{"copied_from", []plan.Kind{plan.Queue, plan.Stream}}, {"taken_from", []plan.Kind{plan.Queue}},
	{"cron", []plan.Kind{plan.Schedule}}, {"every", []plan.Kind{plan.Schedule}}, {"zone", []plan.Kind{plan.Schedule}},
	{"while_running", []plan.Kind{plan.Schedule}}, {"missed", []plan.Kind{plan.Schedule}},
}

func (l *loader) source(s *plan.Source, name string, all *object) {
	var known []string
	for _, k := range ofSource {
		known = append(known, k.name)
	}
	o := all.child(name, known...)
	s.Kind = plan.Kind(o.choice("kind", plan.Kinds, 0))
	if o.fields["kind"] == nil {
		l.wrong(o.node, "%s is missing: one of %s", o.at("kind"), listed(plan.Kinds))
	}
	for _, k := range ofSource {
		if n := o.keys[k.name]; n != nil && k.kinds != nil && !slices.Contains(k.kinds, s.Kind) {
			l.wrong(n, "%s is not a setting of a source of kind %s", o.at(k.name), s.Kind)
		}
	}
	s.Bucket = name
	if s.Kind == plan.Storage {
		l.storage(s, o)
	}
	for i, n := range o.list("wires") {
		l.wire(s, n, fmt.Sprintf("%s[%d]", o.at("wires"), i))
	}
	if s.Kind.Published() {
		l.token(s, o)
		l.fed(s, o)
	}
	if len(s.Wires) > 64 {
		l.wrong(o.fields["wires"], "%s: %d wires; the limit is 64", o.at("wires"), len(s.Wires))
		s.Wires = s.Wires[:64]
	}
	if s.Kind == plan.HTTP {
		l.http(s, o)
		return
	}
	l.retries(s, o)
	switch s.Kind {
	case plan.Queue:
		l.batch(s, o)
		l.queue(s, o)
	case plan.Stream:
		l.batch(s, o)
		l.stream(s, o)
	case plan.Schedule:
		l.schedule(s, o)
	}
}

// token reads what who sends to a source has to know.
func (l *loader) token(s *plan.Source, o *object) {
	if n := o.fields["token"]; n != nil {
		if _, plain := l.follow(n).(*ast.StringNode); plain {
			s.Token = o.text("token", "")
		} else if c := o.child("token", "env"); c != nil {
			name := c.need("env", "FARES_TOKEN")
			if s.Token = os.Getenv(name); s.Token == "" && name != "" {
				l.wrong(c.fields["env"], "%s: the environment variable %s is not set", c.at("env"), name)
				s.Token = "unset"
			}
		}
		if s.Token == "" || strings.ContainsAny(s.Token, " \r\n\t") {
			l.wrong(n, "%s must not be empty or contain spaces (RFC 6750 §2.1)", o.at("token"))
		}
	}
}

func (l *loader) http(s *plan.Source, o *object) {
	s.Wait = o.duration("wait", 0, 0)
	l.token(s, o)
	c := o.child("cors", "origins", "headers", "expose", "credentials", "max_age")
	if c == nil {
		return
	}
	s.CORS = &plan.CORS{Origins: l.texts(c, "origins"), Headers: l.texts(c, "headers"), Expose: l.texts(c, "expose"),
		Credentials: c.choice("credentials", []string{"false", "true"}, 0) == 1, MaxAge: c.duration("max_age",
			5*time.Second, 0)}
	if len(s.CORS.Origins) == 0 {
		l.wrong(c.node, "%s is missing: the origins of the pages that may send requests, such as "+
			"[\"http://localhost:3000\"], or [\"*\"] for all", c.at("origins"))
	}
	for i, origin := range s.CORS.Origins {
		if u, err := url.Parse(origin); origin != "*" && (err != nil || u.Scheme == "" || u.Host == "" ||
			u.Path != "") {
			l.wrong(c.fields["origins"], "%s[%d]: %q is not an origin, such as http://localhost:3000, without a path",
				c.at("origins"), i, origin)
		}
	}
	if s.CORS.Credentials && slices.Contains(s.CORS.Origins, "*") {
		l.wrong(c.fields["credentials"], "%s: browsers refuse credentials where any origin is allowed (Fetch "+
			"Standard §3.2.5); name the origins", c.at("credentials"))
	}
}

// texts reads a list of texts, or one.
func (l *loader) texts(o *object, key string) (out []string) {
	n := o.fields[key]
	if n == nil {
		return nil
	}
	if _, one := l.follow(n).(*ast.SequenceNode); !one {
		return []string{o.text(key, "")}
	}
	for i, v := range o.list(key) {
		if s, ok := l.text(v, fmt.Sprintf("%s[%d]", o.at(key), i)); ok {
			out = append(out, s)
		}
	}
	return out
}

// retries reads what all sources have whose events come again.
func (l *loader) retries(s *plan.Source, o *object) {
	attempts := DefaultAttempts
	if s.Kind == plan.Schedule {
		attempts = 1
	}
	s.Attempts = o.whole("attempts", attempts, 1)
	s.Backoff = o.duration("backoff", DefaultBackoff, 0)
	s.BatchMax = 1
	if o.fields["dead_letter"] == nil {
		return
	}
	name := o.text("dead_letter", "")
	s.DeadLetter = l.p.SourceNamed(name)
	if s.DeadLetter < 0 {
		l.wrong(o.fields["dead_letter"], "%s: unknown source %q%s", o.at("dead_letter"), name,
			didYouMean(name, l.sourceNames()))
		return
	}
	l.closing = append(l.closing, func() {
		to := &l.p.Sources[s.DeadLetter]
		if to.Kind != plan.Queue {
			l.wrong(o.fields["dead_letter"], "%s: %s is not a queue", o.at("dead_letter"), name)
			return
		}
		for w := range to.Wires {
			if to.Wires[w].Share > 0 {
				l.wrong(o.fields["dead_letter"], "%s: a wire of %s divides what it takes; a dead-letter queue sends "+
					"everything to its functions", o.at("dead_letter"), name)
				break
			}
			if !to.Wires[w].When.Any() {
				l.wrong(o.fields["dead_letter"], "%s: the wires of %s have conditions; a dead-letter queue sends "+
					"everything to its functions", o.at("dead_letter"), name)
				break
			}
		}
		seen := map[int]bool{}
		for at := l.p.SourceNamed(s.Name); at >= 0; at = l.p.Sources[at].DeadLetter {
			if seen[at] {
				l.wrong(o.fields["dead_letter"], "%s: dead letters of %s come back to it", o.at("dead_letter"), s.Name)
				s.DeadLetter = -1
				return
			}
			seen[at] = true
		}
	})
}

func (l *loader) batch(s *plan.Source, o *object) {
	if b := o.child("batch", "max", "wait"); b != nil {
		s.BatchMax = b.whole("max", 1, 1)
		s.BatchWait = b.duration("wait", 0, 0)
	}
	for _, w := range s.Wires {
		if f := &l.p.Functions[w.To]; f.Deliver == plan.DeliverBody && s.BatchMax > 1 {
			l.wrong(o.fields["batch"], "%s: %s takes the payload's bytes alone (deliver: body), which cannot carry a "+
				"batch of %d", o.at("batch"), f.Name, s.BatchMax)
		}
	}
}

func (l *loader) queue(s *plan.Source, o *object) {
	s.MaxAge, s.Delay = o.duration("max_age", 0, 0), o.duration("delay", 0, 0)
	if s.MaxAge > 0 && s.Delay >= s.MaxAge {
		l.wrong(o.fields["delay"], "%s is %v, but a message expires after %v: none would ever become visible",
			o.at("delay"), s.Delay, s.MaxAge)
	}
	s.Key = l.sortedBy(o, "group")
	longest := time.Duration(0)
	for _, w := range s.Wires {
		longest = max(longest, l.p.Functions[w.To].Timeout)
	}
	s.Lease = o.duration("lease", longest+leaseBeyondTimeout, time.Millisecond)
	s.LeaseMost = o.duration("extend_to", 0, 0)
	switch {
	case o.fields["extend_to"] != nil && s.LeaseMost <= s.Lease:
		l.wrong(o.fields["extend_to"], "%s is %v; it must be longer than the lease of %v", o.at("extend_to"),
			s.LeaseMost, s.Lease)
	case s.Lease <= longest && s.LeaseMost <= longest:
		l.wrong(o.fields["lease"], "%s is %v; it must be longer than the timeout of the function, %v, or a message "+
			"would be delivered again while the function still works on it. Make it longer, or let it be extended: "+
			"extend_to: %v", o.at("lease"), s.Lease, longest, longest+leaseBeyondTimeout)
	}
}

// sortedBy reads by what events are sorted: a JSON Pointer into their data, or
// an attribute.
func (l *loader) sortedBy(o *object, key string) string {
	text := o.text(key, "")
	switch {
	case strings.HasPrefix(text, "/"):
		if _, err := jsondiff.Parse(text); err != nil {
			l.wrong(o.fields[key], "%s: %v", o.at(key), err)
		}
	case strings.ContainsFunc(text, func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') }):
		l.wrong(o.fields[key], "%s: %q must be a JSON Pointer into the data, such as /vessel, or the name of an "+
			"attribute", o.at(key), text)
	}
	return text
}

func (l *loader) stream(s *plan.Source, o *object) {
	if s.Partitions = o.whole("partitions", DefaultPartitions, 1); s.Partitions > 1024 {
		l.wrong(o.fields["partitions"], "%s is %d; it must be at most 1024", o.at("partitions"), s.Partitions)
		s.Partitions = 1
	}
	if s.Key = l.sortedBy(o, "key"); s.Key == "" {
		s.Key = "partitionkey" // CloudEvents Partitioning extension
	}
	s.OnFailure = plan.OnFailure(o.choice("on_failure", []string{"skip", "split"}, int(plan.Skip)))
	s.FromNew = o.choice("begin", []string{"oldest", "new"}, 0) == 1
}

func (l *loader) storage(s *plan.Source, o *object) {
	if o.fields["bucket"] != nil {
		if s.Bucket = o.text("bucket", s.Bucket); s.Bucket == "" || strings.ContainsFunc(s.Bucket, func(r rune) bool {
			return r != '-' && r != '.' && r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') &&
				(r < 'A' || r > 'Z')
		}) || s.Bucket[0] == '.' {
			l.wrong(o.fields["bucket"], "%s: %q is not a name for a bucket; use letters, digits, dots and - or _",
				o.at("bucket"), s.Bucket)
		}
	}
	if s.Folder = o.within("folder", l.dir); s.Folder != "" && holdsState(s.Folder, l.dir) {
		l.wrong(o.fields["folder"],
			"%s: %s contains the project file or %s, which uploads could then replace; choose a folder of its "+
				"own, such as uploads",
			o.at("folder"), o.text("folder", ""), StateDir)
	}
	for i := range l.p.Sources {
		if other := &l.p.Sources[i]; other != s && other.Kind == plan.Storage && other.Bucket == s.Bucket &&
			other.Folder != s.Folder && other.Folder != "" {
			l.wrong(o.node, "%s: the folder of bucket %s is already that of %s", o.at("bucket"), s.Bucket, other.Name)
		}
	}
	polled := o.fields["poll"] != nil
	if how := o.choice("notify", []string{"push", "poll"}, 0); o.fields["notify"] != nil && (how == 1) != polled {
		if polled {
			l.wrong(o.fields["notify"], "%s is push, but %s sets polling; remove one of them", o.at("notify"),
				o.at("poll"))
		} else {
			l.wrong(o.fields["notify"], "%s: missing interval, such as poll: 2s", o.at("notify"))
		}
	}
	s.Poll = o.duration("poll", 0, time.Millisecond)
}

func (l *loader) schedule(s *plan.Source, o *object) {
	name := o.text("zone", "UTC")
	zone, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		l.wrong(o.fields["zone"], "%s: %q is not a time zone of the IANA database, such as UTC or Europe/Lisbon",
			o.at("zone"), name)
		zone = time.UTC
	}
	for i, text := range l.texts(o, "cron") {
		spec, err := schedule.Parse(text, zone)
		if err != nil {
			l.wrong(o.fields["cron"], "%s[%d]: %v", o.at("cron"), i, err)
			continue
		}
		s.Times = append(s.Times, spec)
	}
	if every := o.duration("every", 0, time.Second); every > 0 {
		s.Times = append(s.Times, schedule.Every(every, zone))
	}
	if o.fields["cron"] == nil && o.fields["every"] == nil {
		l.wrong(o.node, "%s is missing, such as cron: \"15 2 * * *\", or every: 5m", o.at("cron"))
	}
	s.WhileRunning = plan.WhileRunning(o.choice("while_running", []string{"drop", "wait", "parallel"}, 0))
	s.CatchUp = o.choice("missed", []string{"skip", "once"}, 0) == 1
}

// clock reads a schedule's feed: which time it is on the drill's own clock, and
// how fast that goes.
func (l *loader) clock(d *plan.Drill, f *plan.Feed, o *object) {
	const form = `{from: "2026-03-28 22:00", for: 10h, speed: 600}`
	for _, key := range []string{"arrive", "retained"} {
		if k := o.keys[key]; k != nil {
			l.wrong(k, "%s: a schedule's runs come from its clock: %s", o.at(key), form)
		}
	}
	if o.fields["clock"] == nil {
		l.wrong(o.node, "%s is missing, such as clock: %s", o.at("clock"), form)
		return
	}
	src := &l.p.Sources[f.Source]
	zone := time.UTC
	if len(src.Times) > 0 {
		zone = src.Times[0].Zone
	}
	c := o.child("clock", "from", "for", "speed", "in")
	k := &plan.Clock{For: c.duration("for", time.Hour, time.Second), Speed: 1}
	text := c.need("from", `"2026-03-28 22:00"`)
	var err error
	for _, layout := range []string{"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", time.DateOnly,
		time.RFC3339} {
		if k.From, err = time.ParseInLocation(layout, text, zone); err == nil {
			break
		}
	}
	if err != nil && text != "" {
		l.wrong(c.fields["from"], "%s: %q is not a time, such as 2026-03-28 22:00 (in the zone of %s, %s)",
			c.at("from"), text, src.Name, zone)
	}
	if c.fields["for"] == nil {
		l.wrong(c.node, "%s is missing: how long on that clock, such as for: 10h", c.at("for"))
	}
	if s := c.text("speed", ""); s != "" {
		if k.Speed, err = strconv.ParseFloat(s, 64); err != nil || k.Speed < 0.001 || k.Speed > 1e6 {
			l.wrong(c.fields["speed"], "%s: %q must be a factor from 0.001 to 1000000; 600 is ten minutes in a second",
				c.at("speed"), s)
			k.Speed = 1
		}
	}
	if in := c.duration("in", 0, time.Millisecond); in > 0 {
		if c.fields["speed"] != nil {
			l.wrong(c.fields["in"], "%s and speed mean the same; remove one of them", c.at("in"))
		}
		k.Speed = k.For.Seconds() / in.Seconds()
	}
	f.Clock = k
	if events, _, _ := plan.TimesOf(src, k, nil); len(events) == plan.MostTimes {
		l.wrong(c.fields["for"], "%s: %s falls due more than %d times in %v; the limit in one drill is %d", c.at("for"),
			src.Name, plan.MostTimes-1, k.For, plan.MostTimes-1)
	}
	if f.Set >= 0 && len(l.p.Sets[f.Set].Payloads) > 0 && l.p.Sets[f.Set].Payloads[0].Request != nil {
		l.wrong(o.fields["payloads"], "%s: %s contains HTTP requests, but %s is a source of kind schedule",
			o.at("payloads"), l.p.Sets[f.Set].Name, src.Name)
		return
	}
	d.Feeds = append(d.Feeds, *f)
}

// faults reads which events of a feed are delivered wrongly.
func (l *loader) faults(o *object) (r fault.Rules) {
	c := o.child("faults", "duplicate", "delay", "reorder", "redeliver", "drop_ack")
	if c == nil {
		return r
	}
	r.Duplicate, r.DropAck = l.share(c, "duplicate"), l.share(c, "drop_ack")
	part := func(key, timeKey string) (fault.Share, time.Duration) {
		p := c.child(key, "share", timeKey)
		if p == nil {
			return 0, 0
		}
		for _, need := range []string{"share", timeKey} {
			if p.fields[need] == nil {
				l.wrong(c.fields[key], "%s is missing, such as %s: {share: 5%%, %s: 500ms}", p.at(need), key, timeKey)
			}
		}
		return l.share(p, "share"), p.duration(timeKey, 0, 0)
	}
	r.Delay, r.DelayBy = part("delay", "by")
	r.Reorder, r.Within = part("reorder", "within")
	r.Redeliver, r.RedeliverBy = part("redeliver", "after")
	return r
}

// share reads a share such as 5% or 0.25%.
func (l *loader) share(o *object, key string) fault.Share {
	if o.fields[key] == nil {
		return 0
	}
	share, err := plan.ParseShare(o.text(key, ""))
	if err != nil {
		l.wrong(o.fields[key], "%s: %v", o.at(key), err)
	}
	return share
}

func (l *loader) wire(s *plan.Source, n ast.Node, path string) {
	o := l.object(n, path, "to", "shares", "when")
	var parts []plan.Wire
	if o.fields["shares"] != nil {
		if n := o.keys["to"]; n != nil {
			l.wrong(n, "%s: a wire has either to, one function, or shares, several", o.at("to"))
		}
		if parts = l.shares(o); parts == nil {
			return
		}
	} else {
		name := o.need("to", "quote")
		if name == "" {
			return
		}
		to := l.p.FunctionNamed(name)
		if to < 0 {
			hint := didYouMean(name, l.functionNames())
			if l.variantNamed(name) != nil {
				hint = fmt.Sprintf("; a variant is reached with a share: shares: {%s: 100}", name)
			}
			l.wrong(o.fields["to"], "%s: unknown function %q%s", o.at("to"), name, hint)
			return
		}
		parts = []plan.Wire{{To: to}}
	}
	if o.fields["when"] != nil {
		l.when(&parts[0].When, s, o)
	}
	for i := range parts {
		parts[i].When = parts[0].When
		s.Wires, l.wires[s.Name] = append(s.Wires, parts[i]), append(l.wires[s.Name], n)
	}
}

// shares reads how a wire divides what it takes; nil where that is wrong. A variant that has a share is a function
// of its own from then on.
func (l *loader) shares(wire *object) (parts []plan.Wire) {
	values, ok := l.follow(wire.fields["shares"]).(*ast.MappingNode)
	if !ok {
		l.wrong(wire.fields["shares"], "%s: expected percents by function and variant, such as {quote: 90, "+
			"quote@small: 10}", wire.at("shares"))
		return nil
	}
	sum, known := 0, true
	for _, v := range values.Values {
		name := v.Key.GetToken().Value
		written, ok := l.text(v.Value, join(wire.at("shares"), name))
		share, err := strconv.Atoi(written)
		if !ok || err != nil || share < 1 || share > 100 {
			l.wrong(v.Value, "%s: a share is a whole number of percents from 1 to 100, not %q",
				join(wire.at("shares"), name), written)
			known = false
		}
		to := l.p.FunctionNamed(name)
		if v := l.variantNamed(name); to < 0 && v != nil {
			to = len(l.p.Functions)
			l.p.Functions = append(l.p.Functions, *v)
			l.closing = append(l.closing, func() { // when it is known what its function's are
				l.p.Functions[to].Then = l.p.Functions[l.p.FunctionNamed(plan.BaseName(name))].Then
			})
		}
		if to < 0 {
			known = false
			l.wrong(v.Key, "%s: unknown function or variant %q%s", wire.at("shares"), name,
				didYouMean(name, l.variantNames()))
			continue
		}
		sum += share
		parts = append(parts, plan.Wire{To: to, Share: share})
	}
	switch {
	case !known:
		return nil
	case sum != 100:
		l.wrong(wire.fields["shares"], "%s: the shares are percents and must add up to 100; they add up to %d",
			wire.at("shares"), sum)
		return nil
	}
	return parts
}

// variantNamed returns the variant of a name such as quote@node, or nil.
func (l *loader) variantNamed(name string) *plan.Function {
	if at := l.p.FunctionNamed(plan.BaseName(name)); at >= 0 {
		for i := range l.p.Functions[at].Variants {
			if v := &l.p.Functions[at].Variants[i]; v.Name == name {
				return v
			}
		}
	}
	return nil
}

// variantNames returns the names of all functions and of their variants.
func (l *loader) variantNames() (names []string) {
	for i := range l.p.Functions {
		names = append(names, l.p.Functions[i].Name)
		for k := range l.p.Functions[i].Variants {
			names = append(names, l.p.Functions[i].Variants[k].Name)
		}
	}
	return names
}

// conditions are those that wires of each kind of source may have.
var conditions = map[plan.Kind][]string{
	plan.HTTP:     {"method", "path", "query", "header"},
	plan.Storage:  {"bucket", "key", "action", "attributes"},
	plan.Queue:    {"attributes"},
	plan.Stream:   {"attributes"},
	plan.Schedule: {"attributes"},
}

func (l *loader) when(w *route.When, s *plan.Source, wire *object) {
	o := wire.child("when", "method", "path", "query", "header", "bucket", "key", "action", "attributes")
	for _, key := range o.order {
		if !slices.Contains(conditions[s.Kind], key) {
			l.wrong(o.keys[key], "%s: wires of a source of kind %s have conditions on %s", o.at(key), s.Kind,
				listed(conditions[s.Kind]))
			return
		}
	}
	w.Method = o.text("method", "")
	if w.Method != strings.ToUpper(w.Method) {
		l.wrong(o.fields["method"], "%s: methods must be in capitals: %s", o.at("method"), strings.ToUpper(w.Method))
	}
	if o.fields["path"] != nil {
		var err error
		if w.Path, err = route.Parse(o.text("path", "")); err != nil {
			l.wrong(o.fields["path"], "%s: %v", o.at("path"), err)
		}
	}
	w.Query, w.Header, w.Attributes = l.pairs(o, "query"), l.pairs(o, "header"), l.pairs(o, "attributes")
	if w.Bucket = o.text("bucket", ""); w.Bucket != "" && w.Bucket != s.Bucket {
		l.wrong(o.fields["bucket"], "%s is %s, but %s has the bucket %s: the wire could never take anything",
			o.at("bucket"), w.Bucket, s.Name, s.Bucket)
	}
	if w.Key = o.text("key", ""); !doublestar.ValidatePattern(w.Key) {
		l.wrong(o.fields["key"], "%s: %q is not a pattern, such as manifests/*.csv or **/*.csv", o.at("key"), w.Key)
	}
	for _, a := range l.texts(o, "action") {
		if !slices.Contains(event.Actions, a) {
			l.wrong(o.fields["action"], "%s: %q must be one of %s%s", o.at("action"), a, listed(event.Actions),
				didYouMean(a, event.Actions))
		}
		w.Action = append(w.Action, a)
	}
	for _, a := range w.Attributes {
		switch {
		case !doublestar.ValidatePattern(a.Value):
			l.wrong(o.fields["attributes"], "%s: %q is not a pattern, such as brackwater.*",
				join(o.at("attributes"), a.Name), a.Value)
		case a.Name == "type" && s.Kind == plan.Storage:
			fitting := slices.DeleteFunc(slices.Clone(event.Actions), func(action string) bool {
				ok, _ := doublestar.Match(a.Value, event.ObjectType+action)
				return !ok || w.Action != nil && !slices.Contains(w.Action, action)
			})
			if len(fitting) == 0 {
				l.wrong(o.fields["attributes"], "%s: no event of a storage source has the type %q%s: the wire could "+
					"never take anything", join(o.at("attributes"), a.Name), a.Value, andAction(w.Action))
			}
		}
	}
}

func andAction(actions []string) string {
	if actions == nil {
		return ""
	}
	return " and the action " + strings.Join(actions, " or ")
}

// pairs reads a mapping of the user's own names to texts.
func (l *loader) pairs(o *object, key string) (out []event.Field) {
	n, ok := o.fields[key]
	if !ok {
		return nil
	}
	values := mapping(l.follow(n))
	if values == nil {
		l.wrong(n, "%s is %s; expected a mapping of names to values, * for any", o.at(key), describe(l.follow(n)))
		return nil
	}
	for _, v := range values {
		name := v.Key.GetToken().Value
		if s, ok := l.text(v.Value, join(o.at(key), name)); ok {
			out = append(out, event.Field{Name: name, Value: s})
		}
	}
	return out
}

// shadows finds wires of HTTP sources that can never take a request, since an
// earlier one takes all that they would.
func (l *loader) shadows(all *object) {
	type place struct {
		source, wire int
	}
	var earlier []place
	for s := range l.p.Sources {
		src := &l.p.Sources[s]
		if src.Kind != plan.HTTP {
			continue
		}
		wires := l.wires[src.Name]
		for w := range src.Wires {
			for _, e := range earlier {
				before := &l.p.Sources[e.source]
				if w >= len(wires) || e.source == s && wires[w] == wires[e.wire] ||
					!before.Wires[e.wire].When.Covers(&src.Wires[w].When) {
					continue
				}
				m := l.mistake(wires[w], "sources.%s.wires[%d]: no event ever reaches %s here: sources.%s.wires[%d], "+
					"%s, comes before it and takes everything",
					src.Name, inFile(wires, w), src.Wires[w].When.String(), before.Name,
					inFile(l.wires[before.Name], e.wire), before.Wires[e.wire].When.String())
				if e.source == s {
					l.mistakes = append(l.mistakes, m)
				} else {
					m.Text += " (at the front; a drill sends to each source by itself)"
					l.doubts = append(l.doubts, m)
				}
				break
			}
			earlier = append(earlier, place{s, w})
		}
	}
}

// inFile returns the place of a wire among those of the file, of which one may be several here.
func inFile(wires []ast.Node, at int) (n int) {
	for i := 1; i <= at; i++ {
		if wires[i] != wires[i-1] {
			n++
		}
	}
	return n
}

// thens reads where a function's replies are sent on to.
func (l *loader) thens(f *plan.Function, fn *object) {
	for i, n := range fn.list("then") {
		if t, ok := l.then(f, n, fmt.Sprintf("%s[%d]", fn.at("then"), i)); ok {
			f.Then = append(f.Then, t)
		}
	}
	for v := range f.Variants {
		f.Variants[v].Then = f.Then
	}
}

func (l *loader) then(f *plan.Function, n ast.Node, path string) (t plan.Then, ok bool) {
	o := l.object(n, path, "to", "when", "type", "shape", "request", "key")
	name := o.need("to", "scans")
	if name == "" {
		return t, false
	}
	if t.To = l.p.SourceNamed(name); t.To < 0 {
		l.wrong(o.fields["to"], "%s: unknown source %q%s", o.at("to"), name, didYouMean(name, l.sourceNames()))
		return t, false
	}
	to := &l.p.Sources[t.To]
	t.Type = o.text("type", f.Name+".replied")
	if to.Kind == plan.Schedule {
		l.wrong(o.fields["to"], "%s: %s is a schedule, which makes its own events", o.at("to"), name)
		return t, false
	}
	for key, kind := range map[string]plan.Kind{"request": plan.HTTP, "key": plan.Storage} {
		if k := o.keys[key]; k != nil && to.Kind != kind {
			l.wrong(k, "%s is for a source of kind %s; %s is of kind %s", o.at(key), kind, name, to.Kind)
		}
	}
	if w := o.child("when", "status", "header", "values"); w != nil {
		t.Status, t.Header = l.statuses(w), l.pairs(w, "header")
		if values := w.fields["values"]; values != nil {
			t.Values = l.values(values, w.at("values"))
		}
	}
	if t.Status == nil {
		t.Status = []plan.StatusRange{{From: 200, To: 299}}
	}
	t.Shape = l.template(o)
	t.Method, t.Path = "POST", "/"
	if r := o.child("request", "method", "path"); r != nil {
		t.Method, t.Path = r.text("method", "POST"), r.text("path", "/")
		if t.Method != strings.ToUpper(t.Method) || !strings.HasPrefix(t.Path, "/") {
			l.wrong(o.fields["request"], "%s: expected a method in capitals and a path that begins with /, such as "+
				"{method: POST, path: /quote}", o.at("request"))
		}
	}
	if to.Kind == plan.Storage {
		text := o.text("key", f.Name+"/{{.ID}}.json")
		var err error
		if t.Objects, err = template.Parse(o.at("key"), text, "text/plain"); err != nil {
			l.wrong(o.fields["key"], "%s: %v", o.at("key"), err)
		}
	}
	return t, true
}

// statuses reads statuses: 200, 2xx, or a list of them.
func (l *loader) statuses(o *object) (out []plan.StatusRange) {
	for _, s := range l.texts(o, "status") {
		n, err := strconv.Atoi(strings.Replace(s, "xx", "00", 1))
		if err != nil || n < 100 || n > 599 || len(s) != 3 {
			l.wrong(o.fields["status"], "%s: %q is not an HTTP status, such as 200 or 2xx", o.at("status"), s)
			continue
		}
		r := plan.StatusRange{From: n, To: n}
		if strings.HasSuffix(s, "xx") {
			r.To = n + 99
		}
		out = append(out, r)
	}
	return out
}

// loops finds chains that come back to where they began with no condition on
// the way that could end them.
func (l *loader) loops(functions *object) {
	onward := func(fn int) (fns []int) {
		for _, t := range l.p.Functions[fn].Then {
			if len(t.Header)+len(t.Values) > 0 || !slices.Equal(t.Status, []plan.StatusRange{{From: 200, To: 299}}) {
				continue // it may end there
			}
			fns = append(fns, surely(&l.p.Sources[t.To], &t)...)
		}
		return fns
	}
	const unseen, open, closed = 0, 1, 2
	state := make([]int, len(l.p.Functions))
	var way []string
	var visit func(fn int) bool
	visit = func(fn int) bool {
		state[fn] = open
		way = append(way, l.p.Functions[fn].Name)
		for _, next := range onward(fn) {
			if state[next] == open {
				way = append(way, l.p.Functions[next].Name)
				return true
			}
			if state[next] == unseen && visit(next) {
				return true
			}
		}
		way = way[:len(way)-1]
		state[fn] = closed
		return false
	}
	for fn := range l.p.Functions {
		if state[fn] == unseen && visit(fn) {
			way = way[slices.Index(way, way[len(way)-1]):]
			l.wrong(functions.keys[way[0]], "functions.%s.then: replies go round in an endless circle: %s; a "+
				"condition (when) on one of these steps ends it", way[0], strings.Join(way, " → "))
			return
		}
	}
}

// surely returns the functions of a source that take whatever a reply becomes there, as
// far as that is known before anything is sent: a request's method and path, and an
// event's type.
func surely(src *plan.Source, t *plan.Then) (fns []int) {
	for w := range src.Wires {
		when := &src.Wires[w].When
		switch {
		case src.Kind == plan.HTTP:
			known := *when
			known.Header = nil
			switch takes := known.Matches(&event.Request{Method: t.Method, Target: t.Path}); {
			case takes && len(when.Header) > 0:
				return nil // it may go there, or further down
			case takes:
				return []int{src.Wires[w].To}
			}
		case when.Any():
			fns = append(fns, src.Wires[w].To)
		case src.Kind != plan.Storage && !slices.ContainsFunc(when.Attributes,
			func(a event.Field) bool { return a.Name != "type" }):
			if when.MatchesEvent(&event.Event{Type: t.Type}) {
				fns = append(fns, src.Wires[w].To)
			}
		}
	}
	return fns
}

// template reads a template of what is made of an event; nil where there is none.
func (l *loader) template(o *object) *template.Shape {
	c := o.child("shape", "template", "content_type")
	if c == nil {
		return nil
	}
	text := c.need("template", "templates/event.tmpl")
	name := c.at("template")
	if text != "" && !strings.Contains(text, "{{") {
		path := c.within("template", l.dir)
		if path == "" {
			return nil
		}
		l.files = append(l.files, path)
		content, err := ReadFile(path, mostSchema)
		if err != nil {
			l.wrong(c.fields["template"], "%s: %s cannot be read: %v%s", name, text, Cause(err), suggestFile(path))
			return nil
		}
		name, text = text, string(content)
	}
	s, err := template.Parse(name, text, c.text("content_type", ""))
	if err != nil {
		l.wrong(c.fields["template"], "%s: %v", c.at("template"), err)
	}
	return s
}

// StateDir is the folder of a project in which the program keeps what is its own.
const StateDir = ".nightdrill"

// holdsState reports whether a folder holds the project file, or the program's own folder,
// by whatever links.
func holdsState(folder, dir string) bool {
	real := func(path string) string {
		if resolved, err := filepath.EvalSymlinks(path); err == nil {
			return resolved
		}
		return filepath.Clean(path)
	}
	holds := func(outer, inner string) bool {
		rel, err := filepath.Rel(outer, inner)
		return err == nil && filepath.IsLocal(rel)
	}
	folder, dir = real(folder), real(dir)
	state := filepath.Join(dir, StateDir)
	return holds(folder, filepath.Join(dir, File)) || holds(folder, state) || holds(real(state), folder)
}
