package generate

import (
	"encoding/json"
	"errors"
	"maps"
	"math/big"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"nightdrill.dev/internal/core/rng"
)

const (
	// deep is the nesting from which on a payload is brought to its end.
	deep = 5
	// deepest is the nesting beyond which nothing is made.
	deepest = 60
	// tries is how often a value is made anew at one place.
	tries = 40
	// effort is how often that may be for a whole payload.
	effort = 20_000
)

// Make returns payload n of a seed as compact JSON, members sorted by their names.
func (g *Generator) Make(seed, n uint64) ([]byte, error) { return g.make(seed, n, false) }

// Edge is Make with what lies at the edges: bounds, the empty and the longest,
// all optional members or none, and characters that are often forgotten.
func (g *Generator) Edge(seed, n uint64) ([]byte, error) { return g.make(seed, n, true) }

func (g *Generator) make(seed, n uint64, edges bool) ([]byte, error) {
	for attempt := range uint64(8) {
		// where nothing at the edges fits, something else does
		v, err := g.draft(seed, n, attempt, edges && attempt < 4)
		if stop := g.stopped(); stop != nil {
			return nil, stop
		}
		if r, ok := errors.AsType[*Refused](err); ok {
			return nil, r
		}
		if err == nil && g.whole.Validate(simple(v)) == nil {
			return write(make([]byte, 0, 1024), v), nil
		}
	}
	why := g.diagnose(seed, edges)
	if stop := g.stopped(); stop != nil {
		return nil, stop
	}
	return nil, why
}

// draft makes a value that has not been validated as a whole.
func (g *Generator) draft(seed, n, attempt uint64, edges bool) (any, error) {
	if g.size > 0 {
		return g.sized(seed, n, attempt, edges)
	}
	return g.maker(seed, n, attempt, edges).start()
}

// start makes a payload. The error is Refused where it is known that there is none.
func (m *maker) start() (any, error) {
	v, err := m.value(m.g.start, 0)
	if m.refused != nil {
		return nil, m.refused
	}
	return v, err
}

func (g *Generator) maker(seed, n, attempt uint64, edges bool) *maker {
	return &maker{g: g, r: rng.New(seed, n<<3|attempt), seed: seed, n: n, shared: map[string]any{}, effort: effort,
		room: max(mostMade, 2*g.size), edges: edges}
}

