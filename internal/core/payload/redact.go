package payload

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
)

// StandIn is what a stand-in for a secret begins with; 16 hexadecimal digits follow.
const StandIn = "redacted-"

var standIn = regexp.MustCompile(StandIn + "[0-9a-f]{16}")

// Redactor replaces secrets with stand-ins. Equal secrets of a set have equal stand-ins, from which
// no one without the key can find the secret.
type Redactor struct {
	Key      []byte   // of the project; no one else knows it
	Set      string   // the payload set
	Pointers []string // JSON Pointers into data and bodies, with * for any member
	Looks    bool     // what only looks like a secret is redacted too

	parsed [][]string // of Pointers
}

// Prepare reads the pointers, after which Apply is safe for several goroutines.
func (r *Redactor) Prepare() { r.patterns() }

// patterns returns the pointers, read.
func (r *Redactor) patterns() [][]string {
	for _, p := range r.Pointers[len(r.parsed):] {
		names, _ := jsondiff.Parse(p) // one that is none was refused when it was given
		r.parsed = append(r.parsed, names)
	}
	return r.parsed
}

// Spot is a place of a payload at which something was redacted, or should perhaps be.
type Spot struct {
	Where string // such as header Authorization, query token, or data /user/email
	What  string // such as e-mail address; "" for what is always redacted
}

func (s Spot) String() string {
	if s.What == "" {
		return s.Where
	}
	return s.Where + " (" + s.What + ")"
}

// Tally counts, by their places, what was redacted and what was left although it
// looks like a secret.
type Tally struct{ Redacted, Suspects map[string]int }

// Add counts what Apply gave.
func (t *Tally) Add(redacted, suspects []Spot) {
	if t.Redacted == nil {
		t.Redacted, t.Suspects = map[string]int{}, map[string]int{}
	}
	for _, s := range redacted {
		t.Redacted[s.String()]++
	}
	for _, s := range suspects {
		t.Suspects[s.String()]++
	}
}

// SecretHeader reports whether a header's value is not to be kept or shown.
func SecretHeader(name string) bool {
	name = strings.ToLower(name)
	for _, part := range []string{"authorization", "cookie", "token", "secret", "api-key", "apikey", "access-key",
		"password", "credential", "session-id", "signature"} {
		if strings.Contains(name, part) {
			return true
		}
	}
	return false
}

// secretQuery are parameters whose values are secrets.
var secretQuery = []string{"key", "api_key", "apikey", "api-key", "token", "access_token", "refresh_token", "id_token",
	"auth", "password", "passwd", "pwd", "secret", "client_secret", "signature", "sig", "session", "session_id",
	"sessionid", "sid"}

// SecretParameter reports whether a query parameter's value is not to be kept or shown.
func SecretParameter(name string) bool { return slices.Contains(secretQuery, strings.ToLower(name)) }

