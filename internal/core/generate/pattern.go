package generate

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf16"
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
	slow  atomic.Bool // it timed out once: from then on it is not retried
}

// patternPatience is how long a pattern that goes back may take for one text.
const patternPatience = 250 * time.Millisecond

// slow reports whether a pattern timed out.
func slow(pattern string) bool {
	c, err := engine(pattern)
	return err == nil && c.(*compiled).slow.Load()
}

func (c *compiled) String() string { return c.text }

// MatchString reports whether the pattern is found in a text.
func (c *compiled) MatchString(s string) bool {
	if c.plain != nil {
		return c.plain.MatchString(s)
	}
	if c.slow.Load() {
		return false
	}
	ok, err := c.other.MatchString(s)
	if err != nil { // it has no other error
		c.slow.Store(true)
	}
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
		c.other.MatchTimeout = patternPatience
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
	t := translation{text: text, groups: []int{}}
	for t.at < len(text) {
		t.next()
	}
	return t.out.String()
}

// translation is a pattern on its way. atom is where what a count would be of
// began in what is written.
type translation struct {
	text   string
	at     int
	out    strings.Builder
	atom   int
	groups []int // where those that are open began
	class  bool
}

func (t *translation) next() {
	rest := t.text[t.at:]
	begin := t.out.Len()
	take := func(n int, written string) {
		t.at += n
		t.out.WriteString(written)
	}
	if rest[0] == '\\' && len(rest) > 1 {
		t.escape(rest, take)
		if !t.class {
			t.atom = begin
		}
		return
	}
	switch c := rest[0]; {
	case t.class:
		if c == '[' { // by itself it is only itself
			take(1, `\[`)
			return
		}
		t.class = c != ']'
		take(1, rest[:1])
		return
	case strings.HasPrefix(rest, "[^]"):
		take(3, `[\x00-\x{10FFFF}]`)
	case c == '[':
		n := 1
		if strings.HasPrefix(rest, "[^") {
			n = 2
		}
		t.class = true
		take(n, rest[:n])
	case c == '(':
		t.groups = append(t.groups, begin)
		take(1, "(")
	case c == ')' && len(t.groups) > 0:
		begin = t.groups[len(t.groups)-1]
		t.groups = t.groups[:len(t.groups)-1]
		take(1, ")")
	case c == '{':
		if n, written := t.count(rest); n > 0 {
			t.at += n
			s := t.out.String()
			t.out.Reset()
			t.out.WriteString(s[:t.atom] + written)
			return
		}
		take(1, "{")
		return
	case c == '*' || c == '+' || c == '?':
		take(1, rest[:1])
		return
	default:
		_, n := utf8.DecodeRuneInString(rest)
		take(n, rest[:n])
	}
	t.atom = begin
}

// escape writes what a backslash begins.
func (t *translation) escape(rest string, take func(int, string)) {
	hex := func(s string) (rune, bool) {
		if len(s) < 6 || !strings.HasPrefix(s, `\u`) {
			return 0, false
		}
		n, err := strconv.ParseUint(s[2:6], 16, 32)
		return rune(n), err == nil
	}
	switch c := rest[1]; c {
	case 'u':
		if strings.HasPrefix(rest, `\u{`) {
			take(2, `\x`)
		} else if n, ok := hex(rest); ok {
			if low, ok := hex(rest[6:]); ok && utf16.IsSurrogate(n) && utf16.IsSurrogate(low) {
				take(12, `\x{`+strconv.FormatInt(int64(utf16.DecodeRune(n, low)), 16)+"}")
			} else {
				take(6, `\x{`+rest[2:6]+"}")
			}
		} else {
			take(2, "u")
		}
	case 'p', 'P':
		end := strings.IndexByte(rest, '}')
		if !strings.HasPrefix(rest[2:], "{") || end < 0 {
			take(2, rest[1:2])
			return
		}
		name := rest[3:end]
		if i := strings.IndexByte(name, '='); i >= 0 {
			name = name[i+1:]
		}
		if short := properties[name]; short != "" {
			name = short
		}
		take(end+1, rest[:2]+"{"+name+"}")
	case '/':
		take(2, "/")
	case '-':
		take(2, `\-`)
	case 'c':
		if len(rest) > 2 {
			take(3, `\x{`+strconv.FormatInt(int64(rest[2]&0x1f), 16)+"}")
		} else {
			take(2, "c")
		}
	case 's': // with what ECMA-262 calls white space besides (§22.2.2.9)
		if t.class {
			take(2, white)
		} else {
			take(2, "["+white+"]")
		}
	case 'S':
		if t.class {
			take(2, `\S`)
		} else {
			take(2, "[^"+white+"]")
		}
	default:
		_, n := utf8.DecodeRuneInString(rest[1:])
		take(1+n, rest[:1+n])
	}
}

