package generate

import (
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/dlclark/regexp2/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Patterns are regular expressions of ECMA-262. Those that Go's own engine takes
// run on it, in linear time; others, with look-arounds or back references, on
// one that goes back, with a bound.

// compiled is a pattern that can be matched.
type compiled struct {
	text  string
	plain *regexp.Regexp
	other *regexp2.Regexp
}

func (c *compiled) String() string { return c.text }

// MatchString tells whether the pattern is found in a text.
func (c *compiled) MatchString(s string) bool {
	if c.plain != nil {
		return c.plain.MatchString(s)
	}
	ok, err := c.other.MatchString(s)
	return ok && err == nil
}

var cache sync.Map // of compiled patterns by their text

// engine compiles a pattern for the validator, and for the maker.
func engine(text string) (jsonschema.Regexp, error) {
	if c, ok := cache.Load(text); ok {
		return c.(*compiled), nil
	}
	c := &compiled{text: text}
	var err error
	if c.plain, err = regexp.Compile(translate(text)); err != nil {
		if c.other, err = regexp2.Compile(text, regexp2.ECMAScript|regexp2.Unicode); err != nil {
			return nil, err
		}
	}
	cache.Store(text, c)
	return c, nil
}

func matches(pattern, s string) bool {
	c, err := engine(pattern)
	return err == nil && c.MatchString(s)
}

// translate writes what ECMA-262 writes otherwise than Go does.
func translate(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' || i+1 == len(text) {
			if strings.HasPrefix(text[i:], "[^]") {
				b.WriteString(`[\x00-\x{10FFFF}]`)
				i += 2
				continue
			}
			b.WriteByte(text[i])
			continue
		}
		i++
		switch text[i] {
		case 'u':
			if strings.HasPrefix(text[i+1:], "{") {
				b.WriteString(`\x`)
			} else if i+4 < len(text) {
				b.WriteString(`\x{` + text[i+1:i+5] + "}")
				i += 4
			}
		case '/', '-':
			b.WriteString(`\` + string(text[i]))
		case 'c':
			if i+1 < len(text) {
				i++
				b.WriteString(`\x{` + strconv.FormatInt(int64(text[i]&0x1f), 16) + "}")
			}
		default:
			b.WriteString(text[i-1 : i+1])
		}
	}
	return strings.ReplaceAll(b.String(), `\/`, "/")
}

// stripped leaves look-arounds out of a pattern; what is made of the rest is
// matched against the whole.
func stripped(text string) string {
	for {
		at := -1
		for _, open := range []string{"(?=", "(?!", "(?<=", "(?<!"} {
			if i := strings.Index(text, open); i >= 0 && (at < 0 || i < at) {
				at = i
			}
		}
		if at < 0 {
			return text
		}
		depth, end := 0, at
		for ; end < len(text); end++ {
			switch text[end] {
			case '\\':
				end++
				continue
			case '(':
				depth++
			case ')':
				depth--
			}
			if depth == 0 {
				break
			}
		}
		text = text[:at] + text[min(end+1, len(text)):]
	}
}

// automaton is a pattern's program, with the lengths at which it can end.
type automaton struct {
	prog   *syntax.Prog
	begins []bool   // whether the whole can match exactly k characters
	can    [][]bool // can[k][pc]: from pc, not at the start, it ends after exactly k characters
}

const (
	// longestPattern is the longest text that is made of a pattern.
	longestPattern = 4096
	// usualPattern is how much longer than needed a text of a pattern becomes.
	usualPattern = 12
	// largestTable bounds the table of an automaton.
	largestTable = 16 << 20
)

// program gives the automaton of a pattern, or nil.
func (m *maker) program(text string) *automaton {
	if a, ok := m.g.programs[text]; ok {
		return a
	}
	var a *automaton
	if expression, err := syntax.Parse(stripped(translate(text)), syntax.Perl); err == nil {
		if prog, err := syntax.Compile(expression.Simplify()); err == nil {
			a = &automaton{prog: prog}
		}
	}
	m.g.programs[text] = a
	return a
}

// pattern makes a text in which a pattern is found, of a length if that can be.
func (m *maker) pattern(text string, lo, hi int) (string, bool) {
	a := m.program(text)
	if a == nil {
		return "", false
	}
	prog := a.prog
	most := hi
	if hi == none {
		most = max(lo, usualPattern) + usualPattern
	}
	most = min(most, longestPattern)
	var lengths []int
	for k := 0; k <= most && k*len(prog.Inst) < largestTable; k++ {
		if len(a.can) == k {
			a.extend()
			a.begins = append(a.begins, a.starts(k))
		}
		if a.begins[k] {
			lengths = append(lengths, k)
		}
		if hi == none && k == most && len(lengths) == 0 && most < longestPattern {
			most = min(2*most, longestPattern) // the pattern itself is longer than usual
		}
	}
	if len(lengths) == 0 {
		return "", false
	}
	k := lengths[m.r.Below(len(lengths))]
	if within := lengths[len(lengths)-1]; within >= lo { // long enough by itself
		for k < lo {
			k = lengths[m.r.Below(len(lengths))]
		}
	}
	s, ok := m.walk(a, k)
	if !ok {
		return "", false
	}
	// where it need not be all of the text, something stands before and after it
	n := utf8.RuneCountInString(s)
	more := max(lo-n, 0)
	if room := usualPattern; m.r.Chance(3, 4) {
		if hi != none {
			room = min(room, hi-max(n, lo))
		}
		more += m.r.Below(max(room, 0) + 1)
	}
	for range more {
		c := string(rune('a' + m.r.Below(26)))
		first, second := s+c, c+s
		if m.r.Chance(1, 8) {
			first, second = second, first
		}
		switch {
		case matches(text, first):
			s = first
		case matches(text, second):
			s = second
		default:
			return s, n >= lo && matches(text, s)
		}
		n++
	}
	return s, matches(text, s)
}

// extend works out the next length.
func (a *automaton) extend() {
	k := len(a.can)
	row := make([]bool, len(a.prog.Inst))
	seen := make([]int8, len(a.prog.Inst)) // 1 under way, 2 known
	a.can = append(a.can, row)
	var ends func(pc uint32) bool
	ends = func(pc uint32) bool {
		if seen[pc] != 0 {
			return row[pc]
		}
		seen[pc] = 1
		row[pc] = a.step(pc, k, false, ends)
		seen[pc] = 2
		return row[pc]
	}
	// a loop of empty steps may be asked for while it is worked out: once more
	for range 2 {
		for pc := range a.prog.Inst {
			if !row[pc] {
				seen[pc] = 0
			}
		}
		for pc := range a.prog.Inst {
			ends(uint32(pc))
		}
	}
}

// step tells whether from an instruction the program can end after k characters.
func (a *automaton) step(pc uint32, k int, start bool, next func(uint32) bool) bool {
	in := &a.prog.Inst[pc]
	switch in.Op {
	case syntax.InstMatch:
		return k == 0
	case syntax.InstAlt, syntax.InstAltMatch:
		return next(in.Out) || next(in.Arg)
	case syntax.InstCapture, syntax.InstNop:
		return next(in.Out)
	case syntax.InstEmptyWidth:
		return passable(syntax.EmptyOp(in.Arg), start, k == 0) && next(in.Out)
	case syntax.InstFail:
		return false
	}
	return k > 0 && a.can[k-1][in.Out]
}

// passable tells whether an empty step may be taken; word boundaries are left to
// the match of the whole.
func passable(op syntax.EmptyOp, start, end bool) bool {
	if op&(syntax.EmptyBeginText|syntax.EmptyBeginLine) != 0 && !start {
		return false
	}
	return op&(syntax.EmptyEndText|syntax.EmptyEndLine) == 0 || end
}

// starts tells whether the whole program can match exactly k characters.
func (a *automaton) starts(k int) bool { return a.from(uint32(a.prog.Start), k, map[uint32]bool{}) }

// from is step at the start of a text.
func (a *automaton) from(pc uint32, k int, seen map[uint32]bool) bool {
	if seen[pc] {
		return false
	}
	seen[pc] = true
	return a.step(pc, k, true, func(next uint32) bool { return a.from(next, k, seen) })
}

// walk makes a text of exactly k characters.
func (m *maker) walk(a *automaton, k int) (string, bool) {
	var b strings.Builder
	pc, start := uint32(a.prog.Start), true
	viable := func(pc uint32) bool {
		if start {
			return a.from(pc, k, map[uint32]bool{})
		}
		return a.can[k][pc]
	}
	for range 8 * (k + 4) * len(a.prog.Inst) {
		in := &a.prog.Inst[pc]
		switch in.Op {
		case syntax.InstMatch:
			return b.String(), k == 0
		case syntax.InstAlt, syntax.InstAltMatch:
			first, second := in.Out, in.Arg
			if m.r.Chance(1, 2) {
				first, second = second, first
			}
			if pc = first; !viable(first) {
				pc = second
			}
		case syntax.InstCapture, syntax.InstNop, syntax.InstEmptyWidth:
			pc = in.Out
		case syntax.InstFail:
			return "", false
		default:
			r, ok := m.character(in)
			if !ok || k == 0 {
				return "", false
			}
			b.WriteRune(r)
			k, start, pc = k-1, false, in.Out
		}
		if !viable(pc) {
			return "", false
		}
	}
	return "", false
}

// plain are the ranges that people write in, those taken most often first.
var plain = [][2]rune{{'a', 'z'}, {'0', '9'}, {'A', 'Z'}, {' ', '~'}, {0xa1, 0x24f}}

// character picks a character of an instruction, one that people write if there
// is one.
func (m *maker) character(in *syntax.Inst) (rune, bool) {
	ranges := in.Rune
	switch in.Op {
	case syntax.InstRuneAny, syntax.InstRuneAnyNotNL:
		ranges = []rune{' ', '~'}
	case syntax.InstRune1:
		ranges = []rune{in.Rune[0], in.Rune[0]}
	default:
		if len(ranges) == 1 {
			ranges = []rune{ranges[0], ranges[0]}
		}
	}
	var usable [][2]rune
	for _, p := range plain {
		for i := 0; i+1 < len(ranges); i += 2 {
			if lo, hi := max(ranges[i], p[0]), min(ranges[i+1], p[1]); lo <= hi {
				usable = append(usable, [2]rune{lo, hi})
			}
		}
	}
	if len(usable) == 0 || m.r.Chance(1, 40) {
		for i := 0; i+1 < len(ranges); i += 2 {
			if lo, hi := ranges[i], min(ranges[i+1], ranges[i]+200); lo < 0xd800 && hi < 0xd800 || lo > 0xdfff {
				usable = append(usable, [2]rune{lo, hi})
			}
		}
	}
	if len(usable) == 0 {
		return 0, false
	}
	u := usable[m.r.Below(len(usable))]
	return u[0] + rune(m.r.Below(int(u[1]-u[0])+1)), true
}