// Short bounds what is shown of a text, in characters.
func Short(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// Line returns the beginning of a body in one line, of at most so many characters.
func Line(body []byte, most int) string {
	cut := len(body) > 8*most // what is not shown need not be looked at
	if cut {
		body = body[:8*most]
	}
	line := Short(strings.Join(strings.Fields(strings.ToValidUTF8(string(body), "·")), " "), most)
	if cut && !strings.HasSuffix(line, "…") {
		line += "…"
	}
	return line
}

// Hidden stands for a secret where it is shown or kept.
const Hidden = "••••••"

// ShownTarget returns a request's target as it may be shown: without the values of
// secret parameters, stand-ins excepted.
func ShownTarget(target string) string {
	path, query, ok := strings.Cut(target, "?")
	if !ok {
		return target
	}
	parts := strings.Split(query, "&")
	for i, part := range parts {
		name, value, _ := strings.Cut(part, "=")
		if plain, err := url.QueryUnescape(name); err == nil && SecretParameter(plain) && value != "" &&
			!standIn.MatchString(value) {
			parts[i] = name + "=" + Hidden
		}
	}
	return path + "?" + strings.Join(parts, "&")
}

// WithoutHidden returns a target that was kept as [ShownTarget] gives it without
// the parameters that are hidden there, and reports whether there were any.
func WithoutHidden(target string) (string, bool) {
	path, query, _ := strings.Cut(target, "?")
	parts := strings.Split(query, "&")
	left := slices.DeleteFunc(slices.Clone(parts),
		func(part string) bool { return strings.HasSuffix(part, "="+Hidden) })
	if len(left) == len(parts) {
		return target, false
	}
	if len(left) > 0 {
		path += "?"
	}
	return path + strings.Join(left, "&"), true
}

// Shown returns a request as it may be shown: the values of secret headers and
// parameters hidden, stand-ins excepted.
func Shown(r *event.Request) *event.Request {
	c := *r
	c.Target, c.Header = ShownTarget(r.Target), slices.Clone(r.Header)
	for i, h := range c.Header {
		if SecretHeader(h.Name) && !standIn.MatchString(h.Value) {
			c.Header[i].Value = Hidden
		}
	}
	return &c
}

// standInFor returns the stand-in of a secret.
func (r *Redactor) standInFor(secret string) string {
	mac := hmac.New(sha256.New, r.Key)
	fmt.Fprintf(mac, "%s\x00%s", r.Set, secret)
	return StandIn + hex.EncodeToString(mac.Sum(nil)[:8])
}

// Apply returns the payload with stand-ins, where they stand, and what looks like a
// secret and was left. The payload that is given stays as it is.
func (r *Redactor) Apply(p Payload) (out Payload, redacted, suspects []Spot) {
	out = p
	x := redaction{Redactor: r}
	if p.Request != nil {
		q := *p.Request
		q.Target = x.target(q.Target)
		q.Header = x.headers("header ", q.Header)
		q.Body = x.body("body", q.Body, event.Value(q.Header, "Content-Type"))
		out.Request = &q
	} else {
		e := *p.Event
		e.Subject = x.text("subject", e.Subject)
		e.Extensions = slices.Clone(e.Extensions)
		for i := range e.Extensions {
			e.Extensions[i].Value = x.text("attribute "+e.Extensions[i].Name, e.Extensions[i].Value)
		}
		if !e.Binary {
			e.Data = x.body("data", e.Data, e.DataContentType)
		}
		out.Event = &e
	}
	if p.Reply != nil {
		reply := *p.Reply
		reply.Header = x.headers("reply's header ", reply.Header)
		reply.Body = x.body("reply", reply.Body, event.Value(reply.Header, "Content-Type"))
		out.Reply = &reply
	}
	x.again(&out)
	return out, x.redacted, x.suspects
}

// Headers returns headers of a message with secrets redacted.
func (r *Redactor) Headers(all []event.Field) (out []event.Field, redacted, suspects []Spot) {
	x := redaction{Redactor: r}
	out = x.headers("header ", all)
	return out, x.redacted, x.suspects
}

// again takes what was redacted at one place out of bodies that repeat it.
func (x *redaction) again(p *Payload) {
	clean := func(b []byte) []byte {
		for secret, other := range x.secrets {
			b = bytes.ReplaceAll(b, []byte(secret), []byte(other))
		}
		return b
	}
	if len(x.secrets) == 0 {
		return
	}
	if p.Request != nil {
		p.Request.Body = clean(p.Request.Body)
	} else if !p.Event.Binary {
		p.Event.Data = clean(p.Event.Data)
	}
	if p.Reply != nil {
		p.Reply.Body = clean(p.Reply.Body)
	}
}

// shortestAgain is the shortest secret that is looked for everywhere.
const shortestAgain = 8

// redaction is one payload on its way.
type redaction struct {
	*Redactor
	secrets            map[string]string // and their stand-ins
	redacted, suspects []Spot
}

func (x *redaction) replace(where, secret string) string {
	if secret == "" || standIn.MatchString(secret) {
		return secret
	}
	x.redacted = append(x.redacted, Spot{Where: where})
	other := x.standInFor(secret)
	if len(secret) >= shortestAgain && !strings.ContainsAny(secret, "\"\\\n") {
		if x.secrets == nil {
			x.secrets = map[string]string{}
		}
		x.secrets[secret] = other
	}
	return other
}

func (x *redaction) target(target string) string {
	path, query, ok := strings.Cut(target, "?")
	path = x.text("path", path)
	if !ok {
		return path
	}
	return path + "?" + x.pairs("query ", query)
}

// pairs redacts name=value pairs, in their order.
func (x *redaction) pairs(where, text string) string {
	parts := strings.Split(text, "&")
	for i, part := range parts {
		name, value, ok := strings.Cut(part, "=")
		plainName, err := url.QueryUnescape(name)
		plain, err2 := url.QueryUnescape(value)
		if !ok || err != nil || err2 != nil {
			continue
		}
		other := plain
		if SecretParameter(plainName) {
			other = x.replace(where+plainName, plain)
		} else {
			other = x.text(where+plainName, plain)
		}
		if other != plain {
			parts[i] = name + "=" + url.QueryEscape(other)
		}
	}
	return strings.Join(parts, "&")
}

func (x *redaction) headers(where string, header []event.Field) []event.Field {
	out := slices.Clone(header)
	for i, h := range out {
		lower := strings.ToLower(h.Name)
		switch {
		case lower == "cookie":
			cookies := strings.Split(h.Value, ";")
			for n, c := range cookies {
				name, value, _ := strings.Cut(c, "=")
				cookies[n] = name + "=" + x.replace(where+h.Name, value)
			}
			out[i].Value = strings.Join(cookies, ";")
		case lower == "set-cookie":
			first, rest, more := strings.Cut(h.Value, ";")
			name, value, _ := strings.Cut(first, "=")
			if out[i].Value = name + "=" + x.replace(where+h.Name, value); more {
				out[i].Value += ";" + rest
			}
		case SecretHeader(h.Name):
			scheme, value, ok := strings.Cut(h.Value, " ")
			if ok && strings.HasSuffix(lower, "authorization") {
				out[i].Value = scheme + " " + x.replace(where+h.Name, value)
			} else {
				out[i].Value = x.replace(where+h.Name, h.Value)
			}
		case lower == "referer" && strings.Contains(h.Value, "?"):
			out[i].Value = x.target(h.Value)
		default:
			out[i].Value = x.text(where+h.Name, h.Value)
		}
	}
	return out
}

// body redacts what is text in a body.
func (x *redaction) body(where string, body []byte, kind string) []byte {
	if len(body) == 0 || !utf8.Valid(body) || bytes.IndexByte(body, 0) >= 0 {
		return body
	}
	if strings.HasPrefix(kind, "application/x-www-form-urlencoded") {
		return []byte(x.pairs(where+" ", string(body)))
	}
	text := string(body)
	if len(x.Pointers) == 0 && signs(text) == 0 {
		return body
	}
	if event.IsJSON(kind) {
		if v, err := jsondiff.Decode(body); err == nil {
			before := len(x.redacted)
			v = x.value(where, nil, v)
			if len(x.redacted) == before {
				return body
			}
			var b bytes.Buffer
			enc := json.NewEncoder(&b)
			enc.SetEscapeHTML(false)
			if enc.Encode(v) == nil { // it was decoded from JSON
				return bytes.TrimRight(b.Bytes(), "\n")
			}
		}
		return body
	}
	if other := x.text(where, text); other != text {
		return []byte(other)
	}
	return body
}

// value redacts within a decoded value.
func (x *redaction) value(where string, at []string, v any) any {
	for _, names := range x.patterns() {
		if !jsondiff.Covers(names, at) {
			continue
		}
		place := where + " " + jsondiff.Pointer(at)
		switch v := v.(type) {
		case string:
			return x.replace(place, v)
		case json.Number:
			x.redacted = append(x.redacted, Spot{Where: place})
			return x.numberFor(v)
		case nil, bool:
			return v
		}
		text, _ := json.Marshal(v) // it was decoded from JSON
		return x.replace(place, string(text))
	}
	below := func(name string) []string { return append(at, name) } // no two are used at once
	switch v := v.(type) {
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			v[name] = x.value(where, below(name), v[name])
		}
	case []any:
		for i := range v {
			v[i] = x.value(where, below(strconv.Itoa(i)), v[i])
		}
	case string:
		return x.textAt(where, at, v)
	case json.Number:
		if cardNumber(string(v)) {
			place := Spot{where + " " + jsondiff.Pointer(at), "card number"}
			if x.Looks {
				x.redacted = append(x.redacted, place)
				return x.numberFor(v)
			}
			x.suspects = append(x.suspects, place)
		}
	}
	return v
}

