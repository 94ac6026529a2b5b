package generate

import (
	"encoding/json"
	"fmt"
	"math/big"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/rng"
)

// Keyword is the annotation by which a schema says how its values are spread. It
// allows and forbids nothing.
const Keyword = "x-made"

// annotation is what the keyword says at one place.
type annotation struct {
	at string

	mean, deviation *big.Rat // normal
	median          *big.Rat // lognormal
	spread          int64    // of it, as a power of two, in units of 2^-fraction
	zipf            []uint64 // weights of the ranks, running totals
	values          []any    // of the enum beside it
	weights         []uint64 // of those, running totals
	unique          bool
	sequence        bool
	from, step      *big.Rat
	text            string // of a sequence, with a %d in it
	begin           time.Time
	every           time.Duration

	types          []string // and how often each of them comes
	oftenAs        []uint64 // running totals
	nulls, present share
	shared         string
	pool           string
	poolOf         []uint64 // weights of its members, running totals
}

// share is a part of a million; negative for none given.
type share int

const million = 1_000_000

// annotate reads the keyword.
func annotate(v any, s *schema) (*annotation, error) {
	wrong := func(format string, args ...any) (*annotation, error) {
		return nil, &Refused{s.place + "/" + Keyword, fmt.Sprintf(format, args...)}
	}
	m, ok := v.(map[string]any)
	if !ok {
		return wrong("%s must be an object such as {\"normal\": {\"mean\": 20, \"deviation\": 4}}", Keyword)
	}
	a := &annotation{at: s.place, values: s.enum, nulls: -1, present: -1}
	var err error
	spreads := 0
	for _, key := range sorted(m) {
		o, _ := m[key].(map[string]any)
		get := func(name string) *big.Rat {
			r := rat(o[name])
			if r == nil && err == nil {
				err = fmt.Errorf("%s: %s is missing, or is not a number", key, name)
			}
			return r
		}
		switch key {
		case "uniform":
			spreads++
		case "normal":
			spreads++
			a.mean, a.deviation = get("mean"), get("deviation")
		case "lognormal":
			spreads++
			a.median = get("median")
			if r := get("spread"); r != nil && r.Cmp(big.NewRat(1, 1)) >= 0 && r.Cmp(big.NewRat(1000, 1)) <= 0 {
				a.spread = binaryLog(r)
			} else if err == nil {
				err = fmt.Errorf("lognormal: spread must be a factor from 1 to 1000: two thirds of the values lie " +
					"within the median divided and multiplied by it")
			}
		case "zipf":
			spreads++
			a.zipf, err = zipf(o, err)
		case "weights":
			spreads++
			a.weights, err = weights(list(m[key]), len(s.enum))
		case "unique":
			a.unique, _ = m[key].(bool)
			spreads++
		case "sequence":
			spreads++
			err = a.readSequence(o)
		case "nulls":
			a.nulls, err = readShare(key, m[key])
		case "present":
			a.present, err = readShare(key, m[key])
		case "types":
			for _, name := range sorted(o) {
				a.types = append(a.types, name)
				if kindNames[name] == 0 {
					err = fmt.Errorf("types: %q is not a type", name)
				}
			}
			if err == nil {
				var each []any
				for _, name := range a.types {
					each = append(each, o[name])
				}
				a.oftenAs, err = weights(each, len(each))
			}
		case "shared":
			a.shared, _ = m[key].(string)
		case "pool":
			if a.pool, _ = o["name"].(string); a.pool == "" {
				a.pool = s.place
			}
			a.poolOf, err = zipf(map[string]any{"of": o["size"], "exponent": orZero(o["exponent"])}, err)
		default:
			return wrong("unknown %q; available: uniform, normal, lognormal, zipf, weights, unique, sequence, types, "+
				"nulls, present, shared and pool", key)
		}
		if err != nil {
			return wrong("%v", err)
		}
	}
	if spreads > 1 {
		return wrong("a value has one of uniform, normal, lognormal, zipf, weights, unique and sequence")
	}
	return a, nil
}

func orZero(v any) any {
	if v == nil {
		return json.Number("0")
	}
	return v
}

