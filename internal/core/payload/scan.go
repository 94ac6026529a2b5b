package payload

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
)

// Kinds are the kinds of recordings.
var Kinds = []string{"cloudevents", "batch", "har", "har-events", "json", "access-log", "single"}

// Form is how a recording is read.
type Form struct {
	Kind string // one of Kinds; "" for what the content looks like
	// of bare payloads: where in each of them its time, id and key are, as JSON
	// Pointers, and the type and source of the events that are made of them
	Time, ID, Key string
	Type, Source  string
}

// mostRecord is the largest record that is read, in bytes.
const mostRecord = 256 << 20

// Read reads a recording, its kind recognised from its content. The errors
// are in the order of their places; the payloads are those that could be read.
func Read(content []byte) ([]Payload, []Mistake) { return ReadAs(content, Form{}) }

// LargestPublished is the largest body, or file of events, that is published, in bytes.
const LargestPublished = 16 << 20

// Events is Read for a recording that must be without errors and without requests.
func Events(content []byte) ([]Payload, error) {
	all, mistakes := Read(content)
	if len(mistakes) > 0 {
		if at := mistakes[0].Line; at > 0 {
			return nil, fmt.Errorf("line %d: %w", at, mistakes[0])
		}
		return nil, mistakes[0]
	}
	if slices.ContainsFunc(all, func(p Payload) bool { return p.Event == nil }) {
		return nil, errors.New("it has requests, and not events; fire sends those")
	}
	if len(all) == 0 {
		return nil, errors.New("it has no events")
	}
	return all, nil
}

// ReadAs is Read for a form that is known.
func ReadAs(content []byte, f Form) (payloads []Payload, mistakes []Mistake) {
	_, err := Scan(bytes.NewReader(content), f, func(p Payload, _ Mistake) error {
		payloads = append(payloads, p)
		return nil
	}, func(m Mistake) error {
		mistakes = append(mistakes, m)
		return nil
	})
	if m, ok := errors.AsType[Mistake](err); ok {
		mistakes = append(mistakes, m)
	}
	return payloads, mistakes
}

func (m Mistake) Error() string { return m.Text }

// headLength is how much of a recording is looked at to recognise it.
const headLength = 64 << 10

// Scan reads a recording record by record, in memory that does not grow with
// their number: each gets every payload with the place at which it begins, broken
// every record that is none. The error is one of theirs, of the reader's, or a
// Mistake that ended the reading. It also returns the kind that the recording has.
func Scan(r io.Reader, f Form, each func(Payload, Mistake) error, broken func(Mistake) error) (kind string, err error) {
	in := bufio.NewReaderSize(r, headLength)
	if mark, _ := in.Peek(3); bytes.Equal(mark, []byte("\xef\xbb\xbf")) {
		_, _ = in.Discard(3)
	} else if len(mark) >= 2 && (mark[0] == 0xff && mark[1] == 0xfe || mark[0] == 0xfe && mark[1] == 0xff) {
		return "", Mistake{Line: 1, Column: 1, Text: "UTF-16; a recording must be UTF-8 (convert it with iconv -f " +
			"UTF-16 -t UTF-8)"}
	}
	head, err := in.Peek(headLength)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	if len(bytes.TrimSpace(head)) == 0 {
		return "", Mistake{Line: 1, Text: "the recording is empty; expected CloudEvents, one JSON object a line or a " +
			"JSON batch, or a HAR 1.2 archive"}
	}
	if kind = f.Kind; kind == "" {
		kind = Recognise(head)
	}
	s := &scanner{Form: f, in: in, each: each, broken: broken}
	switch kind {
	case "har", "har-events":
		return kind, s.har(kind == "har-events")
	case "batch":
		return kind, s.batch()
	case "single":
		return kind, s.single()
	case "access-log":
		return kind, s.lines(accessRecord)
	case "json":
		if bytes.HasPrefix(bytes.TrimSpace(head), []byte("[")) {
			return kind, s.array("payload", s.bare)
		}
		return kind, s.lines(s.bare)
	}
	return kind, s.lines(s.event)
}

