package front

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/event"
)

func open(t *testing.T, answer func(*event.Request) Answer) *Front {
	t.Helper()
	f, err := Open("127.0.0.1:0", []string{"quay.example"}, func(_ context.Context, r *event.Request,
		_ []string) Answer {
		return answer(r)
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.Close)
	return f
}

// A request comes in as it was sent, but for what belongs to its connection; the
// answer goes out in the same way.
func TestARequestAndItsAnswer(t *testing.T) {
	var got *event.Request
	f := open(t, func(r *event.Request) Answer {
		got = r
		return Answer{418, http.Header{"X-Tide": {"in", "out"}, "Content-Length": {"99"}, "Connection": {"close"},
			"Content-Type": {"text/tide"}}, []byte("pot\x00")}
	})
	conn, err := net.Dial("tcp", f.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprintf(conn, "POST /a%%20b/?q=%%2F&q HTTP/1.1\r\nHost: quay.example\r\nX-Multi: 1\r\nx-multi: "+
		"2\r\nConnection: close, X-Hop\r\nX-Hop: gone\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n")
	reply, _ := io.ReadAll(conn)
	if got == nil || got.Method != "POST" || got.Target != "/a%20b/?q=%2F&q" || string(got.Body) != "abc" {
		t.Fatalf("it came as %+v", got)
	}
	if h := fmt.Sprint(got.Header); h != "[{Host quay.example false} {X-Multi 1 false} {X-Multi 2 false}]" {
		t.Errorf("headers %s", h)
	}
	text := string(reply)
	for _, want := range []string{"HTTP/1.1 418 ", "X-Tide: in\r\nX-Tide: out\r\n", "Content-Type: text/tide\r\n",
		"Content-Length: 4\r\n", "\r\n\r\npot\x00"} {
		if !strings.Contains(text, want) {
			t.Errorf("the answer lacks %q:\n%s", want, text)
		}
	}
	if strings.Contains(text, "99") {
		t.Errorf("the answer has the function's length:\n%s", text)
	}
}

// HEAD has no body, and neither have answers that may not have one.
func TestAnswersWithoutABody(t *testing.T) {
	f := open(t, func(r *event.Request) Answer {
		if r.Method == "HEAD" {
			return Answer{200, http.Header{"Content-Length": {"17"}}, []byte("body")}
		}
		return Answer{204, nil, nil}
	})
	for method, want := range map[string]int{"HEAD": 200, "DELETE": 204} {
		r, _ := http.NewRequest(method, "http://"+f.Address, nil)
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		if resp.StatusCode != want || len(body) > 0 || method == "HEAD" && resp.ContentLength != 17 {
			t.Errorf("%s: %d %q", method, resp.StatusCode, body)
		}
	}
}

// A body that is too large is refused, a caller that goes away is forgotten.
func TestTooLarge(t *testing.T) {
	asked := 0
	f := open(t, func(r *event.Request) Answer { asked++; return Answer{200, nil, nil} })
	resp, err := http.Post("http://"+f.Address, "text/plain", bytes.NewReader(make([]byte, bodyLimit+1)))
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(resp.Body)
	if resp.StatusCode != 413 || !strings.Contains(string(text), "larger than 64 MiB") || asked != 0 {
		t.Errorf("%d %s, asked %d times", resp.StatusCode, text, asked)
	}
	conn, err := net.Dial("tcp", f.Address)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "POST / HTTP/1.1\r\nHost: localhost\r\nContent-Length: 100\r\n\r\nabc")
	_ = conn.(*net.TCPConn).CloseWrite()
	if text, _ := io.ReadAll(conn); !strings.HasPrefix(string(text), "HTTP/1.1 400 ") || !strings.Contains(string(text),
		"ended before its body was complete") {
		t.Errorf("a body that breaks off: %s", text)
	}
	conn.Close()
	if resp, err := http.Get("http://" + f.Address); err != nil || resp.StatusCode != 200 || asked != 1 {
		t.Errorf("after it: %v %v, asked %d times", resp, err, asked)
	}
}

// A request with two framings, a length and chunks, ends its connection: what follows it is
// no one's request.
func TestTwoFramings(t *testing.T) {
	var asked []string
	f := open(t, func(r *event.Request) Answer { asked = append(asked, r.Target); return Answer{200, nil, nil} })
	conn, err := net.Dial("tcp", f.Address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprintf(conn, "POST /first HTTP/1.1\r\nHost: localhost\r\nContent-Length: 6\r\nTransfer-Encoding: chunked\r\n"+
		"\r\n0\r\n\r\nGET /hidden HTTP/1.1\r\nHost: localhost\r\n\r\n")
	text, err := io.ReadAll(conn) // to the end of the connection
	if err != nil || strings.Count(string(text), "HTTP/1.1 ") != 1 ||
		!strings.Contains(string(text), "Connection: close") || !slices.Equal(asked, []string{"/first"}) {
		t.Errorf("%q, %v, asked for %v", text, err, asked)
	}
}

// An address that is taken: another port when none was requested, else an error
// that says what to do.
func TestWhereItListens(t *testing.T) {
	usual, err := net.Listen("tcp", Usual)
	if err == nil {
		defer usual.Close()
	}
	f, err := Open("", nil, func(context.Context, *event.Request, []string) Answer { return Answer{Status: 200} })
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if !strings.HasPrefix(f.Address, "127.0.0.1:") || f.Address == Usual || !strings.Contains(f.Note, "is taken") {
		t.Errorf("it listens at %s, %q", f.Address, f.Note)
	}
	for _, wanted := range []string{f.Address, "127.0.0.1", "nowhere.invalid:1", "127.0.0.1:99999"} {
		if second, err := Open(wanted, nil, nil); err == nil || !strings.Contains(err.Error(), "--listen HOST:PORT") {
			t.Errorf("%s: %v", wanted, err)
			if second != nil {
				second.Close()
			}
		}
	}
	f.Close()
	if again, err := Open(f.Address, nil, nil); err != nil {
		t.Errorf("closed, its address is still taken: %v", err)
	} else {
		again.Close()
	}
}

func TestPlain(t *testing.T) {
	a := Plain(404, "no wire takes %s", "GET /x")
	if a.Status != 404 || string(a.Body) != "Night Drill: no wire takes GET /x\n" ||
		a.Header.Get("Content-Type") != "text/plain; charset=utf-8" {
		t.Errorf("%+v", a)
	}
}
