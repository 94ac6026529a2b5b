package generate

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"nightdrill.dev/internal/core/text"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

var words = strings.Fields(
	`anchor berth buoy cargo crew current deck drift ebb fare ferry flood fog gale gangway gull harbour haven
hull inlet jetty keel knot ladder lantern ledger locker mast moor oar passage pier pilot quay reef rigging
rope rudder sail salt shoal skerry slip sound spar steward strait tally tern tide tiller
vessel voyage wake warden watch wave wharf winch`)

func (m *maker) word() string { return words[m.r.Below(len(words))] }

// textTries is how often a text is made anew for a pattern, a format and a
// length that it must have together.
const textTries = 60

// chances is how many of those are left to chance where more than one thing must
// be met at once.
const chances = 6

// text makes a text of a length, of patterns and formats.
func (m *maker) text(h *shape) (any, error) {
	several := len(h.patterns)+len(h.formats)+len(h.without) > 1
	for n := range textTries {
		if m.slowPattern(h); m.refused != nil {
			return nil, errNothing
		}
		s, ok := "", false
		if len(h.patterns)+len(h.formats)+len(h.without) > 0 && (n >= chances || several && n%2 == 0) {
			if s, ok = m.meeting(h); !ok && n > 2*chances && len(h.patterns) > 0 {
				m.slowPattern(h)
				return nil, errNothing
			}
		}
		if !ok {
			s, ok = m.draft(h)
		}
		if !ok {
			continue
		}
		n := utf8.RuneCountInString(s)
		if n < h.minLength || h.maxLength != none && n > h.maxLength {
			continue
		}
		good := true
		for _, p := range h.patterns {
			good = good && matches(p, s)
		}
		for _, p := range h.without {
			good = good && !matches(p, s)
		}
		for _, f := range h.formats {
			good = good && (!several || HasFormat(f, s))
		}
		if good && len(h.patterns)+len(h.formats)+len(h.without) == 0 {
			return m.longer(s, h), nil
		}
		if good {
			return s, nil
		}
	}
	return nil, errNothing
}

// slowPattern refuses a pattern that timed out.
func (m *maker) slowPattern(h *shape) {
	for _, p := range slices.Concat(h.patterns, h.without) {
		if slow(p) {
			m.refuse("", "matching the pattern %s against a string of a few characters takes longer than %v: it "+
				"backtracks too much",
				p, text.Duration(patternPatience))
		}
	}
}

// HasFormat reports whether a string has one of the standard's formats, by the validator.
func HasFormat(format, s string) bool {
	v, ok := byFormat.Load(format)
	if !ok {
		c := Compiler(loading{nil})
		var compiled *jsonschema.Schema
		if err := c.AddResource(home, map[string]any{"format": format}); err == nil {
			compiled, _ = c.Compile(home) // a format by itself compiles
		}
		v, _ = byFormat.LoadOrStore(format, compiled)
	}
	compiled := v.(*jsonschema.Schema)
	return compiled == nil || compiled.Validate(s) == nil
}

var byFormat sync.Map // of compiled schemas by their one format

func (m *maker) draft(h *shape) (string, bool) {
	if len(h.patterns) > 0 && (len(h.formats) == 0 || m.r.Chance(1, 2)) {
		return m.pattern(h.patterns[m.r.Below(len(h.patterns))], h.minLength, h.maxLength)
	}
	if len(h.formats) > 0 {
		if make := formats[h.formats[m.r.Below(len(h.formats))]]; make != nil {
			return make(m), true
		}
	}
	if make := m.g.named(m.under); make != nil && len(h.patterns) == 0 && !m.edges && !m.r.Chance(1, 8) {
		if s := make(m); m.longEnough(s, h) {
			return s, true
		}
	}
	return m.prose(h.minLength, h.maxLength), true
}

// longEnough reports whether a text has a length that the shape takes.
func (m *maker) longEnough(s string, h *shape) bool {
	n := utf8.RuneCountInString(s)
	return n >= h.minLength && (h.maxLength == none || n <= h.maxLength)
}

// prose makes words of about a length.
func (m *maker) prose(lo, hi int) string {
	n := m.count(lo, hi, 16)
	if !m.takesRoom(n) {
		return ""
	}
	if m.edges && m.r.Chance(2, 3) {
		out := make([]rune, n)
		for i := range out {
			out[i] = corners[m.r.Below(len(corners))]
		}
		return string(out)
	}
	var b strings.Builder
	for b.Len() < n {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(m.word())
	}
	s := b.String()
	if hi == none && lo == 0 {
		return strings.TrimSpace(s)
	}
	// cut to the length; a space at the end would be lost on people
	if s = s[:n]; strings.HasSuffix(s, " ") {
		s = s[:n-1] + "s"
	}
	return s
}

