package transport

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
)

const trace = "00-0123456789abcdef0123456789abcdef-0123456789abcdef-01"

// What a function answers in a line is understood, or distinguished from what is not.
func TestLines(t *testing.T) {
	for _, c := range []struct {
		answer string
		want   Reply
	}{
		{"{\"fare\": 450}\n", Reply{Status: 200, Body: []byte(`{"fare": 450}`), Size: 13}},
		{"plain words\n", Reply{Result: engine.Disconnected}}, // a log line, and no reply after it
		{"\nplain words\n{\"fare\": 450}\n", Reply{Status: 200, Body: []byte(`{"fare": 450}`), Size: 13}},
		{`{"id": "e", "status": 201, "body": 1}` + "\n", Reply{Status: 201, Body: []byte("1"), Size: 1}},
		// of another event
		{`{"id": "x", "status": 201, "body": 1}` + "\n[2]\n", Reply{Status: 200, Body: []byte("[2]"), Size: 3}},
		// an id of its own
		{`{"id": "order-17"}` + "\n", Reply{Status: 200, Body: []byte(`{"id": "order-17"}`), Size: 18}},
		{`{"status": 199}` + "\n", Reply{Result: engine.Garbled, Size: 15}},
		{`{"status": 101, "body": ""}` + "\n", Reply{Result: engine.Garbled, Size: 27}},
		{`{"status": 422, "body": {"why": "full"}, "headers": {"retry-after": "2"}}` + "\n",
			Reply{Status: 422, Body: []byte(`{"why": "full"}`), Size: 15}},
		{`{"status": 200, "body": "words"}` + "\n", Reply{Status: 200, Body: []byte("words"), Size: 5}},
		// not a reply's form: a body that has a status of its own
		{`{"status": 200, "fare": 1}` + "\n", Reply{Status: 200, Body: []byte(`{"status": 200, "fare": 1}`), Size: 26}},
		{`{"status": "full"}` + "\n", Reply{Status: 200, Body: []byte(`{"status": "full"}`), Size: 18}},
		{"half a line", Reply{Result: engine.Disconnected}},
		{"", Reply{Result: engine.Disconnected}},
	} {
		theirs, in := io.Pipe()
		out, answer := io.Pipe()
		go func() {
			line, _ := bufio.NewReader(theirs).ReadString('\n')
			defer answer.Close()
			if !strings.HasPrefix(line, `{"specversion":"1.0","traceparent":"`+trace+`","id":"e"`) {
				fmt.Fprintf(answer, "%q\n", "no trace in "+line)
			}
			_, _ = io.WriteString(answer, c.answer)
		}()
		l := NewLines(in, out, nil, func() {})
		m := line(t.Context(), &plan.Function{Transport: plan.Lines}, nil,
			[]*event.Event{{ID: "e", Source: "s", Type: "t", DataContentType: "application/json",
				Data: []byte("{\n\"a\": 1}")}}, false)
		r := l.Do(t.Context(), &m, trace)
		if r.Status != c.want.Status || string(r.Body) != string(c.want.Body) || r.Size != c.want.Size ||
			r.Result != c.want.Result || r.Done.IsZero() {
			t.Errorf("%q is understood as %+v", c.answer, r)
		}
		if c.want.Status == 422 && r.RetryAfter != 2e9 {
			t.Errorf("Retry-After is %v", r.RetryAfter)
		}
	}
}

// A reply too many is not taken for that of the next event, where it carries the id of the
// one before; what else is said meanwhile is logged.
func TestALineTooManyShiftsNothing(t *testing.T) {
	theirs, in := io.Pipe()
	out, answer := io.Pipe()
	var strays []string
	go func() {
		asked := bufio.NewScanner(theirs)
		for asked.Scan() {
			id := idOf(asked.Bytes())
			fmt.Fprintf(answer, "working on %s\n{\"id\": %q, \"n\": 1}\n{\"id\": %q, \"n\": 2}\n", id, id, id)
		}
		answer.Close()
	}()
	l := NewLines(in, out, func(s string) { strays = append(strays, s) }, func() {})
	for k := range 50 {
		id := fmt.Sprintf("e%d", k)
		m := line(t.Context(), &plan.Function{Transport: plan.Lines}, nil,
			[]*event.Event{{ID: id, Source: "s", Type: "t"}}, false)
		if r := l.Do(t.Context(), &m, trace); string(r.Body) != fmt.Sprintf(`{"id": %q, "n": 1}`, id) {
			t.Fatalf("%s got %q %s", id, r.Body, r.Why)
		}
	}
	l.Close()
	for range l.replies { // until it has ended
	}
	if len(strays) != 100 {
		t.Errorf("%d lines were logged: %q", len(strays), strays[:min(len(strays), 5)])
	}
}