const white = `\t\n\v\f\r \x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}\x{feff}`

// properties are long names of Unicode's properties.
var properties = map[string]string{"Letter": "L", "Uppercase_Letter": "Lu", "Lowercase_Letter": "Ll",
	"Titlecase_Letter": "Lt", "Modifier_Letter": "Lm", "Other_Letter": "Lo",
	"Alphabetic": "L", "Uppercase": "Lu", "Lowercase": "Ll", "Mark": "M", "Number": "N", "Decimal_Number": "Nd",
	"digit": "Nd", "Letter_Number": "Nl", "Other_Number": "No", "Punctuation": "P", "punct": "P",
	"Symbol": "S", "Currency_Symbol": "Sc", "Math_Symbol": "Sm", "Separator": "Z", "Space_Separator": "Zs",
	"White_Space": "Z", "Other": "C", "Control": "Cc", "Latn": "Latin", "Grek": "Greek", "Cyrl": "Cyrillic"}

var counted = regexp.MustCompile(`^\{([0-9]+)(,([0-9]*))?\}`)

// mostCounted is the largest count that Go takes.
const mostCounted = 1000

// count writes a count that is larger than Go takes as several. n is 0 for one
// that Go takes.
func (t *translation) count(rest string) (n int, written string) {
	parts := counted.FindStringSubmatch(rest)
	if parts == nil {
		return 0, ""
	}
	least, err := strconv.Atoi(parts[1])
	most := least
	if parts[3] != "" && err == nil {
		most, err = strconv.Atoi(parts[3])
	}
	if err != nil || max(least, most) <= mostCounted || max(least, most) > 64*mostCounted {
		return 0, ""
	}
	atom := t.out.String()[t.atom:]
	var b strings.Builder
	times := func(n int, form string) {
		for ; n > 0; n -= mostCounted {
			b.WriteString(atom + fmt.Sprintf(form, min(n, mostCounted)))
		}
	}
	times(least, "{%d}")
	if parts[2] == "," {
		b.WriteString(atom + "*")
	} else {
		times(most-least, "{0,%d}")
	}
	return len(parts[0]), "(?:" + b.String() + ")"
}

// around are the ways in which a look-around begins.
var around = []string{"(?=", "(?!", "(?<=", "(?<!"}

// stripped leaves look-arounds out of a pattern, or, where they are kept, takes
// what must be there as a part of the text; what is made of it is matched against
// the whole.
func stripped(text string, keep bool) string {
	from := 0
	for {
		at, open := -1, ""
		for _, o := range around {
			if i := strings.Index(text[from:], o); i >= 0 && (at < 0 || from+i < at) {
				at, open = from+i, o
			}
		}
		if at < 0 {
			return text
		}
		end := closing(text[at:])
		if end < 0 {
			return text
		}
		inside := ""
		if keep && strings.HasSuffix(open, "=") {
			inside = "(?:" + text[at+len(open):at+end] + ")"
			from = at + 3
		}
		text = text[:at] + inside + text[at+end+1:]
	}
}

var back = regexp.MustCompile(`\\(?:k<([A-Za-z_][A-Za-z0-9_]*)>|([1-9][0-9]?))`)