// corners are characters that are often forgotten: outside of ASCII and of the
// first plane, of two widths, combining, written from the right, invisible, and
// those that JSON, HTML and shells mind.
var corners = []rune("éßñ船漢🚢👩\u0301\u200d\u202e\u2028\ufeffש\x00\t\n\r\x1f\x7f\"'\\\\/<>&%$;{} aZ09")

func (m *maker) digits(n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte('0' + m.r.Below(10))
	}
	return string(b)
}

func (m *maker) hex(n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = "0123456789abcdef"[m.r.Below(16)]
	}
	return string(b)
}

func (m *maker) between(lo, hi int) int { return lo + m.r.Below(hi-lo+1) }

func (m *maker) host() string {
	return m.word() + "-" + m.word() + "." + []string{"example", "test", "invalid"}[m.r.Below(3)]
}

func (m *maker) date() string {
	return fmt.Sprintf("%04d-%02d-%02d", m.between(1970, 2099), m.between(1, 12), m.between(1, 28))
}

func (m *maker) time() string {
	s := fmt.Sprintf("%02d:%02d:%02d", m.between(0, 23), m.between(0, 59), m.between(0, 59))
	if m.r.Chance(1, 3) {
		s += "." + m.digits(m.between(1, 6))
	}
	if m.r.Chance(1, 2) {
		return s + "Z"
	}
	return s + fmt.Sprintf("%s%02d:%02d", []string{"+", "-"}[m.r.Below(2)], m.between(0, 13),
		[]int{0, 30, 45}[m.r.Below(3)])
}

func (m *maker) path() string {
	s := ""
	for range m.between(0, 3) {
		s += "/" + m.word()
	}
	return s
}

// formats are those of the standard (JSON Schema 2020-12, Validation §7.3).
var formats = map[string]func(*maker) string{
	"date":      (*maker).date,
	"time":      (*maker).time,
	"date-time": func(m *maker) string { return m.date() + "T" + m.time() },
	"duration": func(m *maker) string {
		return []string{fmt.Sprintf("PT%dM", m.between(1, 90)), fmt.Sprintf("P%dDT%dH", m.between(1, 30),
			m.between(1, 23)), fmt.Sprintf("P%dW", m.between(1, 52))}[m.r.Below(3)]
	},
	"email":     func(m *maker) string { return m.word() + "." + m.word() + "@" + m.host() },
	"idn-email": func(m *maker) string { return m.word() + "@" + m.host() },
	"hostname":  (*maker).host, "idn-hostname": (*maker).host,
	"ipv4": func(m *maker) string {
		return fmt.Sprintf("192.0.2.%d", m.between(0, 255)) // for documentation (RFC 5737)
	},
	"ipv6":                  func(m *maker) string { return "2001:db8::" + strings.TrimLeft(m.hex(3), "0") + "1" },
	"uuid":                  (*maker).uuid,
	"uri":                   func(m *maker) string { return "https://" + m.host() + m.path() },
	"iri":                   func(m *maker) string { return "https://" + m.host() + m.path() },
	"uri-reference":         func(m *maker) string { return m.path() + "?" + m.word() + "=" + m.digits(2) },
	"iri-reference":         func(m *maker) string { return m.path() + "#" + m.word() },
	"uri-template":          func(m *maker) string { return m.path() + "/{" + m.word() + "}" },
	"json-pointer":          func(m *maker) string { return m.path() },
	"relative-json-pointer": func(m *maker) string { return fmt.Sprint(m.between(0, 3)) + m.path() },
	"regex":                 func(m *maker) string { return "^" + m.word() + "[0-9]+$" },
}

// uuid makes a random UUID (RFC 9562 §5.4).
func (m *maker) uuid() string {
	const form = "xxxxxxxx-xxxx-4xxx-8xxx-xxxxxxxxxxxx"
	var b [len(form)]byte
	bits, left := uint64(0), 0
	for i := range b {
		if b[i] = form[i]; form[i] != 'x' {
			continue
		}
		if left == 0 {
			bits, left = m.r.Uint64(), 16
		}
		b[i] = "0123456789abcdef"[bits&15]
		bits, left = bits>>4, left-1
	}
	return string(b[:])
}