// numberFor returns a number of as many digits in the place of another.
func (x *redaction) numberFor(n json.Number) json.Number {
	mac := hmac.New(sha256.New, x.Key)
	fmt.Fprintf(mac, "%s\x00%s", x.Set, n)
	sum := mac.Sum(nil)
	out := []byte(n)
	for i, c := range out {
		if c >= '1' && c <= '9' {
			out[i] = '1' + sum[i%len(sum)]%9
		}
	}
	return json.Number(out)
}

// suspects are what looks like a secret, each with where in a text it is.
var suspects = []struct {
	what string
	sign sign
	find func(text string) [][]int
}{
	{"signed token", signToken, all(`eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*`, nil)},
	{"private key", signKey, all(`-----BEGIN [A-Z ]*PRIVATE KEY-----(?s:.*?)(?:-----END [A-Z ]*PRIVATE KEY-----|$)`,
		nil)},
	{"e-mail address", signMail, all(`[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)*\.[A-Za-z]{2,}`, nil)},
	{"card number", signCard, all(`\b[0-9](?:[ -]?[0-9]){12,18}\b`, cardNumber)},
	{"key or token", signRun, randomRuns},
}

func all(pattern string, is func(string) bool) func(string) [][]int {
	compiled := regexp.MustCompile(pattern)
	return func(text string) [][]int {
		return slices.DeleteFunc(compiled.FindAllStringIndex(text, -1), func(at []int) bool {
			return is != nil && !is(text[at[0]:at[1]])
		})
	}
}