func readShare(name string, v any) (share, error) {
	r := rat(v)
	if r == nil || r.Sign() < 0 || r.Cmp(big.NewRat(1, 1)) > 0 {
		return 0, fmt.Errorf("%s must be a share from 0 to 1", name)
	}
	return share(quotient(new(big.Rat).Mul(r, big.NewRat(million, 1)), big.NewRat(1, 1), false).Int64()), nil
}

// mostRanks bounds the ranks of a zipf distribution and the members of a pool.
const mostRanks = 100_000

// zipf returns the running totals of weights 1/k^exponent, in whole numbers.
func zipf(o map[string]any, before error) ([]uint64, error) {
	n, e := rat(o["of"]), rat(orZero(o["exponent"]))
	if o["exponent"] == nil {
		e = big.NewRat(1, 1)
	}
	if n == nil || !n.IsInt() || n.Sign() <= 0 || n.Cmp(big.NewRat(mostRanks, 1)) > 0 {
		return nil, fmt.Errorf("expected a whole number from 1 to %d", mostRanks)
	}
	twice := new(big.Rat).Mul(e, big.NewRat(2, 1))
	if !twice.IsInt() || twice.Sign() < 0 || twice.Cmp(big.NewRat(8, 1)) > 0 {
		return nil, fmt.Errorf("exponent must be 0, 0.5, 1 and so on up to 4")
	}
	out, total := make([]uint64, n.Num().Int64()), uint64(0)
	for k := range out {
		// 2^40 / k^e by whole roots: the same on every machine
		power := new(big.Int).Exp(big.NewInt(int64(k+1)), twice.Num(), nil)
		square := new(big.Int).Lsh(big.NewInt(1), 80)
		total += max(square.Sqrt(square.Div(square, power)).Uint64(), 1)
		out[k] = total
	}
	return out, before
}

// weights returns the running totals of the weights of an enum's values.
func weights(given []any, n int) ([]uint64, error) {
	if len(given) != n || n == 0 {
		return nil, fmt.Errorf("%d weights, but the enum beside them has %d values", len(given), n)
	}
	var out []uint64
	total := uint64(0)
	for _, v := range given {
		r := rat(v)
		if r == nil || r.Sign() < 0 || r.Cmp(big.NewRat(1e9, 1)) > 0 {
			return nil, fmt.Errorf("a weight must be a number from 0 to 1000000000")
		}
		total += quotient(new(big.Rat).Mul(r, big.NewRat(1000, 1)), big.NewRat(1, 1), false).Uint64()
		out = append(out, total)
	}
	if total == 0 {
		return nil, fmt.Errorf("all weights are 0")
	}
	return out, nil
}

func (a *annotation) readSequence(o map[string]any) (err error) {
	a.sequence, a.from, a.step = true, big.NewRat(1, 1), big.NewRat(1, 1)
	for _, key := range sorted(o) {
		text, isText := o[key].(string)
		switch {
		case key == "from" && isText:
			if a.begin, err = time.Parse(time.RFC3339Nano, text); err != nil {
				return fmt.Errorf("sequence: from must be a number or an RFC 3339 time, not %q", text)
			}
		case key == "from" && rat(o[key]) != nil:
			a.from = rat(o[key])
		case key == "step" && rat(o[key]) != nil:
			a.step = rat(o[key])
		case key == "every" && isText:
			if a.every, err = time.ParseDuration(text); err != nil {
				return fmt.Errorf("sequence: every must be a duration such as 2s, not %q", text)
			}
		case key == "text" && isText && sequenceForm(text):
			a.text = text
		default:
			return fmt.Errorf("sequence: invalid %s; available: from, step, every (a duration) and text (with %%d or "+
				"%%06d in it)", key)
		}
	}
	if !a.begin.IsZero() && a.every == 0 {
		a.every = time.Second
	}
	return nil
}

// sequenceForm reports whether a text has one place for a whole number, and none
// for anything else.
func sequenceForm(text string) bool {
	_, rest, ok := strings.Cut(strings.ReplaceAll(text, "%%", ""), "%")
	rest = strings.TrimLeft(rest, "0123456789")
	return ok && strings.HasPrefix(rest, "d") && !strings.Contains(rest, "%") && len(fmt.Sprintf(text, 1)) < 1000
}

