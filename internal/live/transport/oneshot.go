package transport

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
)

// Program is a process that was started for one request.
type Program struct {
	In    io.WriteCloser
	Out   io.ReadCloser
	Ended func() string // waits for its end, and says how it was; "" for well
}

// OneShot is a transport with a process for each request, by CGI (RFC 3875).
type OneShot struct {
	Start func(env []string) (Program, error)
	Keep  int
}

// Close does nothing: what runs ends with its request.
func (o *OneShot) Close() {}

// Do starts the program with the request in its environment and on its standard
// input, and reads the reply from its standard output.
func (o *OneShot) Do(_ context.Context, m *Message, trace string) Reply {
	if m.Wrong != "" {
		return Reply{Done: time.Now(), Result: engine.Garbled, Why: m.Wrong}
	}
	r := Reply{Sent: time.Now()}
	p, err := o.Start(cgi(m, trace))
	if err != nil {
		return Reply{Done: time.Now(), Result: engine.StartFailure, Why: err.Error()}
	}
	go func() {
		_, _ = p.In.Write(m.Body) // it need not read it
		p.In.Close()
	}()
	defer p.Out.Close()
	raw := &limited{from: p.Out, left: headLimit}
	in := bufio.NewReaderSize(raw, 16<<10)
	fail := func(result engine.Result, why string) Reply {
		r.Done, r.Result, r.Why = time.Now(), result, why
		return r
	}
	if _, err := in.Peek(1); err != nil {
		how := p.Ended()
		if how == "" {
			return fail(engine.Disconnected, "it ended without a reply")
		}
		return fail(engine.Crash, "it ended without a reply: "+how)
	}
	r.Received = time.Now()
	head, err := textproto.NewReader(in).ReadMIMEHeader()
	switch {
	case raw.left <= 0:
		return fail(engine.TooLarge, fmt.Sprintf("the headers of the reply are larger than %d KiB", headLimit>>10))
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return fail(engine.Disconnected, "its output ended in the middle of the headers")
	case err != nil:
		return fail(engine.Garbled, "the reply is not valid CGI: "+err.Error())
	}
	if why := o.status(&r, http.Header(head)); why != "" {
		return fail(engine.Garbled, why)
	}
	raw.left = ReplyLimit + 1
	body := &Conn{Keep: o.Keep}
	if err := body.body(&r, in); r.Size > ReplyLimit || errors.Is(err, errLimit) {
		return fail(engine.TooLarge, fmt.Sprintf("the reply is larger than %d MiB", ReplyLimit>>20))
	}
	r.Done = time.Now()
	return r
}

// status reads the status of a reply from its headers (RFC 3875 §6.3).
func (o *OneShot) status(r *Reply, head http.Header) (why string) {
	r.Header, r.Status = head, http.StatusOK
	text, _, _ := strings.Cut(head.Get("Status"), " ")
	switch {
	case text != "":
		n, err := strconv.Atoi(text)
		if err != nil || n < 200 || n > 599 {
			return fmt.Sprintf("the reply is not valid CGI: its Status is %q; it must be from 200 to 599",
				head.Get("Status"))
		}
		r.Status = n
	case head.Get("Location") != "":
		r.Status = http.StatusFound
	case head.Get("Content-Type") == "":
		return "the reply is not valid CGI: it has none of Status, Location and Content-Type (RFC 3875 §6.3)"
	}
	head.Del("Status")
	r.Timing = strings.Join(head["Server-Timing"], ", ")
	r.RetryAfter = retryAfter(head.Get("Retry-After"), r.Received)
	return ""
}

// cgi returns the environment of a request (RFC 3875 §4.1). Headers that carry what
// is secret are left out, as it requests, and Proxy, which programs would take
// for a setting of their own.
func cgi(m *Message, trace string) []string {
	path, query, _ := strings.Cut(m.Target, "?")
	u := target(m.Target)
	if u.Path != "" {
		path = u.Path
	}
	env := []string{
		"GATEWAY_INTERFACE=CGI/1.1", "SERVER_PROTOCOL=HTTP/1.1", "SERVER_SOFTWARE=nightdrill", "SERVER_NAME=localhost",
		"SERVER_PORT=80",
		"REMOTE_ADDR=127.0.0.1", "REQUEST_METHOD=" + m.Method, "SCRIPT_NAME=", "PATH_INFO=" + path,
		"QUERY_STRING=" + query,
		"REQUEST_URI=" + m.Target, "CONTENT_LENGTH=" + strconv.Itoa(len(m.Body)), "HTTP_TRACEPARENT=" + trace,
	}
	values := map[string]string{}
	var order []string
	for _, h := range m.Header {
		name := strings.ReplaceAll(strings.ToUpper(h.Name), "-", "_")
		switch name {
		case "PROXY", "AUTHORIZATION", "PROXY_AUTHORIZATION", "CONTENT_LENGTH", "HOST", "TRACEPARENT":
			continue
		case "CONTENT_TYPE":
		default:
			name = "HTTP_" + name
		}
		if was, ok := values[name]; ok {
			values[name] = was + ", " + h.Value
			continue
		}
		values[name] = h.Value
		order = append(order, name)
	}
	for _, name := range order {
		env = append(env, name+"="+strings.ReplaceAll(values[name], "\x00", ""))
	}
	return env
}
