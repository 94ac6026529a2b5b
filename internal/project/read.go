package project

import (
	"fmt"
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/suggest"
)

// Mistake is one thing that is wrong in a project file or in a file that it names.
type Mistake struct {
	File         string // as the user would name it
	Line, Column int    // from 1; 0 when unknown
	Text         string
}

func (m Mistake) Error() string {
	switch {
	case m.Line == 0:
		return m.File + ": " + m.Text
	case m.Column == 0:
		return fmt.Sprintf("%s:%d: %s", m.File, m.Line, m.Text)
	}
	return fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.Text)
}

// Mistakes are all that was found; as an error it is one line for each.
type Mistakes []Mistake

func (m Mistakes) Error() string {
	lines := make([]string, len(m))
	for i := range m {
		lines[i] = m[i].Error()
	}
	return strings.Join(lines, "\n")
}

// reader walks the syntax tree and collects every mistake with its place.
type reader struct {
	file     string
	mistakes Mistakes
	anchors  map[string]ast.Node
}

func (r *reader) wrong(n ast.Node, format string, args ...any) {
	r.mistakes = append(r.mistakes, r.mistake(n, format, args...))
}

func (r *reader) mistake(n ast.Node, format string, args ...any) Mistake {
	m := Mistake{File: r.file, Text: fmt.Sprintf(format, args...)}
	if t := place(n); t != nil && t.Position != nil {
		m.Line, m.Column = t.Position.Line, t.Position.Column
	}
	return m
}

// place returns the token at which a node begins.
func place(n ast.Node) *token.Token {
	switch n := n.(type) {
	case nil:
		return nil
	case *ast.MappingNode:
		if !n.IsFlowStyle && len(n.Values) > 0 {
			return place(n.Values[0].Key)
		}
	case *ast.MappingValueNode:
		return place(n.Key)
	case *ast.AnchorNode:
		return place(n.Value)
	}
	return n.GetToken()
}

// follow resolves anchors, aliases and tags.
func (r *reader) follow(n ast.Node) ast.Node {
	for range 100 {
		switch x := n.(type) {
		case *ast.AnchorNode:
			r.anchors[x.Name.GetToken().Value] = x.Value
			n = x.Value
		case *ast.AliasNode:
			target, ok := r.anchors[x.Value.GetToken().Value]
			if !ok {
				r.wrong(n, "the anchor *%s is not defined above", x.Value.GetToken().Value)
				return nil
			}
			n = target
		case *ast.TagNode:
			n = x.Value
		default:
			return n
		}
	}
	return nil
}

// object is a mapping whose keys are known by name.
type object struct {
	r      *reader
	path   string
	node   ast.Node
	fields map[string]ast.Node
	keys   map[string]ast.Node
	order  []string
}

// at names a place below the object, such as "functions.quote.start".
func (o *object) at(key string) string { return join(o.path, key) }

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

// mapping returns the members of a mapping, which the parser has in two forms; nil
// for anything else.
func mapping(n ast.Node) []*ast.MappingValueNode {
	switch x := n.(type) {
	case *ast.MappingNode:
		return x.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{x}
	}
	return nil
}

// object reads a mapping. Given known keys, every other is an error; without,
// keys are names of the user's and are checked as such.
func (r *reader) object(n ast.Node, path string, known ...string) *object {
	o := &object{r: r, path: path, node: n, fields: map[string]ast.Node{}, keys: map[string]ast.Node{}}
	values := mapping(r.follow(n))
	switch x := r.follow(n).(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
	case nil:
		return o
	case *ast.NullNode:
		if len(known) == 0 {
			return o
		}
		r.wrong(n, "%s is empty; it takes %s", orFile(path), listed(known))
		return o
	default:
		r.wrong(n, "%s is %s; expected a mapping", orFile(path), describe(x))
		return o
	}
	for _, v := range values {
		if _, merge := v.Key.(*ast.MergeKeyNode); merge {
			r.wrong(v.Key, "%s: merge keys (<<) are not supported; write the settings out, or use an alias for a "+
				"whole value", orFile(path))
			continue
		}
		key := v.Key.GetToken().Value
		switch {
		case len(known) > 0 && !slices.Contains(known, key):
			r.wrong(v.Key, "unknown setting %s%s%s", join(path, key), didYouMean(key, known), knownHere(key, known))
			continue
		case len(known) == 0 && !isName(key):
			r.wrong(v.Key, "%s: %q is not a name; use a-z, 0-9 and -, beginning with a letter", orFile(path), key)
			continue
		case o.fields[key] != nil:
			r.wrong(v.Key, "%s appears twice", join(path, key))
			continue
		}
		o.fields[key], o.keys[key] = v.Value, v.Key
		o.order = append(o.order, key)
	}
	return o
}

func orFile(path string) string {
	if path == "" {
		return "the file"
	}
	return path
}

func knownHere(key string, known []string) string {
	if didYouMean(key, known) != "" {
		return ""
	}
	return "; settings here: " + strings.Join(known, ", ")
}

func listed(words []string) string { return strings.Join(words, ", ") }