// Recognise returns the kind of a recording, judged by its beginning.
func Recognise(head []byte) string {
	trimmed := bytes.TrimSpace(head)
	first, _, several := bytes.Cut(trimmed, []byte("\n"))
	switch {
	case looksLikeHAR(trimmed):
		if harHeadIsEvent(trimmed) {
			return "har-events"
		}
		return "har"
	case looksLikeRequest(trimmed):
		return "single"
	case bytes.HasPrefix(trimmed, []byte("[")):
		if bytes.Contains(trimmed, []byte(`"specversion"`)) || !bytes.Contains(trimmed, []byte("{")) {
			return "batch"
		}
		return "json"
	case accessLine.Match(first):
		return "access-log"
	case several && bytes.HasPrefix(trimmed, []byte("{")) && !json.Valid(first) && (len(bytes.TrimSpace(first)) == 1 ||
		json.Valid(trimmed)):
		return "single" // an event in several lines
	case bytes.Contains(trimmed, []byte(`"specversion"`)) || !bytes.HasPrefix(trimmed, []byte("{")) ||
		!json.Valid(first):
		return "cloudevents"
	}
	return "json"
}

// looksLikeHAR: a JSON object whose first key is "log".
func looksLikeHAR(content []byte) bool {
	dec := json.NewDecoder(bytes.NewReader(content))
	open, err := dec.Token()
	if err != nil || open != json.Delim('{') {
		return false
	}
	key, err := dec.Token()
	return err == nil && key == "log"
}

var eventHeader = regexp.MustCompile(`(?i)"name"\s*:\s*"ce-specversion"|"value"\s*:\s*"application/cloudevents`)

// harHeadIsEvent reports whether the first request in a HAR is in the HTTP binding
// of CloudEvents.
func harHeadIsEvent(head []byte) bool {
	_, rest, _ := bytes.Cut(head, []byte(`"request"`))
	first, _, _ := bytes.Cut(rest, []byte(`"response"`))
	return eventHeader.Match(first)
}

// looksLikeRequest: the first line is a request line (RFC 9112 §3).
func looksLikeRequest(content []byte) bool {
	line, _, _ := bytes.Cut(content, []byte("\n"))
	words := strings.Fields(string(line))
	return len(words) == 3 && isToken(words[0]) && strings.HasPrefix(words[2], "HTTP/")
}

// scanner reads one recording.
type scanner struct {
	Form
	in     *bufio.Reader
	each   func(Payload, Mistake) error
	broken func(Mistake) error
	n      int // records so far
}

// lines reads one record a line.
func (s *scanner) lines(read func([]byte) (Payload, error)) error {
	var long []byte
	for n := 1; ; n++ {
		line, err := s.in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			long = append(long[:0], line...)
			for errors.Is(err, bufio.ErrBufferFull) && len(long) <= mostRecord {
				line, err = s.in.ReadSlice('\n')
				long = append(long, line...)
			}
			line = long
		}
		if err != nil && !errors.Is(err, io.EOF) {
			if len(long) > mostRecord {
				return Mistake{Line: n, Text: fmt.Sprintf("the record is larger than %d MiB", mostRecord>>20)}
			}
			return err
		}
		last := err != nil
		if line = bytes.TrimSpace(line); len(line) > 0 {
			var p Payload
			err := encoding(line)
			if err == nil {
				p, err = read(line)
			}
			if err == nil {
				err = s.each(p, Mistake{Line: n})
			} else {
				err = s.broken(Mistake{Line: n, Text: err.Error()})
			}
			if err != nil {
				return err
			}
		}
		if last {
			return nil
		}
	}
}