// A line that is too long is given up, with the process that writes it; one that
// no one asked for answers nothing.
func TestLinesThatDoNotFit(t *testing.T) {
	theirs, in := io.Pipe()
	out, answer := io.Pipe()
	asked := bufio.NewReader(theirs)
	strays, given := make(chan string, 1), make(chan bool, 1)
	l := NewLines(in, out, func(s string) { strays <- s }, func() { given <- true; answer.Close() })
	go fmt.Fprintln(answer, "no one asked")
	if s := <-strays; s != "no one asked\n" {
		t.Errorf("the stray line is %q", s)
	}
	go func() {
		_, _ = asked.ReadString('\n')
		for chunk := strings.Repeat("x", 1<<20); ; {
			if _, err := io.WriteString(answer, chunk); err != nil {
				return
			}
		}
	}()
	m := Message{Body: []byte("{}\n")}
	if r := l.Do(t.Context(), &m, trace); r.Result != engine.TooLarge || !<-given {
		t.Errorf("an endless line is %v: %s", r.Result, r.Why)
	}
	wrapped := line(t.Context(), &plan.Function{Transport: plan.Lines}, &event.Request{Method: "GET", Target: "/a?b=c",
		Header: []event.Field{{Name: "X", Value: "1"}, {Name: "x", Value: "2"}}, Body: []byte{0xff}}, nil, false)
	if text := string(wrapped.Body); !strings.Contains(text,
		`"data":{"body_base64":"/w==","headers":{"x":"1, 2"},"method":"GET","target":"/a?b=c"}`) ||
		!strings.HasSuffix(text, "}\n") {
		t.Errorf("a request is the line %s", text)
	}
	if m := line(t.Context(), &plan.Function{Transport: plan.Lines, Deliver: plan.DeliverBody}, nil,
		[]*event.Event{{Data: []byte("two\nlines")}}, false); m.Wrong == "" {
		t.Errorf("two lines were taken for one: %q", m.Body)
	}
}

type nowhere struct{ io.Writer }

func (nowhere) Close() error { return nil }

// The forms of a CGI reply (RFC 3875 §6.3) and what is none; the environment has
// what it requests (§4.1), and nothing secret.
func TestOneShot(t *testing.T) {
	var env []string
	for _, c := range []struct {
		out, how string
		status   int
		body     string
		result   engine.Result
	}{
		{"Content-Type: text/plain\n\nfare", "", 200, "fare", engine.OK},
		{"Status: 404 Not Found\r\nContent-Type: text/plain\r\n\r\nno such crossing", "exited with code 1", 404,
			"no such crossing", engine.OK},
		{"Location: /elsewhere\n\n", "", 302, "", engine.OK},
		{"fare: 450\n\n", "", 0, "", engine.Garbled},
		{"no header at all", "", 0, "", engine.Garbled},
		{"Content-Type: text/plain\nStatus: 2", "", 0, "", engine.Disconnected},
		{"no header\nat all\n\n", "", 0, "", engine.Garbled},
		{"Status: fine\n\n", "", 0, "", engine.Garbled},
		{"", "exited with code 5", 0, "", engine.Crash},
		{"", "", 0, "", engine.Disconnected},
		{"X: " + strings.Repeat("h", 2<<20), "", 0, "", engine.TooLarge},
	} {
		o := &OneShot{Keep: Kept, Start: func(e []string) (Program, error) {
			env = e
			return Program{In: nowhere{io.Discard}, Out: io.NopCloser(strings.NewReader(c.out)),
				Ended: func() string { return c.how }}, nil
		}}
		m := Message{Method: "POST", Target: "/quote/north%20pier?day=fri", Body: []byte("{}"),
			Header: []event.Field{{Name: "Content-Type", Value: "application/json"},
				{Name: "Authorization", Value: "Bearer secret"}, {Name: "Proxy", Value: "evil"},
				{Name: "X-Desk", Value: "1"}, {Name: "x-desk", Value: "2"}}}
		r := o.Do(t.Context(), &m, trace)
		if got := r.Status; r.Result != c.result || c.result == engine.OK && (got != c.status ||
			string(r.Body) != c.body) {
			t.Errorf("%.40q: %v, status %d, body %q, %s", c.out, r.Result, got, r.Body, r.Why)
		}
	}
	all := strings.Join(env, "\n")
	for _, want := range []string{"REQUEST_METHOD=POST", "PATH_INFO=/quote/north pier", "QUERY_STRING=day=fri",
		"CONTENT_LENGTH=2", "CONTENT_TYPE=application/json", "HTTP_X_DESK=1, 2", "HTTP_TRACEPARENT=" + trace,
		"GATEWAY_INTERFACE=CGI/1.1"} {
		if !strings.Contains(all, want) {
			t.Errorf("%s is missing in\n%s", want, all)
		}
	}
	if strings.Contains(all, "secret") || strings.Contains(all, "evil") {
		t.Errorf("what should not be told stands in\n%s", all)
	}
	o := &OneShot{Start: func([]string) (Program, error) { return Program{}, errors.New("not there") }}
	if r := o.Do(t.Context(), &Message{}, trace); r.Result != engine.StartFailure || r.Why != "not there" {
		t.Errorf("a program that does not start is %+v", r)
	}
}
