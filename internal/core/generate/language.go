package generate

import (
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
)

// What must match several patterns at once, a format beside them, or must not
// match one, is made by walking all their automata together: a text is extended
// only by characters after which each of them can still come to its end.

// language is the set of texts in which a pattern is found, or in which it is not.
type language struct {
	prog   *syntax.Prog
	not    bool
	states [][]uint32 // what the automaton can be at, by the number of the state
	known  map[string]int
	next   []map[int]int // by state and class
	ends   []bool
}

// found is the state of a language whose pattern has been found; whatever
// follows, it stays so.
const found = 0

// together are languages to be met at once, and the characters that make a
// difference to them.
type together struct {
	of      []*language
	classes [][][2]rune // ranges that all the automata treat alike
	layers  []map[string][]edge
	begin   string
	viable  map[int][]map[string]bool // by length, layer and state
	lengths []int                     // at which a text can end
}

// edge is a step to another state by a character of a class.
type edge struct {
	class int
	to    string
}

const (
	// mostStates bounds what is looked at for one combination of languages.
	mostStates = 60_000
	// mostSteps is how much longer than the shortest a text is made.
	mostSteps = 24
)

// languages returns the languages of a pattern: its look-aheads at the very start
// are languages of their own. ok is false where something else is in it that an
// automaton cannot tell.
func languages(pattern string) (out []*language, ok bool) {
	rest := pattern
	if begin, cut := strings.CutPrefix(pattern, "^"); cut {
		for {
			not := strings.HasPrefix(begin, "(?!")
			if !not && !strings.HasPrefix(begin, "(?=") {
				break
			}
			end := closing(begin)
			if end < 0 {
				return nil, false
			}
			l := compileLanguage("^(?:"+begin[3:end]+")", not)
			if l == nil {
				return nil, false
			}
			out, begin = append(out, l), begin[end+1:]
		}
		rest = "^" + begin
	}
	l := compileLanguage(rest, false)
	return append(out, l), l != nil
}