// backs stands for back references: group n is the character backs+n.
const backs = 0xf0000

// forward writes back references as characters that no text has; fill puts in
// what their groups hold.
func forward(text string) string {
	if !strings.Contains(text, "\\") {
		return text
	}
	names := map[string]int{}
	group := 0
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\':
			i++
		case text[i] == '(' && (!strings.HasPrefix(text[i:], "(?") || strings.HasPrefix(text[i:], "(?<") &&
			!strings.HasPrefix(text[i:], "(?<=") && !strings.HasPrefix(text[i:], "(?<!")):
			group++
			if name, ok := strings.CutPrefix(text[i:], "(?<"); ok {
				name, _, _ = strings.Cut(name, ">")
				names[name] = group
			}
		}
	}
	if group == 0 {
		return text
	}
	return back.ReplaceAllStringFunc(text, func(s string) string {
		parts := back.FindStringSubmatch(s)
		n := names[parts[1]]
		if parts[2] != "" {
			n, _ = strconv.Atoi(parts[2])
		}
		if n == 0 || n > group {
			return s
		}
		return fmt.Sprintf(`\x{%x}`, backs+n)
	})
}

// fill puts in what groups hold.
func (a *automaton) fill(s string) string {
	for range 4 {
		if !strings.ContainsFunc(s, func(r rune) bool { return r > backs && r < backs+100 }) {
			return s
		}
		groups := a.whole.FindStringSubmatch(s)
		var b strings.Builder
		for _, r := range s {
			if n := int(r - backs); r > backs && n < len(groups) {
				b.WriteString(groups[n])
			} else {
				b.WriteRune(r)
			}
		}
		s = b.String()
	}
	return s
}

// automaton is a pattern's program, with the lengths at which it can end.
type automaton struct {
	prog   *syntax.Prog
	whole  *regexp.Regexp // for back references
	begins []bool         // whether the whole can match exactly k characters
	can    [][]bool       // can[k][pc]: from pc, not at the start, it ends after exactly k characters
}

const (
	// longestPattern is the longest text that is made of a pattern.
	longestPattern = 4096
	// usualPattern is how much longer than needed a text of a pattern becomes.
	usualPattern = 12
	// largestTable bounds the table of an automaton.
	largestTable = 16 << 20
)

// program returns the automaton of a pattern, or nil.
func (m *maker) program(text string, keep bool) *automaton {
	key := strconv.FormatBool(keep) + text
	if a, ok := m.g.programs[key]; ok {
		return a
	}
	var a *automaton
	usable := translate(forward(stripped(text, keep)))
	if expression, err := syntax.Parse(usable, syntax.Perl); err == nil {
		if prog, err := syntax.Compile(expression.Simplify()); err == nil {
			whole, _ := regexp.Compile(usable) // it was parsed
			a = &automaton{prog: prog, whole: whole}
		}
	}
	m.g.programs[key] = a
	return a
}

// pattern makes a text in which a pattern is found, of a length if that can be.
func (m *maker) pattern(text string, lo, hi int) (string, bool) {
	looks := slices.ContainsFunc(around, func(o string) bool { return strings.Contains(text, o) })
	a := m.program(text, looks && m.r.Chance(1, 2))
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
	s = a.fill(s)
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

// extend computes the next length.
func (a *automaton) extend() {
	k := len(a.can)
	row := make([]bool, len(a.prog.Inst))
	seen := make([]int8, len(a.prog.Inst)) // 1 in progress, 2 known
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
	// a loop of empty steps may be asked for while it is computed: once more
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

// step reports whether from an instruction the program can end after k characters.
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

// passable reports whether an empty step may be taken; word boundaries are left to
// the match of the whole.
func passable(op syntax.EmptyOp, start, end bool) bool {
	if op&(syntax.EmptyBeginText|syntax.EmptyBeginLine) != 0 && !start {
		return false
	}
	return op&(syntax.EmptyEndText|syntax.EmptyEndLine) == 0 || end
}

// starts reports whether the whole program can match exactly k characters.
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
