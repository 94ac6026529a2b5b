// Package upstream decides what a stand-in for a service answers. A [Key] tells which requests are the same; a
// [Library] holds the recorded replies by their keys, and a [Cursor] of it returns them in recorded order; a [Draw]
// is the latency and the fault of one call. All of it is without I/O: package live/upstream listens and answers.
package upstream

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
)

// Key is what makes two requests to an upstream the same: method, path, the query and the body in a canonical form.
type Key struct {
	Method, Path, Query, Body string
}

// text is the key in one piece, for maps.
func (k *Key) text() string { return k.Method + " " + k.Path + "?" + k.Query + "\n" + k.Body }

// Ignoring is what is left out of keys: names of parameters of queries and forms, and JSON Pointers into bodies.
type Ignoring struct {
	names    map[string]bool
	pointers [][]string
}

// Ignore reads what is left out: what begins with / is a JSON Pointer (RFC 6901), with * for any member, anything
// else a parameter's name. The pointers are valid.
func Ignore(all []string) *Ignoring {
	x := &Ignoring{names: map[string]bool{}}
	for _, s := range all {
		if !strings.HasPrefix(s, "/") {
			x.names[s] = true
			continue
		}
		if at, err := jsondiff.Parse(s); err == nil {
			x.pointers = append(x.pointers, at)
		}
	}
	return x
}

// longBody is the length from which a body is known by its SHA-256 digest.
const longBody = 1 << 10

// KeyOf returns the key of a request.
func (x *Ignoring) KeyOf(r *event.Request) Key {
	path, query, _ := strings.Cut(r.Target, "?")
	k := Key{Method: r.Method, Path: path, Query: x.pairs(query)}
	kind, _, _ := strings.Cut(strings.ToLower(r.HeaderValue("Content-Type")), ";")
	body := bytes.TrimSpace(r.Body)
	switch {
	case len(body) == 0:
	case strings.TrimSpace(kind) == "application/x-www-form-urlencoded":
		k.Body = x.pairs(string(body))
	case event.IsJSON(kind) || body[0] == '{' || body[0] == '[':
		if text, ok := x.canonical(body); ok {
			k.Body = text
			break
		}
		fallthrough
	default:
		k.Body = string(r.Body)
	}
	if len(k.Body) > longBody {
		sum := sha256.Sum256([]byte(k.Body))
		k.Body = "sha256:" + hex.EncodeToString(sum[:])
	}
	return k
}

// pairs returns the parameters of a query or a form in the order of their names; those of one name stay in theirs.
func (x *Ignoring) pairs(text string) string {
	if text == "" {
		return ""
	}
	type pair struct{ name, value string }
	var all []pair
	for part := range strings.SplitSeq(text, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		if plain, err := url.QueryUnescape(name); err == nil {
			name = plain
		}
		if plain, err := url.QueryUnescape(value); err == nil {
			value = plain
		}
		if !x.names[name] {
			all = append(all, pair{name, value})
		}
	}
	slices.SortStableFunc(all, func(a, b pair) int { return strings.Compare(a.name, b.name) })
	var b strings.Builder
	for i, p := range all {
		if i > 0 {
			b.WriteByte('&')
		}
		b.WriteString(url.QueryEscape(p.name))
		b.WriteByte('=')
		b.WriteString(url.QueryEscape(p.value))
	}
	return b.String()
}

// canonical returns a JSON text with sorted members, without space, and with numbers in one form; ok is false for
// what is not JSON.
func (x *Ignoring) canonical(text []byte) (out string, ok bool) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var v any
	if d.Decode(&v) != nil {
		return "", false
	}
	if _, err := d.Token(); err != io.EOF {
		return "", false
	}
	var b strings.Builder
	x.write(&b, nil, v)
	return b.String(), true
}

func (x *Ignoring) ignores(at []string) bool {
	return slices.ContainsFunc(x.pointers, func(p []string) bool { return len(p) == len(at) && jsondiff.Covers(p, at) })
}

func (x *Ignoring) write(b *strings.Builder, at []string, v any) {
	switch v := v.(type) {
	case map[string]any:
		names := make([]string, 0, len(v))
		for name := range v {
			names = append(names, name)
		}
		slices.Sort(names)
		b.WriteByte('{')
		first := true
		for _, name := range names {
			below := append(at[:len(at):len(at)], name)
			if x.ignores(below) {
				continue
			}
			if !first {
				b.WriteByte(',')
			}
			first = false
			b.WriteString(strconv.Quote(name))
			b.WriteByte(':')
			x.write(b, below, v[name])
		}
		b.WriteByte('}')
	case []any:
		b.WriteByte('[')
		for i, e := range v {
			if i > 0 {
				b.WriteByte(',')
			}
			below := append(at[:len(at):len(at)], strconv.Itoa(i))
			if x.ignores(below) {
				b.WriteByte('_') // the places of the others stay
				continue
			}
			x.write(b, below, e)
		}
		b.WriteByte(']')
	case json.Number:
		b.WriteString(canonicalNumber(v.String()))
	case string:
		b.WriteString(strconv.Quote(v))
	case bool:
		b.WriteString(strconv.FormatBool(v))
	default:
		b.WriteString("null")
	}
}

// canonicalNumber returns a number of JSON in one form for each value: 1, 1.0 and 10e-1 are the same. It is exact.
func canonicalNumber(s string) string {
	sign := ""
	if strings.HasPrefix(s, "-") {
		sign, s = "-", s[1:]
	}
	mantissa, power, _ := strings.Cut(strings.ToLower(s), "e")
	exponent := 0
	if power != "" {
		n, err := strconv.Atoi(power)
		if err != nil || n > 1e6 || n < -1e6 {
			return sign + s // as it is written
		}
		exponent = n
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := strings.TrimLeft(whole+fraction, "0")
	exponent -= len(fraction)
	short := strings.TrimRight(digits, "0")
	exponent += len(digits) - len(short)
	if short == "" {
		return "0"
	}
	if exponent == 0 {
		return sign + short
	}
	return sign + short + "e" + strconv.Itoa(exponent)
}
