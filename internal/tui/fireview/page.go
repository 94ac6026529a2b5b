package fireview

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
)

// page is a firing made ready to be drawn. Making it may take a while, for a
// large reply, so it is made beside the screen.
type page struct {
	v           session.Shown
	function    string
	phases      []record.Phase
	heldBack    []canvas.Row // why the rest of the reply came late; nil where it did not
	own         []measure.Own
	inside      []explain.Inside // calls to upstreams, and spans
	reply       []canvas.Row
	note        string // about the body
	log         []canvas.Row
	lines       int // of the log, before they were wrapped
	differences []jsondiff.Difference
	before      *session.Shown
	verdicts    []payload.Verdict
	tries       []string // of earlier attempts
	steps       []explain.Step
	onward      []canvas.Row // what replies were sent on as, and dead letters
	settled     bool         // nothing of it will change
	width       int
}

type pageMsg struct{ page page }

// mark is a firing in the strip.
type mark struct {
	f     *session.Firing
	took  time.Duration
	class engine.Class
	good  bool
	over  bool
}

// stripLength is how many firings are in the strip at most.
const stripLength = 160

// linesShown is how many log lines of an invocation are shown.
const linesShown = 2000

// read returns the command that makes the page of what is shown.
func (m *Model) read() tea.Cmd {
	m.firings = m.firings[:0]
	recent := m.s.Recent(stripLength)
	for i := range recent {
		v := &recent[i]
		x := mark{f: v.Firing, over: v.Over, took: v.Latency(), good: v.Refused == nil && v.Outcome() == engine.Done}
		if t := v.Last(); t != nil {
			x.class = t.Invocation.Class
		}
		m.firings = append(m.firings, x)
	}
	if len(recent) > 0 && (m.follow || m.shown == nil) {
		m.show(m.latest(recent).Firing)
	}
	if m.shown == nil {
		return nil
	}
	width := m.answerWidth() - 3
	if m.page.settled && m.page.v.Firing == m.shown && m.page.width == width {
		return nil
	}
	if m.reading == m.shown {
		m.unread = true // one at a time: making it may take longer than it takes to change
		return nil
	}
	m.reading, m.unread = m.shown, false
	s, f := m.s, m.shown
	leaveOut := slices.Clone(m.leaveOut[f.Item.Key()])
	return func() tea.Msg { return pageMsg{makePage(s, f, width, leaveOut)} }
}

// latest returns the firing that is followed: the last one, or of a series in progress the last that is
// over, so that there is a reply to read meanwhile.
func (m *Model) latest(recent []session.Shown) *session.Shown {
	last := &recent[len(recent)-1]
	if m.series == nil {
		return last
	}
	select {
	case <-m.series.Done():
		m.series = nil
		return last
	default:
	}
	for i := len(recent) - 1; i >= 0; i-- {
		if recent[i].Over {
			return &recent[i]
		}
	}
	return last
}

// Took takes a page that was made, and what an editor made; ok is false for messages of others.
func (m *Model) Took(msg tea.Msg) (cmd tea.Cmd, ok bool) {
	if then, ok := msg.(worked); ok {
		return then(), true
	}
	if e, ok := msg.(edited); ok {
		return tea.Batch(m.takeBack(e), m.Refresh()), true
	}
	p, ok := msg.(pageMsg)
	if !ok {
		return nil, false
	}
	if p.page.v.Firing == m.shown {
		m.page = p.page
	}
	if p.page.v.Firing == m.reading {
		if m.reading = nil; m.unread {
			return m.read(), true
		}
	}
	return nil, true
}