// encoding returns an error that names where a record is not UTF-8; nil if it is.
func encoding(record []byte) error {
	if utf8.Valid(record) {
		return nil
	}
	at := 0
	for at < len(record) {
		r, n := utf8.DecodeRune(record[at:])
		if r == utf8.RuneError && n == 1 {
			break
		}
		at += n
	}
	return fmt.Errorf("not valid UTF-8: byte %d is %#x; a recording must be UTF-8 (convert Latin-1 with iconv -f "+
		"LATIN1 -t UTF-8)", at+1, record[at])
}

func (s *scanner) event(line []byte) (Payload, error) {
	e, err := event.Parse(line)
	p := Payload{Event: &e, Time: e.Time}
	if text, ok := e.Attribute(RecordedTime); ok && err == nil {
		if p.Time, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return p, fmt.Errorf("%s: %q is not an RFC 3339 time", RecordedTime, text)
		}
		e.Extensions = slices.DeleteFunc(e.Extensions, func(f event.Field) bool { return f.Name == RecordedTime })
	}
	return p, err
}

// RecordedTime is the attribute in which a recording keeps when an event came, beside the event's own time. It is not
// part of the event.
const RecordedTime = "recordedtime"

// single reads one request or event that is kept by itself.
func (s *scanner) single() error {
	content, err := io.ReadAll(io.LimitReader(s.in, mostRecord+1))
	if err != nil {
		return err
	}
	p, err := ParseText(content, looksLikeRequest(content))
	if err != nil {
		return Mistake{Line: 1, Text: err.Error()}
	}
	return s.each(p, Mistake{Line: 1})
}

// bare makes an event of a bare payload.
func (s *scanner) bare(line []byte) (Payload, error) {
	s.n++
	if !json.Valid(line) {
		var x any
		return Payload{}, fmt.Errorf("not valid JSON: %w", json.Unmarshal(line, &x))
	}
	var data bytes.Buffer
	data.Grow(len(line))
	_ = json.Compact(&data, line) // it is valid
	e := &event.Event{ID: strconv.Itoa(s.n), Source: s.Source, Type: s.Type, DataContentType: "application/json",
		Data: data.Bytes()}
	p := Payload{Event: e}
	if s.Time == "" && s.ID == "" && s.Key == "" {
		return p, nil
	}
	v, err := jsondiff.Decode(line)
	if err != nil {
		return Payload{}, err
	}
	text := func(pointer, what string) (string, error) {
		x, ok := jsondiff.Lookup(v, pointer)
		if !ok {
			return "", fmt.Errorf("no %s at %s", what, pointer)
		}
		switch x := x.(type) {
		case string:
			return x, nil
		case json.Number:
			return x.String(), nil
		case bool:
			return strconv.FormatBool(x), nil
		}
		return "", fmt.Errorf("not a %[2]s at %[1]s: it is an object, a list or null", pointer, what)
	}
	if s.ID != "" {
		if e.ID, err = text(s.ID, "id"); err != nil {
			return Payload{}, err
		}
	}
	if s.Key != "" {
		key, err := text(s.Key, "key")
		if err != nil {
			return Payload{}, err
		}
		// CloudEvents, extension "partitioning"
		e.Extensions = append(e.Extensions, event.Field{Name: "partitionkey", Value: key})
	}
	if s.Time != "" {
		t, err := text(s.Time, "time")
		if err != nil {
			return Payload{}, err
		}
		if e.Time, err = ParseTime(t); err != nil {
			return Payload{}, fmt.Errorf("%s: %w", s.Time, err)
		}
		p.Time = e.Time
	}
	return p, nil
}

