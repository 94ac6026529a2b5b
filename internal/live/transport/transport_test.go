package transport

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/template"
)

// serve answers each connection's requests with what `answer` writes; a false
// closes the connection.
func serve(t *testing.T, answer func(net.Conn, *http.Request) bool) (address string, conns *atomic.Int32) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	conns = &atomic.Int32{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			conns.Add(1)
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for {
					req, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					io.Copy(io.Discard, req.Body)
					if !answer(c, req) {
						return
					}
				}
			}()
		}
	}()
	return l.Addr().String(), conns
}

// Half answers, garbage and too much are distinguished.
func TestRepliesAreToldApart(t *testing.T) {
	const ok = "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"
	for name, c := range map[string]struct {
		raw    string
		result engine.Result
		status int
	}{
		"whole":              {ok, engine.OK, 200},
		"after 100 Continue": {"HTTP/1.1 100 Continue\r\n\r\n" + ok, engine.OK, 200},
		"not found":          {"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n", engine.OK, 404},
		"two replies":        {ok + ok, engine.Garbled, 200},
		"more than its size": {ok + "!", engine.Garbled, 200},
		"a body of 204":      {"HTTP/1.1 204 No Content\r\n\r\nok", engine.Garbled, 204},
		"a body of 304":      {"HTTP/1.1 304 Not Modified\r\nContent-Length: 2\r\n\r\nok", engine.Garbled, 304},
		"a size of 304":      {"HTTP/1.1 304 Not Modified\r\nContent-Length: 2\r\n\r\n", engine.OK, 304},
		"after the last": {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n2\r\nok\r\n0\r\n\r\n!", engine.Garbled,
			200},
		"101": {"HTTP/1.1 101 Switching Protocols\r\nUpgrade: x\r\nConnection: upgrade\r\n\r\n",
			engine.Garbled, 0},
		"nothing":          {"", engine.Disconnected, 0},
		"half the headers": {"HTTP/1.1 200 OK\r\nConte", engine.Disconnected, 0},
		"half the body":    {"HTTP/1.1 200 OK\r\nContent-Length: 20\r\n\r\nhalf", engine.Disconnected, 200},
		"half a chunk":     {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nab", engine.Disconnected, 200},
		"not HTTP":         {"SSH-2.0-quay\r\n", engine.Garbled, 0},
		"a broken chunk":   {"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n", engine.Garbled, 200},
		"endless headers":  {"HTTP/1.1 200 OK\r\nX: " + strings.Repeat("x", headLimit+1), engine.TooLarge, 0},
		"endless body":     {"HTTP/1.1 200 OK\r\n\r\n" + strings.Repeat("x", ReplyLimit+1), engine.TooLarge, 200},
	} {
		t.Run(name, func(t *testing.T) {
			address, _ := serve(t, func(w net.Conn, _ *http.Request) bool { io.WriteString(w, c.raw); return false })
			r := New(address).Do(context.Background(), &Message{Method: "GET", Target: "/"}, "")
			if r.Result != c.result || r.Status != c.status {
				t.Errorf("result %v (%s), status %d; want %v, %d", r.Result, r.Why, r.Status, c.result, c.status)
			}
			if r.Done.Before(r.Sent) || !r.Received.IsZero() && r.Received.Before(r.Sent) {
				t.Errorf("times out of order: %v %v %v", r.Sent, r.Received, r.Done)
			}
		})
	}
	l, _ := net.Listen("tcp", "127.0.0.1:0")
	l.Close()
	if r := New(l.Addr().String()).Do(context.Background(), &Message{Method: "GET", Target: "/"},
		""); r.Result != engine.Unreachable || !r.Sent.IsZero() {
		t.Errorf("no one listens: %+v", r)
	}
}

// A request is sent once on a connection that is kept; one that the other end
// has closed meanwhile is noticed before it is used.
func TestAConnectionIsKeptAndAStaleOneNoticed(t *testing.T) {
	var closing atomic.Bool
	requests := make(chan string, 10)
	address, conns := serve(t, func(w net.Conn, r *http.Request) bool {
		last := closing.Load() // before the reply, upon which the test goes on
		requests <- r.Method + " " + r.RequestURI + " " + r.Header.Get("Traceparent") + " " + r.Header.Get("X-Desk")
		io.WriteString(w, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\nRetry-After: 3\r\n\r\n")
		return !last
	})
	c := New(address)
	m := &Message{Method: "PUT", Target: "/a%20b/?q=%2F", Header: []event.Field{{Name: "x-desk", Value: "3"},
		{Name: "Host", Value: "x"}}}
	for i := range 3 {
		closing.Store(i == 2)
		if r := c.Do(context.Background(), m, "00-1-2-01"); r.Result != engine.OK || r.RetryAfter != 3*time.Second {
			t.Fatalf("reply %+v", r)
		}
		if got, want := <-requests, "PUT /a%20b/?q=%2F 00-1-2-01 3"; got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	if n := conns.Load(); n != 1 {
		t.Errorf("%d connections, want 1", n)
	}
	for closed := false; !closed; { // until the other end's close has come through
		_, closed = look(c.conn)
	}
	if r := c.Do(context.Background(), m, ""); r.Result != engine.OK || conns.Load() != 2 {
		t.Errorf("after the close: %+v on connection %d", r, conns.Load())
	}
}

// A connection that is closed instead of a reply is one that the function should have announced, if it brought replies
// before; from then on each connection is looked at.
func TestAConnectionIsClosedUnannounced(t *testing.T) {
	var n atomic.Int32
	address, _ := serve(t, func(w net.Conn, _ *http.Request) bool {
		odd := n.Add(1)%2 == 1
		if odd {
			io.WriteString(w, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
		}
		return odd
	})
	c := New(address)
	for i := range 5 {
		r := c.Do(t.Context(), &Message{Method: "GET", Target: "/"}, "")
		if odd := i%2 == 1; (r.Result == engine.Disconnected) != odd || r.Closed != odd || c.closes != (i > 0) {
			t.Errorf("%d: %v %s, closed %v", i, r.Result, r.Why, r.Closed)
		}
	}
	c.replies, c.used = unlookedTill+1, time.Now().Add(time.Hour)
	if c.check(); c.unlooked {
		t.Error("a connection is not looked at that may be closed")
	}
	first, _ := serve(t, func(net.Conn, *http.Request) bool { return false })
	if r := New(first).Do(t.Context(), &Message{Method: "GET", Target: "/"}, ""); r.Closed || r.Result == engine.OK {
		t.Errorf("a new connection: %+v", r)
	}
}

// A reply that comes a moment after the one it follows is not taken for that of the next
// request: the connection is closed before that is written, and it is said of whom.
func TestAReplyTooManyShiftsNothing(t *testing.T) {
	surplus := make(chan bool)
	address, conns := serve(t, func(w net.Conn, r *http.Request) bool {
		body := r.RequestURI
		fmt.Fprintf(w, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
		if body == "/twice" {
			<-surplus
			fmt.Fprintf(w, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s", len(body), body)
		}
		return true
	})
	c := New(address)
	for i, target := range []string{"/a", "/twice", "/b", "/c"} {
		r := c.Do(context.Background(), &Message{Method: "GET", Target: target}, "")
		if r.Result != engine.OK || string(r.Body) != target || r.Before != (target == "/b") || !r.Quiet &&
			(i == 0 || target == "/b") {
			t.Errorf("%d: %s got %q, %v %s; before: %v", i, target, r.Body, r.Result, r.Why, r.Before)
		}
		if target == "/twice" {
			surplus <- true
			for sent := false; !sent; {
				sent, _ = look(c.conn)
			}
		}
	}
	if n := conns.Load(); n != 2 {
		t.Errorf("%d connections", n)
	}
}

// A connection that has proven itself is used again without a look, but neither after a pause nor time after time;
// then it is said that a reply that is none may be what followed the one before.
func TestLooksAreSparedOnlyInARow(t *testing.T) {
	surplus := make(chan bool, 1)
	address, _ := serve(t, func(w net.Conn, r *http.Request) bool {
		io.WriteString(w, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
		if r.RequestURI == "/more" {
			io.WriteString(w, "more")
			surplus <- true
		}
		return true
	})
	for name, x := range map[string]struct {
		replies int // on the connection, after the one that was followed by more
		ago     time.Duration
		looked  bool
	}{
		"at once":           {unlookedTill + 1, -time.Hour, false},
		"after a pause":     {unlookedTill + 1, unlookedFor, true},
		"time after time":   {2 * unlookedTill, -time.Hour, true},
		"not proven so far": {unlookedTill, -time.Hour, true},
	} {
		c := New(address)
		if r := c.Do(t.Context(), &Message{Method: "GET", Target: "/"}, ""); r.Result != engine.OK {
			t.Fatal(r.Why)
		}
		if r := c.Do(t.Context(), &Message{Method: "GET", Target: "/more"}, ""); r.Surplus { // it was quick enough
			<-surplus
			continue
		}
		<-surplus
		for sent := false; !sent; {
			sent, _ = look(c.conn)
		}
		c.replies, c.used = x.replies, time.Now().Add(-x.ago)
		r := c.Do(t.Context(), &Message{Method: "GET", Target: "/"}, "")
		if r.Before != x.looked || (r.Result == engine.OK) != x.looked ||
			!x.looked && !strings.Contains(r.Why, "had followed the reply before it") {
			t.Errorf("%s: looked %v, %v %s", name, r.Before, r.Result, r.Why)
		}
	}
}

// sink is a connection that keeps what is written.
type sink struct {
	peer
	got *bytes.Buffer
}

func (s sink) Write(b []byte) (int, error) { return s.got.Write(b) }

// A request that is sent again is on the wire what it would be if it were encoded anew.
func TestARequestSentAgain(t *testing.T) {
	large := &event.Request{Method: "POST", Target: "/", Body: bytes.Repeat([]byte("x"), wireKept)}
	quote := &event.Request{Method: "PUT", Target: "/quote?b=%2F", Body: []byte("Traceparent: none"),
		Header: []event.Field{{Name: "x-desk", Value: "3"}, {Name: "traceparent", Value: "00-own"}}}
	c := New("127.0.0.1:1")
	got, want := &bytes.Buffer{}, &bytes.Buffer{}
	c.conn = sink{got: got}
	c.out.Reset(c.conn)
	for i, of := range []*event.Request{{Method: "GET", Target: "/"}, quote, quote, large, large, quote,
		{Method: "POST", Target: "/a"}, {Method: "HEAD", Target: "/a\n"}, quote, quote} {
		for _, trace := range []string{Traceparent(1, int64(i), 7), Traceparent(2, int64(i), 8), "00-short-01"} {
			m := Build(t.Context(), &plan.Function{}, of, nil, false)
			err := c.write(c.prepare(&m, trace))
			if other := c.made(&m, trace).Write(want); (err == nil) != (other == nil) {
				t.Errorf("%d: %v, but %v anew", i, err, other)
			}
			if got.String() != want.String() {
				t.Fatalf("%d: sent %q, but anew %q", i, got, want)
			}
			got.Reset()
			want.Reset()
			c.out.Reset(c.conn)
		}
	}
}

func TestFormsOfDelivery(t *testing.T) {
	e := &event.Event{ID: "1", Source: "s", Type: "t", Data: []byte(`{"a":1}`)}
	for _, c := range []struct {
		deliver plan.Deliver
		batch   bool
		kind    string
		body    string
	}{
		{plan.DeliverBinary, false, "application/json", `{"a":1}`},
		{plan.DeliverBody, false, "application/json", `{"a":1}`},
		{plan.DeliverStructured, false, event.StructuredType,
			`{"specversion":"1.0","id":"1","source":"s","type":"t","data":{"a":1}}`},
		{plan.DeliverBinary, true, event.BatchType,
			`[{"specversion":"1.0","id":"1","source":"s","type":"t","data":{"a":1}}]`},
	} {
		m := Build(t.Context(), &plan.Function{Path: "/in", Deliver: c.deliver}, nil, []*event.Event{e}, c.batch)
		r := m.request("127.0.0.1:1", "")
		if got := r.Header.Get("Content-Type"); got != c.kind || string(m.Body) != c.body || r.Method != "POST" ||
			r.URL.RequestURI() != "/in" {
			t.Errorf("%v, batch %v: %s %s %s %s", c.deliver, c.batch, r.Method, r.URL.RequestURI(), got, m.Body)
		}
		if ce := r.Header.Get("Ce-Id"); (ce == "1") != (c.deliver == plan.DeliverBinary && !c.batch) {
			t.Errorf("%v: ce-id %q", c.deliver, ce)
		}
	}
}

// A shaped event is what the template makes of it; where it makes nothing, the
// attempt fails with the reason and nothing is sent.
func TestShaped(t *testing.T) {
	shaped := func(text string) *plan.Function {
		s, err := template.Parse("event.tmpl", text, "")
		if err != nil {
			t.Fatal(err)
		}
		return &plan.Function{Path: "/in", Deliver: plan.DeliverShaped, Shape: s}
	}
	ask := &event.Request{Method: "GET", Target: "/quote?x=1", Header: []event.Field{{Name: "Accept", Value: "a/b"}}}
	m := Build(t.Context(), shaped(`{"path":{{json .Path}},"x":{{json .Query.x}}}`), ask, nil, false)
	if m.Method != "POST" || m.Target != "/in" || string(m.Body) != `{"path":"/quote","x":"1"}` ||
		m.Header[0].Value != "application/json" {
		t.Errorf("%+v", m)
	}
	events := []*event.Event{{ID: "1", Data: []byte("a")}, {ID: "2", Data: []byte("b")}}
	if m = Build(t.Context(), shaped("{{range .Events}}{{.ID}}{{.Text}}{{end}}"), nil, events,
		true); string(m.Body) != "1a2b" {
		t.Errorf("a batch is %s", m.Body)
	}
	m = Build(t.Context(), shaped("{{parse .Text}}"), nil, events[:1], false)
	r := New("127.0.0.1:1").Do(t.Context(), &m, "")
	if r.Result != engine.Garbled || !strings.Contains(r.Why, "could not be shaped") || !r.Sent.IsZero() {
		t.Errorf("%+v", r)
	}
}