// sign is what a text has without which there is no secret of a kind in it.
type sign uint8

const (
	signToken sign = 1 << iota
	signKey
	signMail
	signCard
	signRun
)

const (
	// shortestKey and longestKey are the lengths of what may be a key.
	shortestKey, longestKey = 24, 512
	shortestCard            = 13
)

// signs finds quickly which marks of secrets a text contains.
func signs(text string) (out sign) {
	run, digits := 0, 0
	for i := range len(text) {
		switch byteClasses[text[i]] {
		case classKey:
			digits = 0
			if run++; run >= shortestKey {
				out |= signRun
			}
		case classDigit:
			if digits++; digits >= shortestCard {
				out |= signCard
			}
			if run++; run >= shortestKey {
				out |= signRun
			}
		case classDash:
			if run++; run >= shortestKey {
				out |= signRun
			}
		case classSpace:
			run = 0
		case classAt:
			out |= signMail
			run, digits = 0, 0
		default:
			run, digits = 0, 0
		}
	}
	if out&signRun != 0 && strings.Contains(text, "eyJ") {
		out |= signToken
	}
	if strings.Contains(text, "PRIVATE KEY") {
		out |= signKey
	}
	return out
}

// classes of bytes, of which texts are looked through quickly.
const (
	classOther = iota
	classKey
	classDigit
	classDash
	classSpace
	classAt
)

var byteClasses = func() (out [256]uint8) {
	for c := range out {
		switch b := byte(c); {
		case b == '@':
			out[c] = classAt
		case b >= '0' && b <= '9':
			out[c] = classDigit
		case b == '-':
			out[c] = classDash
		case b == ' ':
			out[c] = classSpace
		case keyByte(b):
			out[c] = classKey
		}
	}
	return out
}()

func keyByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '+' || c == '/' ||
		c == '-'
}

// randomRuns finds what looks as if it were drawn by chance.
func randomRuns(text string) (out [][]int) {
	for i := 0; i < len(text); i++ {
		begin := i
		for i < len(text) && keyByte(text[i]) {
			i++
		}
		if n := i - begin; n >= shortestKey && n <= longestKey && random(text[begin:i]) {
			out = append(out, []int{begin, i})
		}
	}
	return out
}

// text replaces what looks like a secret in a text.
func (x *redaction) text(where, text string) string { return x.textAt(where, nil, text) }

