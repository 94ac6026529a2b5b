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
		for i := range max(len(a), len(b)) {
			var x, y any
			if i < len(a) {
				x = a[i]
			}
			if i < len(b) {
				y = b[i]
			}
			c.member(append(slices.Clip(at), strconv.Itoa(i)), x, y, i < len(a), i < len(b))
		}
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

// lines compares texts after cutting off what they begin and end with alike.
func (c *comparison) lines(was, is string) {
	a, b := strings.Split(was, "\n"), strings.Split(is, "\n")
	from := 0
	for from < len(a) && from < len(b) && a[from] == b[from] {
		from++
	}
	for len(a) > from && len(b) > from && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	for i := from; i < max(len(a), len(b)); i++ {
		d := Difference{At: fmt.Sprintf("line %d", i+1)}
		if i < len(a) {
			d.Was = a[i]
		}
		if i < len(b) {
			d.Is = b[i]
		}
		if d.Was != d.Is || i >= len(a) || i >= len(b) {
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
