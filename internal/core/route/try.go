package route

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"github.com/bmatcuk/doublestar/v4"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/suggest"
)

// Trial is one condition of a wire, tried on an event.
type Trial struct {
	Condition string // method, path, query x, header x, bucket, action, key, or attribute x
	Want, Got string // Got is "" where there was nothing
	Held      bool
}

// mostShown bounds what is shown of a value, in characters.
const mostShown = 120

func shown(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return '·'
		}
		return r
	}, s)
	if r := []rune(s); len(r) > mostShown {
		return string(r[:mostShown]) + "…"
	}
	return s
}

// TryRequest tries every condition on a request.
func (w *When) TryRequest(r *event.Request) (out []Trial) {
	path, query, _ := strings.Cut(r.Target, "?")
	if w.Path.text != "" {
		out = append(out, Trial{"path", w.Path.text, path, w.Path.Matches(path)})
	}
	if w.Method != "" {
		out = append(out, Trial{"method", w.Method, r.Method, w.takesMethod(r.Method)})
	}
	values, _ := url.ParseQuery(query) // what can be read of it counts
	for _, q := range w.Query {
		out = append(out, Trial{"query " + q.Name, q.Value, values.Get(q.Name), hasParameter(values, q)})
	}
	for _, h := range w.Header {
		got := ""
		for _, x := range r.Header {
			if strings.EqualFold(x.Name, h.Name) {
				got = x.Value
			}
		}
		out = append(out, Trial{"header " + strings.ToLower(h.Name), h.Value, got, hasHeader(r.Header, h)})
	}
	return out
}

// TryEvent tries every condition on an event that is not an HTTP request.
func (w *When) TryEvent(e *event.Event) (out []Trial) {
	if w.Bucket != "" || w.Action != nil || w.Key != "" {
		o, _ := event.ObjectOf(e) // of what is none, every condition fails
		if w.Bucket != "" {
			out = append(out, Trial{"bucket", w.Bucket, o.Bucket, w.Bucket == o.Bucket})
		}
		if w.Action != nil {
			out = append(out, Trial{"action", strings.Join(w.Action, " or "), o.Action,
				slices.Contains(w.Action, o.Action)})
		}
		if w.Key != "" {
			out = append(out, Trial{"key", w.Key, o.Key, o.Key != "" && fits(w.Key, o.Key)})
		}
	}
	for _, a := range w.Attributes {
		got, ok := e.Attribute(a.Name)
		out = append(out, Trial{"attribute " + a.Name, a.Value, got, ok && (a.Value == "*" || fits(a.Value, got))})
	}
	return out
}

func fits(pattern, text string) bool {
	ok, err := doublestar.Match(pattern, text)
	return err == nil && ok
}

// Words describes what a condition that failed wanted and got.
func (t Trial) Words() string {
	name, of, _ := strings.Cut(t.Condition, " ")
	got, want := shown(t.Got), shown(t.Want)
	switch name {
	case "path":
		return fmt.Sprintf("the path is %s, the wire wants %s%s", got, want, capitals(t))
	case "method":
		return fmt.Sprintf("the method is %s, the wire wants %s", got, want)
	case "query", "header":
		what := map[string]string{"query": "query parameter", "header": "header"}[name]
		switch {
		case t.Got == "":
			return fmt.Sprintf("the %s %s is missing, the wire wants %s", what, of, orAny(want))
		case name == "header" && payload.SecretHeader(of) || name == "query" && payload.SecretParameter(of):
			return fmt.Sprintf("the %s %s has a different value from the one the wire wants", what, of)
		}
		return fmt.Sprintf("the %s %s is %s, the wire wants %s%s", what, of, got, want, capitals(t))
	case "key":
		return t.key()
	}
	if name == "attribute" {
		name = "attribute " + of
	}
	if t.Got == "" {
		return fmt.Sprintf("the event has no %s, the wire wants %s", name, orAny(want))
	}
	return fmt.Sprintf("the %s is %s, the wire wants %s%s", name, got, want, capitals(t))
}

func orAny(want string) string {
	if want == "*" {
		return "any"
	}
	return want
}

func capitals(t Trial) string {
	if strings.EqualFold(t.Want, t.Got) {
		return ": they differ only in case"
	}
	return ""
}

// key describes where an object's key parts from the pattern.
func (t Trial) key() string {
	if t.Got == "" {
		return "the event has no key, the wire wants " + shown(t.Want)
	}
	wanted, ending := t.Want[:strings.LastIndexByte(t.Want, '/')+1], extension(t.Want)
	folder, has := t.Got[:strings.LastIndexByte(t.Got, '/')+1], extension(t.Got)
	switch {
	case fits(strings.ToLower(t.Want), strings.ToLower(t.Got)) && has != ending:
		return fmt.Sprintf("the key %s ends in %s, the wire wants %s: they differ only in case", shown(t.Got),
			shown(has), shown(t.Want))
	case fits(strings.ToLower(t.Want), strings.ToLower(t.Got)):
		return fmt.Sprintf("the key is %s, the wire wants %s: they differ only in case", shown(t.Got), shown(t.Want))
	case has != ending && !strings.ContainsAny(ending, "*?[{") && fits(t.Want, strings.TrimSuffix(t.Got, has)+ending):
		if has == "" {
			has = "no extension"
		}
		return fmt.Sprintf("the key %s ends in %s, the wire wants %s", shown(t.Got), shown(has), shown(t.Want))
	case wanted != "" && folder == "":
		return fmt.Sprintf("the key %s is in no folder, the wire wants %s", shown(t.Got), shown(t.Want))
	case wanted != folder:
		return fmt.Sprintf("the key %s is in the folder %s, the wire wants %s", shown(t.Got), shown(folder),
			shown(t.Want))
	}
	return fmt.Sprintf("the key is %s, the wire wants %s", shown(t.Got), shown(t.Want))
}

func extension(key string) string {
	base := key[strings.LastIndexByte(key, '/')+1:]
	if i := strings.LastIndexByte(base, '.'); i >= 0 {
		return base[i:]
	}
	return ""
}

// Nearest returns the wire that came closest to taking an event: the one of which the
// fewest conditions failed, and of those the one whose wishes look most like what it got.
// A wire that fails by its method alone is nearer than one that fails by its path, unless
// its path takes anything. trials has the conditions of each wire; there is at least one.
func Nearest(trials [][]Trial) (wire int) {
	best, least := 0, 1<<30
	for i, wire := range trials {
		cost := 0
		anywhere := slices.ContainsFunc(wire, func(t Trial) bool {
			return t.Condition == "path" &&
				strings.HasPrefix(t.Want, "/{")
		}) ||
			!slices.ContainsFunc(wire, func(t Trial) bool { return t.Condition == "path" })
		for _, t := range wire {
			switch {
			case t.Held:
			case t.Condition != "method":
				want, got := shown(strings.ToLower(t.Want)), shown(strings.ToLower(t.Got))
				cost += 100 + 100*suggest.Distance(want, got)/max(len(want), len(got), 1)
			case anywhere:
				cost += 170
			default:
				cost += 50
			}
		}
		if cost < least {
			best, least = i, cost
		}
	}
	return best
}