// textAt is text at a place within a decoded value.
func (x *redaction) textAt(where string, at []string, text string) string {
	if len(text) < 6 {
		return text
	}
	has := signs(text)
	if has == 0 {
		return text
	}
	for _, s := range suspects {
		if has&s.sign == 0 {
			continue
		}
		found := slices.DeleteFunc(s.find(text), func(at []int) bool { return standIn.MatchString(text[at[0]:at[1]]) })
		if len(found) == 0 {
			continue
		}
		place := Spot{where, s.what}
		if at != nil {
			place.Where += " " + jsondiff.Pointer(at)
		}
		if !x.Looks {
			x.suspects = append(x.suspects, place)
			continue
		}
		x.redacted = append(x.redacted, place)
		var b strings.Builder
		last := 0
		for _, at := range found {
			b.WriteString(text[last:at[0]] + x.standInFor(text[at[0]:at[1]]))
			if last = at[1]; s.what == "e-mail address" {
				b.WriteString("@redacted.invalid")
			}
		}
		text = b.String() + text[last:]
	}
	return text
}

// cardNumber reports whether digits have the check digit of a card's number
// (ISO/IEC 7812-1, Annex B).
func cardNumber(text string) bool {
	sum, n := 0, 0
	for i := len(text) - 1; i >= 0; i-- {
		c := text[i]
		if c == ' ' || c == '-' {
			continue
		}
		if c < '0' || c > '9' {
			return false
		}
		d := int(c - '0')
		if n%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
		n++
	}
	return n >= 13 && n <= 19 && sum%10 == 0 && strings.Trim(text, "0 -") != ""
}

// random reports whether a text looks as if it were drawn by chance: letters of
// both cases, or letters and digits, hardly any twice.
func random(text string) bool {
	var upper, lower, digit bool
	count := map[rune]int{}
	for _, r := range text {
		upper, lower, digit = upper || r >= 'A' && r <= 'Z', lower || r >= 'a' && r <= 'z', digit ||
			r >= '0' && r <= '9'
		count[r]++
	}
	if !digit || !upper && !lower || strings.Count(text, "/") > 2 || strings.Count(text, "-") > 2 ||
		uuidLike.MatchString(text) {
		return false
	}
	bits, n := 0.0, float64(len(text))
	for _, c := range count {
		share := float64(c) / n
		bits -= share * math.Log2(share)
	}
	return bits > 3.3 && (upper && lower || len(text) >= 32)
}

var uuidLike = regexp.MustCompile(`(?i)^[0-9a-f]{8}-[0-9a-f]{4}-`)

// Redacted returns where stand-ins are in a payload.
func (p *Payload) Redacted() (out []Spot) {
	look := func(where, text string) {
		if standIn.MatchString(text) {
			out = append(out, Spot{Where: where})
		}
	}
	body := func(where string, data []byte) {
		if !bytes.Contains(data, []byte(StandIn)) {
			return
		}
		v, err := jsondiff.Decode(data)
		if err != nil {
			look(where, string(data))
			return
		}
		var walk func(at []string, v any)
		walk = func(at []string, v any) {
			switch v := v.(type) {
			case map[string]any:
				for _, name := range slices.Sorted(maps.Keys(v)) {
					walk(append(slices.Clip(at), name), v[name])
				}
			case []any:
				for i := range v {
					walk(append(slices.Clip(at), strconv.Itoa(i)), v[i])
				}
			case string:
				look(where+" "+jsondiff.Pointer(at), v)
			}
		}
		walk(nil, v)
	}
	headers := func(where string, header []event.Field) {
		for _, h := range header {
			look(where+h.Name, h.Value)
		}
	}
	if p.Request != nil {
		look("target", p.Request.Target)
		headers("header ", p.Request.Header)
		body("body", p.Request.Body)
	} else {
		look("subject", p.Event.Subject)
		headers("attribute ", p.Event.Extensions)
		body("data", p.Event.Data)
	}
	if p.Reply != nil {
		headers("reply's header ", p.Reply.Header)
		body("reply", p.Reply.Body)
	}
	return out
}