// ParseTime reads a time as recordings write it: RFC 3339, or seconds since 1970,
// or thousandths, millionths or billionths of them, by how large the number is.
func ParseTime(text string) (time.Time, error) {
	if n, err := strconv.ParseFloat(text, 64); err == nil && n > 0 {
		whole, err := strconv.ParseInt(text, 10, 64)
		switch {
		case n < 1e11 && err == nil:
			return time.Unix(whole, 0).UTC(), nil
		case n < 1e11:
			return time.Unix(0, int64(n*1e9)).UTC(), nil
		case n < 1e14:
			return time.UnixMilli(int64(n)).UTC(), nil
		case n < 1e17:
			return time.UnixMicro(int64(n)).UTC(), nil
		case n < 9e18:
			return time.Unix(0, whole).UTC(), nil
		}
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999Z07:00",
		"2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999"} {
		if t, err := time.Parse(form, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time: RFC 3339, or a number of seconds, milliseconds, microseconds "+
		"or nanoseconds since 1970", text)
}

// accessLine is a line of an access log in the Common or the Combined Log Format.
var accessLine = regexp.MustCompile(
	`^(\S+) \S+ .*?\[([^\]]+)\] "((?:[^"\\]|\\.)*)" (\d{3}) (?:\d+|-)(?: "((?:[^"\\]|\\.)*)" "((?:[^"\\]|\\.)*)")?`)

func accessRecord(line []byte) (Payload, error) {
	parts := accessLine.FindSubmatch(line)
	if parts == nil {
		return Payload{}, errors.New(
			`not a line of an access log: expected HOST IDENT USER [DAY/MON/YEAR:HH:MM:SS ZONE] "METHOD TARGET ` +
				`HTTP/1.1" STATUS BYTES`)
	}
	when, err := time.Parse("02/Jan/2006:15:04:05 -0700", string(parts[2]))
	if err != nil {
		return Payload{}, fmt.Errorf("%q is not a time such as 02/Jan/2026:15:04:05 +0100", parts[2])
	}
	words := strings.Fields(unescapeLog(string(parts[3])))
	if len(words) < 2 || !isToken(words[0]) {
		return Payload{}, fmt.Errorf("%q is not a request line", parts[3])
	}
	u, err := url.Parse(words[1])
	if err != nil || u.RequestURI() == "" {
		return Payload{}, fmt.Errorf("%q is not the target of a request", words[1])
	}
	r := &event.Request{Method: words[0], Target: u.RequestURI()}
	for i, name := range map[int]string{5: "Referer", 6: "User-Agent"} {
		if v := unescapeLog(string(parts[i])); v != "" && v != "-" && !strings.ContainsAny(v, "\r\n\x00") {
			r.Header = append(r.Header, event.Field{Name: name, Value: v})
		}
	}
	slices.SortFunc(r.Header, func(a, b event.Field) int { return strings.Compare(a.Name, b.Name) })
	status, _ := strconv.Atoi(string(parts[4])) // three digits
	return Payload{Request: r, Time: when, Reply: &Reply{Status: status}}, nil
}

func unescapeLog(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	return strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(s)
}

// counter counts the lines of what a decoder reads, to say where a record is. It
// forgets the places that were asked for.
type counter struct {
	in       io.Reader
	read     int64
	newlines []int64 // offsets not passed yet
	line     int     // lines that were passed
	start    int64   // of the current line
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	for i, rest := 0, p[:n]; ; {
		j := bytes.IndexByte(rest[i:], '\n')
		if j < 0 {
			break
		}
		i += j + 1
		c.newlines = append(c.newlines, c.read+int64(i))
	}
	c.read += int64(n)
	return n, err
}

// at returns the place of an offset, which is not before the last one asked for.
func (c *counter) at(offset int64) Mistake {
	i := 0
	for i < len(c.newlines) && c.newlines[i] <= offset {
		c.start = c.newlines[i]
		i++
	}
	c.line += i
	c.newlines = c.newlines[i:]
	return Mistake{Line: c.line + 1, Column: int(offset-c.start) + 1}
}

// skipper finds where the next value begins behind what a decoder has read.
func after(dec *json.Decoder) int64 {
	rest, _ := dec.Buffered().(*bytes.Reader)
	offset := dec.InputOffset()
	if rest == nil {
		return offset
	}
	for {
		b, err := rest.ReadByte()
		if err != nil || !bytes.ContainsRune([]byte(" \t\r\n,:"), rune(b)) {
			return offset
		}
		offset++
	}
}

// array reads the elements of a JSON array.
func (s *scanner) array(what string, read func([]byte) (Payload, error)) error {
	c := &counter{in: s.in}
	dec := json.NewDecoder(c)
	of := map[string]string{"event": "batch of CloudEvents", "payload": "array"}[what]
	if _, err := dec.Token(); err != nil {
		return s.syntax(c, err, "not a JSON "+of)
	}
	n := 0
	for ; dec.More(); n++ {
		place := c.at(after(dec))
		var text json.RawMessage
		if err := dec.Decode(&text); err != nil {
			return s.syntax(c, err, "not a JSON "+of)
		}
		var p Payload
		err := encoding(text)
		if err == nil {
			p, err = read(text)
		}
		if err == nil {
			err = s.each(p, place)
		} else {
			place.Text = fmt.Sprintf("%s %d of the batch: %v", what, n+1, err)
			err = s.broken(place)
		}
		if err != nil {
			return err
		}
	}
	if _, err := dec.Token(); err != nil {
		return s.syntax(c, err, "not a JSON "+of)
	}
	if n == 0 {
		return Mistake{Line: 1, Column: 1, Text: "the batch is empty"}
	}
	return nil
}

// batch reads the JSON batch format (CloudEvents JSON format §4).
func (s *scanner) batch() error {
	return s.array("event", s.event)
}

func (s *scanner) syntax(c *counter, err error, what string) error {
	m := Mistake{Text: what + ": " + strings.TrimPrefix(err.Error(), "json: ")}
	if syntax, ok := errors.AsType[*json.SyntaxError](err); ok {
		place := c.at(max(syntax.Offset, c.start))
		m.Line, m.Column = place.Line, place.Column
	} else if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		m.Text = what + ": unexpected end"
		m.Line = c.at(c.read).Line
	} else if kind, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		m.Text = fmt.Sprintf("%s: unexpected %[3]s at %[2]s", what, kind.Field, kind.Value)
	} else {
		return err // of the reader
	}
	return m
}