func makePage(s *session.Session, f *session.Firing, width int, leaveOut []string) page {
	p := page{v: s.Look(f), width: width}
	v := &p.v
	p.settled = v.Over && time.Since(f.At) > 2*time.Second+v.Latency()
	select {
	case <-f.Whole():
	default:
		p.settled = false // what was made of it is not over
	}
	p.steps = s.Trace(v)
	if v.Refused != nil {
		p.log = canvas.Wrap(canvas.Rows(canvas.Plain, v.Refused.Lines...), width)
		return p
	}
	t := v.Last()
	if t == nil {
		return p
	}
	p.function = s.NameOf(t)
	for _, x := range v.Trace.Attempts[:len(v.Trace.Attempts)-1] {
		p.tries = append(p.tries, explain.AttemptOf(x, v.Trace.Arrived).Words())
	}
	if pl := s.Plan(); v.Item.Source < len(pl.Sources) {
		if content := explain.WhatWaits(&pl.Sources[v.Item.Source]); content != "" {
			p.onward = append(p.onward, canvas.Row{{Style: canvas.Dim, Text: "it waits for " + content}})
		}
	}
	for _, x := range p.steps[min(1, len(p.steps)):] {
		if x.Depth == 0 {
			continue
		}
		style, content := canvas.Plain, strings.Repeat("  ", x.Depth-1)+"↳ "+x.Line()
		if x.Over && x.Outcome != engine.Done {
			style = canvas.Bad
		}
		for _, why := range []string{x.Why, x.Hint} {
			if why != "" {
				content += ": " + why
			}
		}
		p.onward = append(p.onward, canvas.Wrap(canvas.Rows(style, text.Harmless(content)), width)...)
	}
	if t.Name != "" {
		p.phases = record.Phases(v.Trace.Arrived, &t.Instance, &t.Invocation)
		if !t.Over {
			p.phases = nil
		}
		if t.Invocation.HeldBack() {
			p.heldBack = canvas.Wrap(canvas.Rows(canvas.Dim, explain.HeldBack), width)
		}
		p.inside = explain.InsideOf(t)
		for _, l := range s.Lines(p.v, t, linesShown) {
			style := canvas.Plain
			if l.At.Before(t.Began) {
				style = canvas.Dim // of its start
			}
			p.log = append(p.log, canvas.Row{{Style: canvas.Dim, Text: fmt.Sprintf("%9s  ", since(l.At.Sub(t.Began)))},
				{Style: style, Text: l.Text}})
		}
	} else {
		p.log = canvas.Rows(canvas.Plain, t.Lines...)
	}
	p.lines = len(p.log)
	p.log = canvas.Wrap(p.log, width)
	if t.Reply == nil || t.Reply.Status == 0 {
		return p
	}
	p.own = measure.ParseServerTiming(t.Reply.Timing)
	p.reply, p.note = replyRows(t.Reply, width)
	p.reply = canvas.Wrap(p.reply, width)
	p.verdicts = v.Verdicts()
	if before, ok := s.Before(f); ok {
		p.before = &before
		p.differences = session.Differences(&before, v, leaveOut)
	}
	return p
}

// since is a time after the attempt, in milliseconds.
func since(d time.Duration) string { return fmt.Sprintf("%+.1f", float64(d)/1e6) }

// shownBytes is how much of a body is laid out on the screen.
const shownBytes = 1 << 20

// replyRows lays a reply out: its body, then its headers.
func replyRows(r *session.Reply, width int) (rows []canvas.Row, note string) {
	body, note := r.Plain()
	rows, more := bodyRows(body, r.Header.Get("Content-Type"), width)
	if more != "" {
		if note != "" {
			note += ", "
		}
		note += more
	}
	rows = append(rows, canvas.Row{})
	for _, name := range slices.Sorted(maps.Keys(r.Header)) {
		for _, value := range r.Header[name] {
			if payload.SecretHeader(name) {
				value = payload.Hidden
			}
			rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: name + ": "},
				{Style: canvas.Dim, Text: text.Harmless(value)}})
		}
	}
	return rows, note
}

// bodyRows lays a body out: JSON indented, text as it is, other bytes as a dump.
func bodyRows(body []byte, mediaType string, width int) (rows []canvas.Row, note string) {
	if len(body) == 0 {
		return canvas.Rows(canvas.Dim, "(no body)"), ""
	}
	claims := event.IsJSON(mediaType) && mediaType != ""
	if claims && !json.Valid(body) {
		note = "declared as JSON, but is not valid JSON"
	}
	whole := body
	if len(body) > shownBytes {
		body = body[:shownBytes]
		note = strings.TrimPrefix(note+fmt.Sprintf(", the first MiB of %s; s saves it whole",
			canvas.Size(int64(len(whole)))), ", ")
	}
	var pretty bytes.Buffer
	first := bytes.TrimLeft(body, " \t\r\n")
	switch {
	case len(body) == len(whole) && (claims || len(first) > 0 && (first[0] == '{' || first[0] == '[')) &&
		text.Indent(&pretty, body):
		return canvas.Code(harmless(pretty.String()), "application/json"), note
	case text.IsText(body):
		return canvas.Code(harmless(string(body)), mediaType), note
	case len(body) > 64<<10:
		body = body[:64<<10]
	}
	return canvas.Hex(body, width), note
}

