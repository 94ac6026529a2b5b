// Package jsondiff compares two replies: by JSON Pointer where both are JSON, else line by line.
// Between returns the differences, Lookup the value at a pointer.
package jsondiff

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// Difference is one place in which two replies differ.
type Difference struct {
	At      string // a JSON Pointer (RFC 6901), "" for the root; for text "line n"
	Was, Is string // as JSON, or as text; "" where it is missing
}

// Most is how many differences are listed; the last one sums up the rest.
const Most = 200

// Between returns the differences from one body to the next. Places at or below the pointers in
// leaveOut are ignored; in them * stands for any one member.
func Between(was, is []byte, leaveOut []string) []Difference {
	if bytes.Equal(was, is) {
		return nil
	}
	a, errA := Decode(was)
	b, errB := Decode(is)
	c := comparison{out: patterns(leaveOut)}
	if errA == nil && errB == nil {
		c.values(nil, a, b)
	} else {
		c.lines(string(was), string(is))
	}
	if n := len(c.found); n > Most {
		c.found = append(c.found[:Most], Difference{At: fmt.Sprintf("%d more", n-Most)})
	}
	return c.found
}

// Decode decodes one JSON value, keeping numbers as they are written.
func Decode(text []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, fmt.Errorf("unexpected data after the value at byte %d", d.InputOffset())
	}
	return v, nil
}

type comparison struct {
	out   [][]string
	found []Difference
}

func (c *comparison) values(at []string, was, is any) {
	if len(c.found) > 10*Most || slices.ContainsFunc(c.out, func(p []string) bool { return Covers(p, at) }) {
		return
	}
	switch a := was.(type) {
	case map[string]any:
		b, ok := is.(map[string]any)
		if !ok {
			break
		}
		names := maps.Clone(a)
		maps.Copy(names, b)
		for _, name := range slices.Sorted(maps.Keys(names)) {
			x, had := a[name]
			y, has := b[name]
			c.member(append(slices.Clip(at), name), x, y, had, has)
		}
		return
	case []any:
		b, ok := is.([]any)
		if !ok {
			break
		}
		c.list(at, a, b)
		return
	}
	if !Equal(was, is) {
		c.found = append(c.found, Difference{Pointer(at), write(was), write(is)})
	}
}

func (c *comparison) member(at []string, was, is any, had, has bool) {
	switch {
	case had && has:
		c.values(at, was, is)
	case slices.ContainsFunc(c.out, func(p []string) bool { return Covers(p, at) }):
	case had:
		c.found = append(c.found, Difference{At: Pointer(at), Was: write(was)})
	default:
		c.found = append(c.found, Difference{At: Pointer(at), Is: write(is)})
	}
}

// list compares two lists after aligning the members that are the same: one that was added at the
// front is one difference, not as many as there are members. Members are named by their places
// in the new list, those that are missing there by their places in the old one.
func (c *comparison) list(at []string, was, is []any) {
	place := func(i int) []string { return append(slices.Clip(at), strconv.Itoa(i)) }
	for _, e := range align(encoded(was), encoded(is)) {
		for i := range max(e.was, e.is) {
			switch {
			case i < e.was && i < e.is:
				c.member(place(e.to+i), was[e.from+i], is[e.to+i], true, true)
			case i < e.was:
				c.member(place(e.from+i), was[e.from+i], nil, true, false)
			default:
				c.member(place(e.to+i), nil, is[e.to+i], false, true)
			}
		}
	}
}

// encoded returns the members as JSON, one a line.
func encoded(list []any) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = strings.ReplaceAll(write(v), "\n", " ")
	}
	return out
}

// stretch is a part in which two lists differ: members from one place on in the old one, and from
// another on in the new one.
type stretch struct{ from, was, to, is int }

// align returns the stretches between the members that the lists have in common, in their order
// (by a longest common subsequence).
func align(was, is []string) (out []stretch) {
	if len(was) == 0 || len(is) == 0 {
		return []stretch{{0, len(was), 0, len(is)}}
	}
	text := strings.Join(was, "\n") + "\n"
	from, shift, done := 0, 0, 0 // line of the old text, how far the new one is ahead, bytes of text so far
	for _, e := range udiff.Lines(text, strings.Join(is, "\n")+"\n") {
		from += strings.Count(text[done:e.Start], "\n")
		s := stretch{from, strings.Count(text[e.Start:e.End], "\n"), from + shift, strings.Count(e.New, "\n")}
		out = append(out, s)
		from, shift, done = from+s.was, shift+s.is-s.was, e.End
	}
	return out
}