// ranked picks a rank by running totals, from 0.
func (m *maker) ranked(totals []uint64) int {
	hi, _ := bits.Mul64(m.r.Uint64(), totals[len(totals)-1])
	i, found := slices.BinarySearch(totals, hi)
	if found { // a value at a total belongs to the next
		i++
	}
	return i
}

func (m *maker) happens(s share) bool { return m.r.Below(million) < int(s) }

// annotated makes a value as the keyword says; ok is false where it says nothing
// of it, or where what it says does not fit.
func (m *maker) annotated(h *shape, list []*schema, depth int) (v any, ok bool) {
	a := h.made
	if a.nulls >= 0 && h.kinds&kNull != 0 {
		if m.happens(a.nulls) {
			return nil, true
		}
		h = h.clone()
		h.kinds &^= kNull
	}
	if a.types != nil {
		name := a.types[m.ranked(a.oftenAs)]
		if h.kinds&kindNames[name] != 0 {
			h = h.clone()
			h.kinds, h.integer = kindNames[name], h.integer || name == "integer"
		}
	}
	if a.shared != "" {
		if v, ok := m.shared[a.shared]; ok && m.takes(list, v) {
			return v, true
		}
		// it is to fit wherever it is shared, if that can be
		everywhere := m.g.sharing[a.shared]
		if all, err := m.flatten(everywhere, depth); err == nil && len(everywhere) > 1 {
			h, list = all, everywhere
		}
		defer func() {
			if ok {
				m.shared[a.shared] = v
			}
		}()
	}
	if a.poolOf != nil {
		mine, i := m.r, m.ranked(a.poolOf)
		m.r = rng.New(m.seed^hash(a.pool), uint64(i))
		defer func() { m.r = mine }()
	}
	for range tries {
		v, ok = m.spread(h)
		if !ok {
			var err error
			if v, err = m.fill(h, depth); err != nil {
				return nil, false
			}
		}
		if m.takes(list, v) {
			return v, true
		}
	}
	return nil, false
}

func hash(s string) uint64 { // FNV-1a
	h := uint64(14695981039346656037)
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * 1099511628211
	}
	return h
}

// spread draws a value by the distribution.
func (m *maker) spread(h *shape) (any, bool) {
	a := h.made
	var r *big.Rat
	switch {
	case m.edges && !a.unique && !a.sequence:
		return nil, false
	case a.weights != nil && h.listed:
		return a.values[m.ranked(a.weights)], true
	case a.zipf != nil && h.listed:
		return h.values[min(m.ranked(a.zipf), len(h.values)-1)], true
	case a.zipf != nil:
		r = big.NewRat(int64(m.ranked(a.zipf))+1, 1)
		if h.min != nil { // ranks begin at the least value
			r.Add(r, h.min).Sub(r, big.NewRat(1, 1))
		}
	case a.mean != nil:
		r = new(big.Rat).SetFrac(big.NewInt(m.normal()), big.NewInt(1<<fraction))
		r.Mul(r, a.deviation).Add(r, a.mean)
	case a.median != nil:
		z := m.normal()
		hi, lo := bits.Mul64(uint64(max(z, -z)), uint64(a.spread))
		r = binaryPower(int64(hi<<(64-fraction) | lo>>fraction))
		if z < 0 {
			r.Inv(r)
		}
		r.Mul(r, a.median)
	case a.sequence:
		return m.inSequence(a, h)
	case a.unique:
		return m.own(h)
	default:
		return nil, false
	}
	return rounded(r, h), true
}

// rounded returns the nearest number that a shape's steps allow.
func rounded(r *big.Rat, h *shape) json.Number {
	step := h.step
	if h.integer {
		step = common(step, big.NewRat(1, 1))
	}
	if step == nil {
		step = big.NewRat(1, 100)
		for i := 0; i < 12 && new(big.Rat).Mul(step, big.NewRat(100, 1)).Cmp(new(big.Rat).Abs(r)) > 0 &&
			r.Sign() != 0; i++ {
			step = new(big.Rat).Mul(step, big.NewRat(1, 10))
		}
	}
	half := new(big.Rat).Add(r, new(big.Rat).Mul(step, big.NewRat(1, 2)))
	return number(new(big.Rat).Mul(new(big.Rat).SetInt(quotient(half, step, false)), step))
}

