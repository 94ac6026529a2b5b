package upstream

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/suggest"
)

// Entry is a recorded reply.
type Entry struct {
	Reply         *payload.Reply // nil where the connection failed
	Failed        string         // how it failed
	Of            string         // the event for which the function made the call; "" if unknown
	Wait, Receive time.Duration
	key           Key
}

// Library holds the recorded replies of an upstream. It does not change, and is safe for several goroutines.
type Library struct {
	ignoring *Ignoring
	entries  []Entry
	exact    map[string]*group // by their keys
	blank    map[string]*group // by keys in which stand-ins of secrets are all alike
	redact   func(*event.Request) *event.Request
}

// group is the entries of one key: their places, in recorded order.
type group struct {
	all []int32
	of  map[string][]int32 // by the event for which the call was made
}

func add(to map[string]*group, key, of string, n int32) {
	g := to[key]
	if g == nil {
		g = &group{of: map[string][]int32{}}
		to[key] = g
	}
	g.all = append(g.all, n)
	if of != "" {
		g.of[of] = append(g.of[of], n)
	}
}

// NewLibrary returns the library of a recording. ignore is what is left out of keys, and redact replaces the secrets
// of a request with their stand-ins, as was done when it was recorded; nil for nothing.
func NewLibrary(recorded []payload.Payload, ignore []string, redact func(*event.Request) *event.Request) *Library {
	l := &Library{ignoring: Ignore(ignore), exact: map[string]*group{}, blank: map[string]*group{}, redact: redact}
	// they were written in the order in which they ended
	recorded = slices.Clone(recorded)
	slices.SortStableFunc(recorded, func(a, b payload.Payload) int { return a.Time.Compare(b.Time) })
	for i := range recorded {
		p := &recorded[i]
		if p.Request == nil || p.Reply == nil && (p.Call == nil || p.Call.Failed == "") {
			continue
		}
		e := Entry{Reply: p.Reply, key: l.ignoring.KeyOf(p.Request)}
		if c := p.Call; c != nil {
			e.Failed, e.Of, e.Wait, e.Receive = c.Failed, c.Of, c.Wait, c.Receive
		}
		n := int32(len(l.entries))
		l.entries = append(l.entries, e)
		k := e.key.text()
		add(l.exact, k, e.Of, n)
		if b := blanked(k); b != k {
			add(l.blank, b, e.Of, n)
		}
	}
	return l
}

// Len returns the number of recorded replies.
func (l *Library) Len() int { return len(l.entries) }

var standIn = regexp.MustCompile(payload.StandIn + "[0-9a-f]{16}")

// blanked returns a key whose stand-ins of secrets are all the same: those of another machine's recording, which has
// another secret to make them from.
func blanked(key string) string {
	if !strings.Contains(key, payload.StandIn) {
		return key
	}
	return standIn.ReplaceAllString(key, payload.StandIn)
}

// find returns the entries for a request; nil where there are none.
func (l *Library) find(r *event.Request) (Key, *group) {
	key := l.ignoring.KeyOf(r)
	if g := l.exact[key.text()]; g != nil || l.redact == nil {
		return key, g
	}
	key = l.ignoring.KeyOf(l.redact(r))
	k := key.text()
	if g := l.exact[k]; g != nil {
		return key, g
	}
	return key, l.blank[blanked(k)]
}

// Cursor is how far the replies of a library were used. It is for one goroutine at a time.
type Cursor struct {
	library *Library
	used    map[place]int
}

// place is what a cursor counts by: who calls, and what.
type place struct {
	caller string
	first  int32 // the first of the entries for the request
}

// NewCursor returns a cursor at the beginning of a library.
func NewCursor(l *Library) *Cursor { return &Cursor{l, map[place]int{}} }

// Next returns the reply to a request. caller names the event for which the function calls, or "" where that is not
// known. An event that is in the recording gets the replies that were recorded for it, in recorded order, and when they
// are used up the last again. All others share those for all events, in recorded order, and then from the beginning: so
// that their latencies are those that were recorded. What was used before is repeated. The entry is nil where there is
// none.
func (c *Cursor) Next(r *event.Request, caller string) (e *Entry, repeated bool) {
	_, g := c.library.find(r)
	if g == nil {
		return nil, false
	}
	own := g.of[caller]
	if own == nil {
		caller, own = "", g.all
	}
	at := place{caller, g.all[0]}
	n := c.used[at]
	c.used[at]++
	if repeated = n >= len(own); repeated && caller == "" {
		n %= len(own)
	}
	return &c.library.entries[own[min(n, len(own)-1)]], repeated
}

// Nearest describes the recorded request that is most like one that is not recorded, and how it differs.
func (l *Library) Nearest(r *event.Request) string {
	if len(l.entries) == 0 {
		return "the recording is empty"
	}
	key, _ := l.find(r)
	// at the same path, or at the one that was probably meant
	path := key.Path
	var paths []string
	for i := range l.entries {
		paths = append(paths, l.entries[i].key.Path)
	}
	if !slices.Contains(paths, path) {
		slices.Sort(paths)
		paths = slices.Compact(paths)
		if path = suggest.Word(key.Path, paths); path == "" {
			return fmt.Sprintf("nothing is recorded for the path %s; recorded: %s", payload.Short(key.Path, 100),
				payload.Short(strings.Join(paths[:min(len(paths), 5)], ", "), 300))
		}
	}
	best, least := 0, 1<<30
	for i := range l.entries {
		e := &l.entries[i].key
		distance := 10 * len(differing(e.Query, key.Query))
		switch {
		case e.Path != path:
			continue
		case e.Method != key.Method:
			distance += 300
		case e.Body != key.Body:
			distance += 100
		}
		if distance < least {
			best, least = i, distance
		}
	}
	k := &l.entries[best].key
	var how []string
	if k.Path != key.Path {
		how = append(how, "the path is "+payload.Short(key.Path, 100))
	}
	if k.Method != key.Method {
		how = append(how, "the method is "+key.Method)
	}
	for _, name := range differing(k.Query, key.Query) {
		how = append(how, fmt.Sprintf("%s is %s and was %s", name, valueOf(key.Query, name), valueOf(k.Query, name)))
	}
	if k.Body != key.Body {
		how = append(how, "the body differs")
	}
	return fmt.Sprintf("nearest: %s; %s", k.Shown(), strings.Join(how, ", "))
}

// Shown returns a key's request line, with the values of secret parameters hidden.
func (k *Key) Shown() string {
	target := k.Path
	if k.Query != "" {
		target += "?" + k.Query
	}
	return k.Method + " " + payload.Short(payload.ShownTarget(target), 160)
}

// differing returns the names of the parameters that two canonical queries do not have alike.
func differing(a, b string) (names []string) {
	of := func(q string) map[string][]string {
		v, _ := url.ParseQuery(q) // canonical ones are valid
		return v
	}
	x, y := of(a), of(b)
	for name := range x {
		if !slices.Equal(x[name], y[name]) {
			names = append(names, name)
		}
	}
	for name := range y {
		if _, both := x[name]; !both {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

func valueOf(query, name string) string {
	v, _ := url.ParseQuery(query)
	switch {
	case !v.Has(name):
		return "missing"
	case payload.SecretParameter(name):
		return payload.Hidden
	}
	return fmt.Sprintf("%q", payload.Short(v.Get(name), 60))
}