// lines compares texts line by line.
func (c *comparison) lines(was, is string) {
	a, b := strings.Split(was, "\n"), strings.Split(is, "\n")
	for _, e := range align(a, b) {
		for i := range max(e.was, e.is) {
			d := Difference{At: fmt.Sprintf("line %d", e.to+i+1)}
			if i < e.was {
				d.Was = a[e.from+i]
			}
			if i < e.is {
				d.Is = b[e.to+i]
			} else {
				d.At = fmt.Sprintf("line %d", e.from+i+1)
			}
			c.found = append(c.found, d)
		}
	}
}

// Equal reports whether two values are the same; numbers that are written differently are compared
// by value (1 and 1.0).
func Equal(a, b any) bool {
	x, ok1 := a.(json.Number)
	y, ok2 := b.(json.Number)
	if ok1 && ok2 && x != y {
		f, err1 := x.Float64()
		g, err2 := y.Float64()
		return err1 == nil && err2 == nil && f == g && len(x) < 16 && len(y) < 16
	}
	if xs, ok := a.([]any); ok {
		ys, ok := b.([]any)
		return ok && slices.EqualFunc(xs, ys, Equal)
	}
	if xs, ok := a.(map[string]any); ok {
		ys, ok := b.(map[string]any)
		return ok && maps.EqualFunc(xs, ys, Equal)
	}
	return reflect.DeepEqual(a, b)
}

func write(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(v) // decoded values always encode
	return strings.TrimSuffix(b.String(), "\n")
}

// Pointer formats a JSON Pointer (RFC 6901 §3).
func Pointer(at []string) string {
	var b strings.Builder
	for _, name := range at {
		b.WriteByte('/')
		b.WriteString(Escape(name))
	}
	return b.String()
}

// Escape escapes a member name for a JSON Pointer (RFC 6901 §3).
func Escape(name string) string {
	if !strings.ContainsAny(name, "~/") {
		return name
	}
	return escaper.Replace(name)
}

var (
	escaper   = strings.NewReplacer("~", "~0", "/", "~1")
	unescaper = strings.NewReplacer("~1", "/", "~0", "~")
)

// Parse parses a JSON Pointer (RFC 6901 §4).
func Parse(pointer string) ([]string, error) {
	if pointer == "" {
		return nil, nil
	}
	if pointer[0] != '/' {
		return nil, fmt.Errorf("%q is not a JSON Pointer: it must begin with /", pointer)
	}
	parts := strings.Split(pointer[1:], "/")
	for i, p := range parts {
		for j := range p {
			if p[j] == '~' && (j+1 == len(p) || p[j+1] != '0' && p[j+1] != '1') {
				return nil, fmt.Errorf("%q is not a JSON Pointer: ~ must be written as ~0, and / within a name as ~1",
					pointer)
			}
		}
		parts[i] = unescaper.Replace(p)
	}
	return parts, nil
}

func patterns(pointers []string) (out [][]string) {
	for _, p := range pointers {
		if parts, err := Parse(p); err == nil {
			out = append(out, parts)
		}
	}
	return out
}

// Covers reports whether a place is at or below a pattern.
func Covers(pattern, at []string) bool {
	if len(pattern) > len(at) {
		return false
	}
	for i, p := range pattern {
		if p != "*" && p != at[i] {
			return false
		}
	}
	return true
}

// Lookup returns the value at a JSON Pointer; ok is false when there is none.
func Lookup(v any, pointer string) (any, bool) {
	parts, err := Parse(pointer)
	if err != nil {
		return nil, false
	}
	for _, name := range parts {
		switch x := v.(type) {
		case map[string]any:
			var ok bool
			if v, ok = x[name]; !ok {
				return nil, false
			}
		case []any:
			i, err := strconv.Atoi(name)
			if err != nil || i < 0 || i >= len(x) || name != strconv.Itoa(i) {
				return nil, false
			}
			v = x[i]
		default:
			return nil, false
		}
	}
	return v, true
}