// closing returns the place of the parenthesis that closes the first one.
func closing(text string) int {
	depth, class := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case class:
			class = c != ']'
		case c == '[':
			class = true
		case c == '(':
			depth++
		case c == ')':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

func compileLanguage(pattern string, not bool) *language {
	expression, err := syntax.Parse(translate(pattern), syntax.Perl)
	if err != nil {
		return nil
	}
	prog, err := syntax.Compile(expression.Simplify())
	if err != nil {
		return nil
	}
	return &language{prog: prog, not: not, known: map[string]int{}}
}

// closure adds what is reached without a character.
func (l *language) closure(set map[uint32]bool, pc uint32, start, end bool) (match bool) {
	if set[pc] {
		return false
	}
	set[pc] = true
	in := &l.prog.Inst[pc]
	switch in.Op {
	case syntax.InstMatch:
		return true
	case syntax.InstAlt, syntax.InstAltMatch:
		a := l.closure(set, in.Out, start, end)
		return l.closure(set, in.Arg, start, end) || a
	case syntax.InstCapture, syntax.InstNop:
		return l.closure(set, in.Out, start, end)
	case syntax.InstEmptyWidth:
		return passable(syntax.EmptyOp(in.Arg), start, end) && l.closure(set, in.Out, start, end)
	}
	return false
}

// state returns the number of a set; what is found stays found.
func (l *language) state(set map[uint32]bool, match, atEnd bool) int {
	if len(l.states) == 0 {
		l.states, l.next, l.ends = append(l.states, nil), append(l.next, map[int]int{}), append(l.ends, !l.not)
	}
	if match {
		return found
	}
	var pcs []uint32
	for pc := range set {
		if l.prog.Inst[pc].Op >= syntax.InstRune || l.prog.Inst[pc].Op == syntax.InstEmptyWidth {
			pcs = append(pcs, pc)
		}
	}
	slices.Sort(pcs)
	key := strconv.FormatBool(atEnd)
	for _, pc := range pcs {
		key += " " + strconv.Itoa(int(pc))
	}
	if n, ok := l.known[key]; ok {
		return n
	}
	n := len(l.states)
	l.known[key] = n
	l.states, l.next, l.ends = append(l.states, pcs), append(l.next, map[int]int{}), append(l.ends, atEnd != l.not)
	return n
}

// first returns the state before any character.
func (l *language) first() int {
	set := map[uint32]bool{}
	match := l.closure(set, uint32(l.prog.Start), true, false)
	return l.state(set, match, match || l.closure(map[uint32]bool{}, uint32(l.prog.Start), true, true))
}

// step returns the state after a character.
func (l *language) step(from, class int, c rune) int {
	if from == found {
		return found
	}
	if to, ok := l.next[from][class]; ok {
		return to
	}
	set, last := map[uint32]bool{}, map[uint32]bool{}
	match, atEnd := false, false
	enter := func(pc uint32) {
		match = l.closure(set, pc, false, false) || match
		atEnd = l.closure(last, pc, false, true) || atEnd
	}
	for _, pc := range l.states[from] {
		if in := &l.prog.Inst[pc]; in.Op >= syntax.InstRune && in.MatchRune(c) {
			enter(in.Out)
		}
	}
	enter(uint32(l.prog.Start)) // it may begin anywhere
	to := l.state(set, match, atEnd || match)
	l.next[from][class] = to
	return to
}

// meet combines languages for texts of a length.
func meet(of []*language, lo, hi int) *together {
	t := &together{of: of, viable: map[int][]map[string]bool{}}
	t.classify()
	state := make([]int, len(of))
	for i, l := range of {
		state[i] = l.first()
	}
	t.begin = packed(state)
	layer := map[string]bool{t.begin: true}
	seen := 0
	for k := 0; len(layer) > 0; k++ {
		if k >= lo && t.anyEnds(layer) {
			t.lengths = append(t.lengths, k)
		}
		if hi != none && k >= hi || len(t.lengths) > 0 && k >= t.lengths[0]+mostSteps || k >= longestPattern ||
			seen > mostStates {
			break
		}
		edges, following := map[string][]edge{}, map[string]bool{}
		for _, s := range sorted(layer) {
			from := unpacked(s)
			to := make([]int, len(of))
			for class, ranges := range t.classes {
				dead := false
				for i, l := range of {
					to[i] = l.step(from[i], class, ranges[0][0])
					dead = dead || l.not && to[i] == found
				}
				if !dead {
					key := packed(to)
					edges[s] = append(edges[s], edge{class, key})
					following[key] = true
				}
			}
			seen++
		}
		t.layers, layer = append(t.layers, edges), following
	}
	return t
}

// classify finds the characters that make a difference.
func (t *together) classify() {
	cuts := []rune{0, 0x20, 0x7f, 0xd800, 0xe000}
	for _, p := range plain {
		cuts = append(cuts, p[0], p[1]+1)
	}
	var insts []*syntax.Inst
	for _, l := range t.of {
		for i := range l.prog.Inst {
			if in := &l.prog.Inst[i]; in.Op >= syntax.InstRune {
				insts = append(insts, in)
				cuts = append(cuts, '\n', '\n'+1)
				for j := 0; j < len(in.Rune); j += 2 {
					cuts = append(cuts, in.Rune[j], in.Rune[min(j+1, len(in.Rune)-1)]+1)
				}
			}
		}
	}
	slices.Sort(cuts)
	cuts = append(slices.Compact(cuts), 0x110000)
	of := map[string]int{}
	for i := 0; i+1 < len(cuts); i++ {
		lo, hi := cuts[i], cuts[i+1]-1
		if lo > hi || lo >= 0xd800 && lo < 0xe000 || lo > 0x10ffff {
			continue
		}
		sign := make([]byte, len(insts))
		for j, in := range insts {
			if in.MatchRune(lo) {
				sign[j] = 1
			}
		}
		n, ok := of[string(sign)]
		if !ok {
			n = len(t.classes)
			of[string(sign)] = n
			t.classes = append(t.classes, nil)
		}
		t.classes[n] = append(t.classes[n], [2]rune{lo, hi})
	}
}

func packed(state []int) string {
	b := make([]byte, 0, 3*len(state))
	for _, n := range state {
		b = append(b, byte(n>>16), byte(n>>8), byte(n))
	}
	return string(b)
}

func unpacked(s string) []int {
	out := make([]int, len(s)/3)
	for i := range out {
		out[i] = int(s[3*i])<<16 | int(s[3*i+1])<<8 | int(s[3*i+2])
	}
	return out
}

// end reports whether all the languages take a text that ends here.
func (t *together) end(s string) bool {
	for i, n := range unpacked(s) {
		if !t.of[i].ends[n] {
			return false
		}
	}
	return true
}

func (t *together) anyEnds(layer map[string]bool) bool {
	for s := range layer {
		if t.end(s) {
			return true
		}
	}
	return false
}

// leading returns, for each layer, the states from which a text of a length comes
// to its end.
func (t *together) leading(length int) []map[string]bool {
	if v, ok := t.viable[length]; ok {
		return v
	}
	v := make([]map[string]bool, length+1)
	for k := length - 1; k >= 0; k-- {
		v[k] = map[string]bool{}
		for s, edges := range t.layers[k] {
			for _, e := range edges {
				if k+1 == length && t.end(e.to) || k+1 < length && v[k+1][e.to] {
					v[k][s] = true
					break
				}
			}
		}
	}
	t.viable[length] = v
	return v
}

// text walks to a text of one of the lengths.
func (t *together) text(m *maker) (string, bool) {
	if len(t.lengths) == 0 {
		return "", false
	}
	length := t.lengths[m.r.Below(len(t.lengths))]
	viable := t.leading(length)
	out := make([]rune, 0, length)
	at := t.begin
	for k := range length {
		var ways, usual []edge
		for _, e := range t.layers[k][at] {
			if k+1 == length && t.end(e.to) || k+1 < length && viable[k+1][e.to] {
				ways = append(ways, e)
				if written(t.classes[e.class]) {
					usual = append(usual, e)
				}
			}
		}
		if len(ways) == 0 {
			return "", false
		}
		if len(usual) > 0 && !m.r.Chance(1, 40) {
			ways = usual
		}
		e := ways[m.r.Below(len(ways))]
		out = append(out, m.oneOf(t.classes[e.class]))
		at = e.to
	}
	return string(out), true
}

// written reports whether some of the characters are of those that people write.
func written(ranges [][2]rune) bool {
	return slices.ContainsFunc(ranges, func(r [2]rune) bool { return r[0] >= ' ' && r[0] < 0x7f })
}

// oneOf picks a character, one that people write if there is one.
func (m *maker) oneOf(ranges [][2]rune) rune {
	if written(ranges) && !m.r.Chance(1, 40) {
		ranges = slices.DeleteFunc(slices.Clone(ranges), func(r [2]rune) bool { return r[0] < ' ' || r[0] >= 0x7f })
	}
	r := ranges[m.r.Below(len(ranges))]
	return r[0] + rune(m.r.Below(int(min(r[1]-r[0], 200))+1))
}

// meeting makes a text of a shape by walking all that it must match together.
func (m *maker) meeting(h *shape) (string, bool) {
	key := strings.Join(h.patterns, "\x00") + "\x01" + strings.Join(h.formats, "\x00") + "\x01" +
		strings.Join(h.without, "\x00") + "\x01" + strconv.Itoa(h.minLength) + "-" + strconv.Itoa(h.maxLength)
	t, ok := m.g.meetings[key]
	if !ok {
		var of []*language
		good := true
		for _, p := range h.patterns {
			l, ok := languages(p)
			of, good = append(of, l...), good && ok
		}
		for _, p := range h.without {
			l := compileLanguage(p, true)
			good = good && l != nil
			of = append(of, l)
		}
		for _, f := range h.formats {
			if p := formatPatterns[f]; p != "" {
				of = append(of, compileLanguage(p, false))
			}
		}
		if good && len(of) > 0 {
			t = meet(of, h.minLength, h.maxLength)
		}
		m.g.meetings[key] = t
	}
	if t == nil {
		return "", false
	}
	return t.text(m)
}

// formatPatterns are patterns of texts that have a format; not of all of them.
var formatPatterns = map[string]string{
	"date":         `^(19|20)[0-9]{2}-` + dayInYear + `$`,
	"time":         `^` + timeOfDay + `$`,
	"date-time":    `^(19|20)[0-9]{2}-` + dayInYear + `T` + timeOfDay + `$`,
	"duration":     `^P([0-9]{1,3}W|[0-9]{1,2}D|([0-9]{1,2}D)?T([0-9]{1,2}H[0-9]{1,2}M|[0-9]{1,2}[HMS]))$`,
	"email":        `^[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+){0,2}@` + hostName + `$`,
	"idn-email":    `^[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+){0,2}@` + hostName + `$`,
	"hostname":     `^` + hostName + `$`,
	"idn-hostname": `^` + hostName + `$`,
	"ipv4":         `^` + octet + `(\.` + octet + `){3}$`,
	"ipv6": `^([0-9a-fA-F]{1,4}:){7}[0-9a-fA-F]{1,4}$|^([0-9a-fA-F]{1,4}:){1,3}:([0-9a-fA-F]{1,` +
		`4}:){0,2}[0-9a-fA-F]{1,4}$|^::1$`,
	"uuid":                  `^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`,
	"uri":                   uri,
	"iri":                   uri,
	"uri-reference":         uriReference,
	"iri-reference":         uriReference,
	"uri-template":          `^(https?://` + hostName + `)?(/([A-Za-z0-9_.-]+|\{[a-z]{1,8}\}))+$`,
	"json-pointer":          `^(/([A-Za-z0-9_.-]|~0|~1)*)*$`,
	"relative-json-pointer": `^(0|[1-9][0-9]{0,2})(#|(/[A-Za-z0-9_.-]*)*)$`,
	"regex":                 `^\^?[A-Za-z0-9 _-]+\$?$`,
}

const (
	dayInYear = `(0[1-9]|1[0-2])-(0[1-9]|1[0-9]|2[0-8])`
	timeOfDay = `([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\.[0-9]{1,6})?(Z|[+-](0[0-9]|1[0-3]):(00|30|45))`
	hostName  = `[a-z0-9]([a-z0-9-]{0,20}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,20}[a-z0-9])?){0,3}\.[a-z]{2,12}`
	octet     = `(25[0-5]|2[0-4][0-9]|1[0-9]{2}|[1-9]?[0-9])`
	uri       = `^([a-z][a-z0-9+.-]{0,9}://` + hostName +
		`(:[1-9][0-9]{1,3})?(/[A-Za-z0-9_.~-]*)*(\?[A-Za-z0-9_=&-]*)?(#[A-Za-z0-9_-]*)?|` +
		`(urn|mailto|tel|data):[A-Za-z0-9:@._+-]+)$`
	uriReference = `^([a-z][a-z0-9+.-]{0,9}://` + hostName +
		`)?(/[A-Za-z0-9_.~-]*)*(\?[A-Za-z0-9_=&-]*)?(#[A-Za-z0-9_-]*)?$`
)