func sorted[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// value makes a value that all the schemas take.
func (m *maker) value(list []*schema, depth int) (any, error) {
	if depth > deepest {
		return nil, errNothing
	}
	for range tries {
		if m.effort--; m.effort&63 == 0 && m.g.stopped() != nil {
			m.effort = 0 // the error is requested at the end
		}
		if m.effort < 0 || !m.takesRoom(2) {
			return nil, errNothing
		}
		h, err := m.flatten(list, depth)
		if err != nil {
			if len(list) == 1 && m.effort%8 == 0 || len(list) > 1 && m.effort%4 == 0 {
				return nil, err
			}
			continue
		}
		if h.made != nil {
			if v, ok := m.annotated(h, list, depth); ok {
				m.made++
				return v, nil
			}
		}
		v, err := m.fill(h, depth)
		if err != nil {
			continue
		}
		if !h.check || m.takes(list, v) {
			m.made++
			return v, nil
		}
	}
	return nil, errNothing
}

// large is how many values a payload has before it is brought to its end.
const large = 400

// ends reports whether a payload is to be brought to its end: it is deep, or large.
func (m *maker) ends(depth int) bool {
	return depth >= deep || m.made > large && (m.grow == nil || m.grow.items == 0)
}

// takes reports whether every schema takes a value.
func (m *maker) takes(list []*schema, v any) bool {
	for _, s := range list {
		if !m.g.fits(s, v) {
			return false
		}
	}
	return true
}

// fill makes a value of a shape.
func (m *maker) fill(h *shape, depth int) (any, error) {
	if h.listed {
		return h.values[m.r.Below(len(h.values))], nil
	}
	k := h.kinds
	if hinted := k & h.hints; hinted != 0 && !m.r.Chance(1, 12) {
		k = hinted
	}
	if m.ends(depth) && k&(kNull|kBool|kNumber|kString) != 0 {
		k &= kNull | kBool | kNumber | kString
	}
	var all []kinds
	for b := kNull; b <= kObject; b <<= 1 {
		if k&b != 0 {
			all = append(all, b)
		}
	}
	switch all[m.r.Below(len(all))] {
	case kNull:
		return nil, nil
	case kBool:
		return m.r.Chance(1, 2), nil
	case kNumber:
		return m.number(h)
	case kString:
		return m.text(h)
	case kArray:
		return m.array(h, depth)
	}
	return m.object(h, depth)
}

// number makes a number: a multiple of the step, or a decimal of two places, or
// of as many as the bounds ask for.
func (m *maker) number(h *shape) (any, error) {
	if of, ok := m.numberNamed(h); ok {
		r := big.NewRat(int64(m.between(of[0], of[1])), 100)
		if h.integer {
			r.SetInt(quotient(r, big.NewRat(1, 1), false))
		}
		if h.takes(r) && !m.r.Chance(1, 16) {
			return number(r), nil
		}
	}
	if lo, hi, ok := h.smallIntegers(); ok {
		if m.edges && (h.min == nil || h.max == nil) && m.r.Chance(1, 2) {
			if n := edgeIntegers[m.r.Below(len(edgeIntegers))]; (h.min == nil || n >= lo) && (h.max == nil || n <= hi) {
				return json.Number(strconv.FormatInt(n, 10)), nil
			}
		}
		switch {
		case m.r.Chance(1, 16), m.edges && m.r.Chance(1, 2): // the ends of a range are where mistakes are
			return json.Number(strconv.FormatInt(lo, 10)), nil
		case m.r.Chance(1, 16), m.edges:
			return json.Number(strconv.FormatInt(hi, 10)), nil
		}
		return json.Number(strconv.FormatInt(lo+int64(m.r.Below(int(hi-lo)+1)), 10)), nil
	}
	step := h.step
	if h.integer {
		step = common(step, big.NewRat(1, 1))
	}
	if step == nil {
		step = big.NewRat(1, 100)
		if h.min != nil && h.max != nil { // a narrow range needs finer steps
			room := new(big.Rat).Sub(h.max, h.min)
			for room.Sign() > 0 && new(big.Rat).Mul(step, big.NewRat(4, 1)).Cmp(room) > 0 {
				step = new(big.Rat).Mul(step, big.NewRat(1, 10))
			}
			if room.Sign() == 0 {
				return number(h.min), nil
			}
		}
	}
	// k with lo ≤ k·step ≤ hi
	lo, hi := big.NewInt(-100_000), big.NewInt(100_000)
	if h.integer || h.step != nil {
		lo, hi = big.NewInt(-1000), big.NewInt(1000)
	}
	if h.min != nil {
		lo = quotient(h.min, step, true)
		if h.minOpen && new(big.Rat).Mul(new(big.Rat).SetInt(lo), step).Cmp(h.min) == 0 {
			lo.Add(lo, big.NewInt(1))
		}
		if h.max == nil {
			hi = new(big.Int).Add(lo, big.NewInt(100_000))
		}
	}
	if h.max != nil {
		hi = quotient(h.max, step, false)
		if h.maxOpen && new(big.Rat).Mul(new(big.Rat).SetInt(hi), step).Cmp(h.max) == 0 {
			hi.Sub(hi, big.NewInt(1))
		}
		if h.min == nil {
			lo = new(big.Int).Sub(hi, big.NewInt(100_000))
		}
	}
	span := new(big.Int).Sub(hi, lo)
	if span.Sign() < 0 {
		return nil, errNothing
	}
	k := new(big.Int).Set(lo)
	switch {
	case m.r.Chance(1, 16), m.edges && m.r.Chance(1, 2): // the ends of a range are where mistakes are
	case m.r.Chance(1, 16), m.edges:
		k.Set(hi)
	default:
		k.Add(k, m.below(span.Add(span, big.NewInt(1))))
	}
	return number(new(big.Rat).Mul(new(big.Rat).SetInt(k), step)), nil
}

// numberNamed returns the range that the member's name says, where the schema says
// little.
func (m *maker) numberNamed(h *shape) ([2]int, bool) {
	if m.edges || h.step != nil || h.min != nil && h.max != nil && h.max.Cmp(wideRange) <= 0 {
		return [2]int{}, false
	}
	return m.g.numberNamed(m.under)
}

// wideRange is the upper bound from which on a range says little.
var wideRange = big.NewRat(1_000_000, 1)

// takes reports whether a number is within the bounds.
func (h *shape) takes(r *big.Rat) bool {
	if h.min != nil && (r.Cmp(h.min) < 0 || h.minOpen && r.Cmp(h.min) == 0) {
		return false
	}
	return h.max == nil || r.Cmp(h.max) < 0 || !h.maxOpen && r.Cmp(h.max) == 0
}

// smallIntegers returns the range of an integer without a step, where it is small.
func (h *shape) smallIntegers() (lo, hi int64, ok bool) {
	if !h.integer || h.step != nil || h.minOpen || h.maxOpen {
		return 0, 0, false
	}
	const small = 1 << 40
	fits := func(r *big.Rat) bool {
		return r == nil || r.IsInt() && r.Num().IsInt64() && r.Num().Int64() < small && r.Num().Int64() > -small
	}
	if !fits(h.min) || !fits(h.max) {
		return 0, 0, false
	}
	lo, hi = -1000, 1000
	switch {
	case h.min != nil && h.max != nil:
		lo, hi = h.min.Num().Int64(), h.max.Num().Int64()
	case h.min != nil:
		lo = h.min.Num().Int64()
		hi = lo + 100_000
	case h.max != nil:
		hi = h.max.Num().Int64()
		lo = hi - 100_000
	}
	return lo, hi, lo <= hi
}

// below returns a number from 0 to n-1.
func (m *maker) below(n *big.Int) *big.Int {
	if n.IsUint64() {
		hi, _ := bits.Mul64(m.r.Uint64(), n.Uint64())
		return new(big.Int).SetUint64(hi)
	}
	out := new(big.Int)
	for range n.BitLen()/64 + 2 {
		out.Or(out.Lsh(out, 64), new(big.Int).SetUint64(m.r.Uint64()))
	}
	return out.Mod(out, n)
}

// quotient returns a/b, rounded up or down.
func quotient(a, b *big.Rat, up bool) *big.Int {
	q := new(big.Rat).Quo(a, b)
	n, rest := new(big.Int).DivMod(q.Num(), q.Denom(), new(big.Int))
	if up && rest.Sign() != 0 {
		n.Add(n, big.NewInt(1))
	}
	return n
}

// number writes a decimal without superfluous zeros.
func number(r *big.Rat) json.Number {
	if r.IsInt() {
		return json.Number(r.Num().String())
	}
	places, exact := r.FloatPrec()
	if !exact {
		places = 15
	}
	return json.Number(strings.TrimRight(strings.TrimRight(r.FloatString(places), "0"), "."))
}

// edgeIntegers are those at which programs break: around nothing, and around
// what 32 bits and a double hold.
var edgeIntegers = []int64{0, 1, -1, 1<<31 - 1, 1 << 31, -1 << 31, 1 << 53, 1<<53 + 1, -1 << 53}

const (
	// mostEdge is the longest text that is made because it is the longest.
	mostEdge = 10_000
	// mostItems is the same of lists, and wide the length from which on only one
	// list of a payload is that long.
	mostItems = 1000
	wide      = 40
)

// count picks a number of items or members: few, within bounds, the bounds now
// and then.
func (m *maker) count(lo, hi, usual int) int {
	if hi == none {
		hi = lo + usual
	}
	if m.edges && hi-lo <= m.longest() {
		if m.r.Chance(1, 2) {
			return lo
		}
		return hi
	}
	if hi-lo <= m.longest() && m.r.Below(max(8, (hi-lo)/8)) == 0 {
		return hi
	}
	return lo + m.r.Below(min(hi-lo, usual)+1)
}

// longest is how long something may be made because it is the longest.
func (m *maker) longest() int {
	switch {
	case !m.listing:
		return mostEdge
	case m.wide:
		return wide
	}
	return mostItems
}

// usualItems is how many items a list may have to have without more tries for them.
const usualItems = 1000

func (m *maker) array(h *shape, depth int) (any, error) {
	lo, usual := h.minItems, 4
	longest := 0
	for _, t := range h.tuples {
		longest = max(longest, len(t.prefixItems))
	}
	usual = max(usual, longest+1-lo)
	if m.ends(depth) {
		usual = 0
	}
	for _, c := range h.contains {
		lo = max(lo, c.minContains)
	}
	if h.maxItems != none && lo > h.maxItems {
		return nil, errNothing
	}
	m.listing = true
	n := m.count(lo, h.maxItems, usual)
	m.listing, m.wide = false, m.wide || n > wide
	if lo > usualItems { // required items take tries of their own
		m.effort += 2 * lo
	}
	if !m.takesRoom(2 * n) {
		return nil, errNothing
	}
	if more := m.more(h, n, depth); more > n {
		m.effort += (more - n) * tries
		n = more
		m.grow.inside = true
		defer func() { m.grow.inside = false }()
	}
	// places that are to hold what must be contained, the last ones first
	wanted := make([][]*schema, n)
	at := n - 1
	for _, c := range h.contains {
		for range c.minContains {
			if at < 0 {
				at = n - 1
			}
			if at >= 0 {
				wanted[at] = append(wanted[at], c.contains)
				at--
			}
		}
	}
	out := []any{}
	var there map[string]bool
	if h.unique {
		there = map[string]bool{}
	}
	for i := range n {
		var list []*schema
		known := false
		for _, t := range h.tuples {
			switch {
			case i < len(t.prefixItems):
				list, known = append(list, t.prefixItems[i]), true
			case t.items != nil:
				list, known = append(list, t.items), true
			}
		}
		if !known && len(wanted[i]) == 0 {
			if len(h.contains) > 0 && slices.ContainsFunc(h.restItems, (*schema).never) {
				list = append(list, h.contains[m.r.Below(len(h.contains))].contains) // which is evaluated by that
			} else {
				list = append(list, h.restItems...)
			}
		}
		list = append(list, wanted[i]...)
		v, err := m.item(list, there, depth+1)
		for again := 0; err == nil && again < tries && m.tooMany(h, out, v); again++ {
			delete(there, identity(v))
			v, err = m.item(list, there, depth+1)
		}
		if err != nil {
			if i >= lo { // it may be shorter
				break
			}
			return nil, err
		}
		out = append(out, v)
	}
	return out, nil
}

// tooMany reports whether one more item makes more than may be contained.
func (m *maker) tooMany(h *shape, items []any, v any) bool {
	for _, c := range h.contains {
		if c.maxContains == none || !m.g.fits(c.contains, simple(v)) {
			continue
		}
		n := 1
		for _, x := range items {
			if m.g.fits(c.contains, simple(x)) {
				n++
			}
		}
		// what is wanted later has its room kept
		if n > c.maxContains || n > c.maxContains-c.minContains && len(items) < h.minItems-c.minContains {
			return true
		}
	}
	return false
}

// item makes an item, and one that is not there yet where they must differ;
// there is nil where they need not.
func (m *maker) item(list []*schema, there map[string]bool, depth int) (any, error) {
	if there == nil {
		return m.value(list, depth)
	}
	for n := range tries {
		v, err := m.value(list, depth)
		if err != nil {
			return nil, err
		}
		if n > tries/4 {
			if other, ok := m.another(list, there, depth); ok {
				v = other
			}
		}
		if k := identity(v); !there[k] {
			there[k] = true
			return v, nil
		}
	}
	return nil, errNothing
}

// another looks for a value that is not in the list yet, where there are only few possible values.
func (m *maker) another(list []*schema, there map[string]bool, depth int) (any, bool) {
	h, err := m.flatten(list, depth)
	if err != nil {
		return nil, false
	}
	var rest []any
	take := func(v any) {
		if !there[identity(v)] && (!h.check || m.takes(list, v)) {
			rest = append(rest, v)
		}
	}
	lo, hi, small := h.smallIntegers()
	switch {
	case h.listed:
		for _, v := range h.values {
			take(v)
		}
	case small && h.kinds&kNumber != 0:
		for k := lo; k <= hi && len(rest) < wide; k++ {
			take(json.Number(strconv.FormatInt(k, 10)))
		}
	}
	for k, values := range map[kinds][]any{kNull: {nil}, kBool: {false, true}} {
		for _, v := range values {
			if h.kinds&k != 0 && !h.listed {
				take(v)
			}
		}
	}
	if len(rest) == 0 {
		return nil, false
	}
	slices.SortStableFunc(rest, func(a, b any) int { return strings.Compare(identity(a), identity(b)) })
	return rest[m.r.Below(len(rest))], true
}

func (m *maker) object(h *shape, depth int) (any, error) {
	names := append(make([]string, 0, len(h.required)+8), h.required...)
	optional := h.optional()
	most := h.maxProps
	room := func() bool { return most == none || len(names) < most }
	share := 2 // of optional members, one in so many
	if m.edges {
		share = 1 + 1000*m.r.Below(2) // all, or none
	}
	for _, i := range m.order(len(optional)) {
		if room() && (m.present(h, optional[i], share, depth) || len(names) < h.minProps) && m.possible(h, optional[i],
			depth) {
			names = append(names, optional[i])
		}
	}
	names = m.follow(h, names)
	least := h.minProps
	described := m.g.extras || h.others()
	switch {
	case !described || m.ends(depth):
	case most != none && most <= wide && m.r.Chance(1, 12):
		least = most
	case len(names) == 0 && len(optional) == 0: // all of it are members that have no names of their own
		if least = max(least, m.r.Below(5)); most != none {
			least = min(least, most)
		}
	}
	for more := 0; len(names) < least || described && room() && more == 0 && !m.ends(depth) &&
		m.r.Chance(1, 6); more++ {
		if more > 4*least+8 {
			break
		}
		if name, ok := m.newName(h, names); ok {
			names = m.follow(h, append(names, name))
		}
	}
	if len(names) < h.minProps || most != none && len(names) > most {
		return nil, errNothing
	}
	slices.Sort(names)
	names = slices.Compact(names)
	out := &object{make([]string, 0, len(names)), make([]any, 0, len(names))}
	for _, name := range names {
		if slices.Contains(h.forbidden, name) || !m.nameFits(h, name) {
			return nil, errNothing
		}
		m.under = name
		v, err := m.value(m.member(h, name), depth+1)
		if err != nil {
			if !slices.Contains(h.required, name) && len(names) > h.minProps && len(h.dependent) == 0 {
				continue // it may be left out
			}
			return nil, err
		}
		out.names, out.values = append(out.names, name), append(out.values, v)
	}
	if len(out.names) < h.minProps {
		return nil, errNothing
	}
	return out, nil
}

// others reports whether the schemas say what members may be that they do not name: those
// of a pattern, or all others. Where they only leave that open, it is nothing of theirs.
func (h *shape) others() bool {
	return slices.ContainsFunc(h.objects, func(o *schema) bool {
		return len(o.propOrder) > 0 || o.additional != nil && o.additional.always == nil
	})
}

// present reports whether a member that need not be there is to be: one in so many
// is, or as the schema says.
func (m *maker) present(h *shape, name string, share, depth int) bool {
	if !m.edges {
		for _, s := range m.member(h, name) {
			if s.made != nil && s.made.present >= 0 {
				return m.happens(s.made.present)
			}
		}
	}
	return !m.ends(depth) && m.r.Chance(1, share)
}

// optional returns the members that may be there and need not.
func (h *shape) optional() []string {
	if h.mayBe == nil {
		h.mayBe = []string{}
		for _, o := range h.objects {
			for _, name := range o.propNames {
				if !slices.Contains(h.required, name) && !slices.Contains(h.mayBe, name) &&
					!slices.Contains(h.forbidden, name) {
					h.mayBe = append(h.mayBe, name)
				}
			}
		}
	}
	return h.mayBe
}

// possible reports whether a member can have a value at all.
func (m *maker) possible(h *shape, name string, depth int) bool {
	for _, s := range m.member(h, name) {
		if s.cost >= endless || m.ends(depth) && s.cost > 2 {
			return false
		}
	}
	return m.nameFits(h, name)
}

// follow adds the names that others require (dependentRequired).
func (m *maker) follow(h *shape, names []string) []string {
	for i := 0; i < len(names); i++ {
		for _, d := range h.dependent {
			for _, need := range d.dependent[names[i]] {
				if !slices.Contains(names, need) {
					names = append(names, need)
				}
			}
		}
	}
	return names
}

// member returns the schemas that a member's value must fit.
func (m *maker) member(h *shape, name string) (list []*schema) {
	if list, ok := h.members[name]; ok {
		return list
	}
	list = m.memberOf(h, name)
	if h.members != nil && len(h.members) < mostMembers {
		h.members[name] = list
	}
	return list
}

// mostMembers bounds what is kept of the members of one object.
const mostMembers = 1000

func (m *maker) memberOf(h *shape, name string) (list []*schema) {
	evaluated := false
	for _, o := range h.objects {
		known := false
		if s := o.properties[name]; s != nil {
			list, known = append(list, s), true
		}
		for _, p := range o.propOrder {
			if matches(p, name) {
				list, known = append(list, o.patternProps[p]), true
			}
		}
		if !known && o.additional != nil {
			list, known = append(list, o.additional), true
		}
		evaluated = evaluated || known
	}
	if !evaluated {
		list = append(list, h.restProps...)
	}
	return list
}

func (m *maker) nameFits(h *shape, name string) bool {
	for _, n := range h.names {
		if !m.g.fits(n, name) {
			return false
		}
	}
	return true
}

// newName makes a name that no property has: of a pattern, or an additional one,
// where those are allowed.
func (m *maker) newName(h *shape, names []string) (string, bool) {
	var patterns []string
	for _, o := range h.objects {
		patterns = append(patterns, o.propOrder...)
	}
	m.under = ""
	for try := range tries {
		name := ""
		switch {
		case len(h.names) > 0 && m.r.Chance(3, 4):
			v, err := m.value(h.names, deep)
			s, ok := v.(string)
			if err != nil || !ok {
				continue
			}
			name = s
		case len(patterns) > 0 && m.r.Chance(3, 4):
			s, ok := m.pattern(patterns[m.r.Below(len(patterns))], 0, none)
			if !ok {
				continue
			}
			name = s
		default:
			name = m.word()
			if try > tries/4 { // the words are used up
				name += "-" + strconv.Itoa(len(names))
			}
		}
		if slices.Contains(names, name) || slices.Contains(h.forbidden, name) || !m.nameFits(h, name) {
			continue
		}
		good := true
		for _, s := range m.member(h, name) {
			good = good && s.cost < endless
		}
		if good {
			return name, true
		}
	}
	return "", false
}