// inSequence returns the value of the payload's number.
func (m *maker) inSequence(a *annotation, h *shape) (any, bool) {
	if !a.begin.IsZero() {
		return a.begin.Add(time.Duration(m.n) * a.every).Format(time.RFC3339Nano), true
	}
	r := new(big.Rat).SetInt(new(big.Int).SetUint64(m.n))
	r.Mul(r, a.step).Add(r, a.from)
	if a.text != "" || h.kinds&kNumber == 0 {
		form := a.text
		if form == "" {
			form = "%d"
		}
		return fmt.Sprintf(form, quotient(r, big.NewRat(1, 1), false)), true
	}
	return number(r), true
}

// own returns a value that no other payload of the seed has at this place.
func (m *maker) own(h *shape) (any, bool) {
	if h.kinds&kNumber != 0 {
		lo, hi, ok := h.smallIntegers()
		if !ok {
			return nil, false
		}
		if h.min == nil && h.max == nil {
			lo, hi = 1, 1<<40
		}
		span := uint64(hi - lo + 1)
		step := rng.New(m.seed, hash(h.made.at)).Uint64() | 1
		for gcd(step%span, span) != 1 && span > 1 { // steps through all of them before any comes again
			step += 2
			if step%span == 0 {
				step = 1
			}
		}
		up, low := bits.Mul64(m.n%span, step%span)
		_, at := bits.Div64(up%span, low, span)
		return json.Number(strconv.FormatInt(lo+int64(at), 10)), true
	}
	if h.kinds&kString == 0 {
		return nil, false
	}
	place := rng.New(m.seed, hash(h.made.at))
	mixed := (m.n + 1) * (place.Uint64() | 1) // an odd factor maps no two numbers to one
	if slices.Contains(h.formats, "uuid") {
		first := place.Uint64()
		return fmt.Sprintf("%08x-%04x-4%03x-8%03x-%08x%04x", uint32(mixed>>32), uint16(mixed>>16), uint16(mixed)>>4,
			uint16(mixed)&15, uint32(first), uint16(first>>32)), true
	}
	return m.word() + "-" + strconv.FormatUint(mixed, 36), true
}

func gcd(a, b uint64) uint64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// fraction is how many binary places whole-number arithmetic has here.
const fraction = 32

// normal draws from a normal distribution of mean 0 and deviation 1, in units of
// 2^-fraction: the sum of twelve uniform numbers, less six.
func (m *maker) normal() int64 {
	sum := int64(0)
	for range 12 {
		sum += int64(m.r.Uint64() >> 32)
	}
	return sum - 6<<32
}

// roots are 2^(1/2), 2^(1/4) and so on, in units of 2^-62.
var roots = func() (out [fraction]*big.Int) {
	x := new(big.Int).Lsh(big.NewInt(1), 63) // 2, in units of 2^-62
	for i := range out {
		x = new(big.Int).Sqrt(new(big.Int).Lsh(x, 62))
		out[i] = x
	}
	return out
}()

// binaryPower returns 2 to a power in units of 2^-fraction, not below 0.
func binaryPower(power int64) *big.Rat {
	x := new(big.Int).Lsh(big.NewInt(1), 62)
	for i, root := range roots {
		if power>>(fraction-1-i)&1 != 0 {
			x.Rsh(x.Mul(x, root), 62)
		}
	}
	x.Lsh(x, uint(min(power>>fraction, 1000)))
	return new(big.Rat).SetFrac(x, new(big.Int).Lsh(big.NewInt(1), 62))
}

// binaryLog returns the binary logarithm of a number from 1 on, in units of
// 2^-fraction.
func binaryLog(r *big.Rat) (out int64) {
	two := big.NewRat(2, 1)
	x := new(big.Rat).Set(r)
	for x.Cmp(two) >= 0 {
		x.Quo(x, two)
		out++
	}
	for range fraction {
		out <<= 1
		x.Mul(x, x)
		if x.Cmp(two) >= 0 {
			x.Quo(x, two)
			out |= 1
		}
		// as many places as matter, or they would double each time
		x.SetFrac(new(big.Int).Quo(new(big.Int).Lsh(x.Num(), 80), x.Denom()), new(big.Int).Lsh(big.NewInt(1), 80))
	}
	return out
}