// harmless keeps line ends, and nothing else that a terminal obeys.
func harmless(content string) string {
	lines := strings.Split(strings.ReplaceAll(strings.TrimRight(content, "\r\n"), "\t", "    "), "\n")
	for i, l := range lines {
		lines[i] = text.Harmless(strings.TrimRight(l, "\r"))
	}
	return strings.Join(lines, "\n")
}

// sentPage is the payload under the cursor, laid out.
type sentPage struct {
	item *catalog.Item
	rows []canvas.Row
	w    int
}

// sentRows lays the payload under the cursor out, in the form that is wanted.
func (m *Model) sentRows(width int) []canvas.Row {
	i := m.item()
	if i == nil {
		return nil
	}
	if m.sent.item == i && m.sent.w == width {
		return m.sent.rows
	}
	m.sent = sentPage{i, canvas.Wrap(layOut(i, m.form, width), width), width}
	return m.sent.rows
}

// sentBytes is how much of a payload is laid out.
const sentBytes = 256 << 10

func layOut(i *catalog.Item, form, width int) (rows []canvas.Row) {
	if i.Wrong != "" {
		rows = append(rows, canvas.Row{{Style: canvas.Bad, Text: "cannot be sent: " + text.Harmless(i.Wrong)}},
			canvas.Row{})
	}
	content := i.Content()
	cut := func(b []byte) []byte { return b[:min(len(b), sentBytes)] }
	switch {
	case form == 2:
		if i.Payload != nil {
			return append(rows, canvas.Hex(cut(dataOf(i.Payload)), width)...)
		}
		return append(rows, canvas.Hex(cut(content), width)...)
	case form == 1 || i.Payload == nil || !text.IsText(cut(content)):
		if i.HTTP {
			return append(rows, messageRows(string(cut(content)))...)
		}
		if !text.IsText(cut(content)) {
			return append(rows, canvas.Hex(cut(content), width)...)
		}
		return append(rows, canvas.Code(harmless(string(cut(content))), "application/json")...)
	}
	if i.Payload.Request != nil {
		r := payload.Shown(i.Payload.Request)
		rows = append(rows, canvas.Row{{Style: canvas.Bold, Text: r.Method + " "},
			{Style: canvas.Plain, Text: text.Harmless(r.Target)}})
		kind := r.HeaderValue("Content-Type")
		for _, h := range r.Header {
			rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: h.Name + ": " + text.Harmless(h.Value)}})
		}
		if len(r.Body) > 0 {
			body, _ := bodyRows(cut(r.Body), kind, width)
			rows = append(append(rows, canvas.Row{}), body...)
		}
		return rows
	}
	e := i.Payload.Event
	put := func(name, value string) {
		if value != "" {
			rows = append(rows, canvas.Row{{Style: canvas.Dim, Text: fmt.Sprintf("%-9s ", name)},
				{Style: canvas.Plain, Text: text.Harmless(value)}})
		}
	}
	put("type", e.Type)
	put("id", e.ID)
	put("source", e.Source)
	put("subject", e.Subject)
	if !e.Time.IsZero() {
		put("time", e.Time.Format(time.RFC3339Nano))
	}
	for _, x := range e.Extensions {
		put(x.Name, x.Value)
	}
	put("content", e.DataContentType)
	kind := e.DataContentType
	if kind == "" && !e.Binary {
		kind = "application/json"
	}
	body, _ := bodyRows(cut(e.Data), kind, width)
	return append(append(rows, canvas.Row{}), body...)
}

// dataOf returns the bytes of a payload's data or body.
func dataOf(p *payload.Payload) []byte {
	if p.Request != nil {
		return p.Request.Body
	}
	return p.Event.Data
}

// messageRows lays a request's own text out.
func messageRows(content string) (rows []canvas.Row) {
	head := true
	for n, l := range strings.Split(strings.TrimRight(content, "\n"), "\n") {
		style := canvas.Plain
		switch {
		case head && n == 0:
			style = canvas.Bold
		case head:
			style = canvas.Dim
		}
		head = head && strings.TrimSpace(l) != ""
		if name, _, ok := strings.Cut(l, ":"); head && n > 0 && ok && payload.SecretHeader(name) {
			l = name + ": " + payload.Hidden
		}
		rows = append(rows, canvas.Row{{Style: style, Text: text.Harmless(strings.TrimRight(l, "\r"))}})
	}
	return rows
}