func isName(s string) bool {
	for i := range len(s) {
		c := s[i]
		if !(c >= 'a' && c <= 'z' || i > 0 && (c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return s != ""
}

func describe(n ast.Node) string {
	switch n := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "empty"
	case *ast.BoolNode:
		return n.GetToken().Value
	case nil:
		return "missing"
	}
	return strconv.Quote(n.GetToken().Value)
}

// didYouMean returns "; did you mean x?" when one of the words is close to s.
func didYouMean(s string, words []string) string {
	if w := suggest.Word(s, words); w != "" {
		return fmt.Sprintf("; did you mean %s?", w)
	}
	return ""
}

// text returns the text of a scalar.
func (r *reader) text(n ast.Node, path string) (string, bool) {
	switch x := r.follow(n).(type) {
	case *ast.StringNode:
		return x.Value, true
	case *ast.LiteralNode:
		return x.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return x.GetToken().Value, true
	case nil:
		return "", false
	default:
		r.wrong(n, "%s is %s; expected a string", path, describe(x))
		return "", false
	}
}

func (o *object) text(key, otherwise string) string {
	n, ok := o.fields[key]
	if !ok {
		return otherwise
	}
	if s, ok := o.r.text(n, o.at(key)); ok {
		return s
	}
	return otherwise
}

// need is text that must be there.
func (o *object) need(key, example string) string {
	if _, ok := o.fields[key]; !ok {
		o.r.wrong(o.node, "%s is missing, such as %s: %s", o.at(key), key, example)
		return ""
	}
	return o.text(key, "")
}

// choice is one of a few words; the result is its place in them.
func (o *object) choice(key string, words []string, otherwise int) int {
	if _, ok := o.fields[key]; !ok {
		return otherwise
	}
	s := o.text(key, "")
	if i := slices.Index(words, s); i >= 0 {
		return i
	}
	o.r.wrong(o.fields[key], "%s: %q must be one of %s%s", o.at(key), s, listed(words), didYouMean(s, words))
	return otherwise
}

func (o *object) whole(key string, otherwise, least int) int {
	n, ok := o.fields[key]
	if !ok {
		return otherwise
	}
	s, ok := o.r.text(n, o.at(key))
	if !ok {
		return otherwise
	}
	v, err := strconv.Atoi(strings.ReplaceAll(s, "_", ""))
	switch {
	case err != nil:
		o.r.wrong(n, "%s: %q must be a whole number", o.at(key), s)
	case v < least:
		o.r.wrong(n, "%s is %d; it must be at least %d", o.at(key), v, least)
	case v > math.MaxInt32:
		o.r.wrong(n, "%s is %d; it must be at most %d", o.at(key), v, math.MaxInt32)
	default:
		return v
	}
	return otherwise
}

func (o *object) duration(key string, otherwise, least time.Duration) time.Duration {
	n, ok := o.fields[key]
	if !ok {
		return otherwise
	}
	s, ok := o.r.text(n, o.at(key))
	if !ok {
		return otherwise
	}
	d, err := time.ParseDuration(s)
	switch {
	case err != nil && s != "0":
		o.r.wrong(n, "%s: %q is not a duration, such as 200ms, 4s or 1m30s", o.at(key), s)
		return otherwise
	case d < least:
		o.r.wrong(n, "%s is %v; it must be at least %v", o.at(key), d, least)
		return otherwise
	}
	return d
}

// list returns the elements of a list.
func (o *object) list(key string) []ast.Node {
	n, ok := o.fields[key]
	if !ok {
		return nil
	}
	switch x := o.r.follow(n).(type) {
	case *ast.SequenceNode:
		return x.Values
	case nil, *ast.NullNode:
		return nil
	default:
		o.r.wrong(n, "%s is %s; expected a list", o.at(key), describe(x))
		return nil
	}
}

// child reads a mapping below the object; nil when it is not there.
func (o *object) child(key string, known ...string) *object {
	n, ok := o.fields[key]
	if !ok {
		return nil
	}
	return o.r.object(n, o.at(key), known...)
}

// rate reads a rate such as 40/s, 2.5/m or 90/h.
func (o *object) rate(key string) arrival.Rate {
	n, ok := o.fields[key]
	if !ok {
		o.r.wrong(o.node, "%s is missing, such as %s: 40/s", o.at(key), key)
		return arrival.Rate{Events: 1, Per: time.Second}
	}
	s, _ := o.r.text(n, o.at(key))
	rate, ok := arrival.ParseRate(s)
	if !ok {
		o.r.wrong(n, "%s: %q is not a rate, such as 40/s, 2.5/s or 90/m", o.at(key), s)
		return arrival.Rate{Events: 1, Per: time.Second}
	}
	return rate
}

// within returns the path of a file of the project, which must not leave it.
func (o *object) within(key, dir string) string {
	name := o.text(key, "")
	if name == "" {
		return ""
	}
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		o.r.wrong(o.fields[key], "%s: %q leaves the project's folder", o.at(key), name)
		return ""
	}
	return filepath.Join(dir, filepath.FromSlash(name))
}