// har reads the entries of a HAR 1.2 archive.
func (s *scanner) har(events bool) error {
	c := &counter{in: s.in}
	dec := json.NewDecoder(c)
	const what = "not a HAR 1.2 archive"
	if err := enter(dec, "log", "entries"); err != nil {
		if errors.Is(err, errNoEntries) {
			return Mistake{Line: 1, Text: "the HAR archive has no log.entries"}
		}
		return s.syntax(c, err, what)
	}
	n := 0
	for ; dec.More(); n++ {
		place := c.at(after(dec))
		var text json.RawMessage
		err := dec.Decode(&text)
		if err != nil {
			return s.syntax(c, err, what)
		}
		var e harEntry
		if err = encoding(text); err == nil {
			err = json.Unmarshal(text, &e)
		}
		kind, mistyped := errors.AsType[*json.UnmarshalTypeError](err)
		var p Payload
		var several []Payload
		switch {
		case mistyped:
			err = fmt.Errorf("unexpected %[2]s at %[1]s", kind.Field, kind.Value)
		case err == nil:
			p, err = e.payload()
			if several = []Payload{p}; err == nil && events {
				several, err = p.Events()
			}
		}
		if err != nil {
			place.Text = fmt.Sprintf("log.entries[%d]: %v", n, err)
			if err := s.broken(place); err != nil {
				return err
			}
			continue
		}
		for _, p := range several {
			if err := s.each(p, place); err != nil {
				return err
			}
		}
	}
	if _, err := dec.Token(); err != nil {
		return s.syntax(c, err, what)
	}
	if n == 0 {
		return Mistake{Line: 1, Text: "the HAR archive has no log.entries"}
	}
	return nil
}

