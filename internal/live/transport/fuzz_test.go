package transport

import (
	"bufio"
	"bytes"
	"context"
	"net"
	"reflect"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
)

// peer is a link to a process that wrote some bytes and ended.
type peer struct{ *bytes.Reader }

func (peer) Write(b []byte) (int, error)        { return len(b), nil }
func (peer) Close() error                       { return nil }
func (peer) LocalAddr() net.Addr                { return nil }
func (peer) RemoteAddr() net.Addr               { return nil }
func (peer) SetDeadline(time.Time) error        { return nil }
func (peer) SetReadDeadline(t time.Time) error  { return nil }
func (peer) SetWriteDeadline(t time.Time) error { return nil }

// Whatever a loader writes, each invocation has one reply, which is whole or says what is wrong.
func FuzzFrames(f *testing.F) {
	f.Add(appendFrame(nil, 1, []byte(`{"kind":"json","user_ns":5}`), []byte(`{"fare": 12}`)))
	f.Add(appendFrame(nil, 1, []byte(`{"kind":"error","error":{"type":"KeyError","trace":["a.py:1"]}}`), nil))
	f.Add(appendFrame(appendFrame(nil, 1, []byte(`{"kind":"response","status":204,"headers":[["A","b"]]}`), nil), 2,
		[]byte(`{}`), nil))
	f.Add([]byte("\x00\x00\x00\x01\xff\xff\xff\xff\x00\x00\x00\x00"))
	function := &plan.Function{Timeout: time.Second, Handler: &plan.Handler{Reply: &plan.ReplyShape{}}}
	request := &event.Request{Method: "GET", Target: "/quote"}
	f.Fuzz(func(t *testing.T, wrote []byte) {
		link := peer{bytes.NewReader(wrote)}
		frames := NewFrames(link, bufio.NewReader(link), function, "quote-1")
		m := call(context.Background(), function, request, nil, false)
		for range 3 {
			r := frames.Do(context.Background(), &m, "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
			if r.Done.IsZero() || r.Result == engine.OK && (r.Status < 100 || r.Status > 999) ||
				r.Result != engine.OK && r.Result != engine.BadStatus && r.Why == "" {
				t.Fatalf("%+v", r)
			}
		}
		_, _ = ReadHello(bufio.NewReader(bytes.NewReader(wrote))) // it must end
	})
}

// Whatever a function writes on the wire, a reply is HTTP with a status, or it is said what it is instead.
func FuzzReply(f *testing.F) {
	for _, text := range []string{"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n", "HTTP/1.1 100 Continue\r\n\r\n",
		"HTTP/1.1 204 No Content\r\nContent-Length: 5\r\n\r\nhello", "hello\n",
		"HTTP/1.1 101 Switching Protocols\r\n\r\n",
		"HTTP/1.0 200 OK\r\n\r\nuntil the end"} {
		f.Add([]byte(text), "GET")
	}
	f.Fuzz(func(t *testing.T, wrote []byte, method string) {
		c := New("127.0.0.1:1")
		first := replyTo(c, method, wrote)
		if first.Done.IsZero() || first.Result == engine.OK && (first.Status < 200 || first.Status > 999) ||
			first.Result != engine.OK && first.Result != engine.BadStatus && first.Why == "" {
			t.Fatalf("%+v", first)
		}
		_, _ = first.Plain()
		// a head that is known means what it meant, and nothing else in answer to another method
		for _, method := range []string{method, "HEAD", method} {
			again, fresh := replyTo(c, method, wrote), replyTo(New("127.0.0.1:1"), method, wrote)
			if again.Key() != fresh.Key() {
				t.Errorf("%s: the key is %x, and %x where the head is not known", method, again.Key(), fresh.Key())
			}
			for _, r := range []*Reply{&again, &fresh} {
				r.Sent, r.Received, r.Done, r.RetryAfter, r.headKey = time.Time{}, time.Time{}, time.Time{}, 0, 0
			}
			if !reflect.DeepEqual(again, fresh) {
				t.Errorf("%s: %+v, and where the head is not known %+v", method, again, fresh)
			}
		}
	})
}

// replyTo returns what a connection makes of what its function wrote before it ended.
func replyTo(c *Conn, method string, wrote []byte) Reply {
	c.conn, c.used = peer{bytes.NewReader(wrote)}, time.Now()
	c.raw = limited{from: c.conn}
	c.in.Reset(&c.raw)
	return c.read(c.prepare(&Message{Method: method, Target: "/"}, ""), Reply{Sent: time.Now()})
}