var errNoEntries = errors.New("no entries")

// enter advances to the value of a key of an object in an object, up to the bracket of the array
// there.
func enter(dec *json.Decoder, keys ...string) error {
	for _, key := range keys {
		open, err := dec.Token()
		if err != nil {
			return err
		}
		if open != json.Delim('{') {
			return errNoEntries
		}
		for {
			if !dec.More() {
				return errNoEntries
			}
			name, err := dec.Token()
			if err != nil {
				return err
			}
			if name == key {
				break
			}
			var skipped json.RawMessage
			if err := dec.Decode(&skipped); err != nil {
				return err
			}
		}
	}
	open, err := dec.Token()
	if err == nil && open != json.Delim('[') {
		return errNoEntries
	}
	return err
}

// Events returns the events of a request in the HTTP binding of CloudEvents (1.0.2, §3): binary, structured, or a
// batch, of which all are well or none is returned.
func (p *Payload) Events() ([]Payload, error) {
	kind := ""
	e := event.Event{Data: p.Request.Body}
	version := ""
	for _, h := range p.Request.Header {
		name := strings.ToLower(h.Name)
		value := h.Value
		if attribute, ok := strings.CutPrefix(name, "ce-"); ok {
			if plain, err := url.PathUnescape(strings.ReplaceAll(value, "+", "%2B")); err == nil {
				value = plain
			}
			if attribute == "specversion" {
				version = value
			} else if err := e.SetAttribute(attribute, value); err != nil {
				return nil, fmt.Errorf("ce-%w", err)
			}
		} else if name == "content-type" {
			kind = h.Value
		}
	}
	base, _, _ := mime.ParseMediaType(kind) // what is none is neither of the two
	var list []Payload
	switch {
	case base == event.BatchType:
		var elements []json.RawMessage
		if err := json.Unmarshal(p.Request.Body, &elements); err != nil {
			return nil, fmt.Errorf("request.postData: not a batch of CloudEvents: %w", err)
		}
		for i, text := range elements {
			one, err := event.Parse(text)
			if err != nil {
				return nil, fmt.Errorf("event %d of the batch: %w", i+1, err)
			}
			list = append(list, Payload{Event: &one})
		}
	case base == event.StructuredType:
		one, err := event.Parse(p.Request.Body)
		if err != nil {
			return nil, fmt.Errorf("request.postData: %w", err)
		}
		list = append(list, Payload{Event: &one})
	case version != "1.0" || e.Missing() != "":
		return nil, errors.New("the request is not a CloudEvent: ce-specversion, ce-id, ce-source and ce-type are " +
			"required; --kind har reads it as a request")
	default:
		e.DataContentType = kind
		e.Binary = !event.IsJSON(kind) && !utf8.Valid(e.Data)
		list = append(list, Payload{Event: &e})
	}
	for i := range list {
		if list[i].Time = list[i].Event.Time; list[i].Time.IsZero() {
			list[i].Time = p.Time
		}
	}
	return list, nil
}

// harFields are names and values, as HAR has them.
type harFields []event.Field

// The parts of an entry of HAR 1.2 that are read.
type harEntry struct {
	Started string `json:"startedDateTime"`
	Request struct {
		Method   string    `json:"method"`
		URL      string    `json:"url"`
		Headers  harFields `json:"headers"`
		PostData *struct {
			MimeType string    `json:"mimeType"`
			Text     string    `json:"text"`
			Encoding string    `json:"encoding"`
			Params   harFields `json:"params"`
		} `json:"postData"`
	} `json:"request"`
	Response struct {
		Status  int       `json:"status"`
		Headers harFields `json:"headers"`
		Content struct {
			Text     string `json:"text"`
			Encoding string `json:"encoding"`
		} `json:"content"`
	} `json:"response"`
	Timings struct {
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	} `json:"timings"`
	Of     string `json:"_of"`
	Failed string `json:"_failed"`
}
