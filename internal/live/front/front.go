// Package front is the local HTTP entrance: a listener that makes events of
// requests and answers them as the function did. Open listens; what becomes of
// a request is decided by the function that it is given.
package front

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/live/hosts"
)

// Usual is where the front listens when no one says otherwise.
const Usual = "127.0.0.1:8420"

// bodyLimit is the largest request that is taken, in bytes.
const bodyLimit = 64 << 20

// Answer is what a caller gets.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Front is an open entrance.
type Front struct {
	Address string // host and port
	Note    string // when it is not the address that was wanted: why
	server  *http.Server
}

// Open listens at an address and hands every request to answer, with the names
// of the trailers that it came with and does not have any more. When wanted is
// "", it is the usual address, or a free port when that is taken. Requests that are addressed
// to another name than this machine's, or one of those that are allowed, are refused.
func Open(wanted string, allowed []string, answer func(context.Context, *event.Request, []string) Answer) (*Front,
	error) {
	f := &Front{}
	l, note, err := hosts.Listen(wanted, Usual)
	if err != nil {
		return nil, fmt.Errorf("the front cannot listen at %w; choose another with --listen HOST:PORT", err)
	}
	f.Note = note
	f.Address = l.Addr().String()
	f.server = &http.Server{
		Handler:           handler(allowed, answer),
		ReadHeaderTimeout: 10 * time.Second,
		MaxHeaderBytes:    1 << 20,
	}
	go func() { _ = f.server.Serve(l) }() // it ends with Close
	return f, nil
}

// At returns the address; "" of none.
func (f *Front) At() string {
	if f == nil {
		return ""
	}
	return f.Address
}

// Close ends the listening; requests that are in progress are interrupted.
func (f *Front) Close() { _ = f.server.Close() }

func handler(allowed []string, answer func(context.Context, *event.Request, []string) Answer) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		hosts.EndAfter(w, r)
		if why := hosts.Check(r, allowed); why != "" {
			http.Error(w, "Night Drill: "+why, http.StatusMisdirectedRequest)
			return
		}
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, bodyLimit))
		if err != nil {
			var large *http.MaxBytesError
			if errors.As(err, &large) {
				http.Error(w, fmt.Sprintf("Night Drill: the request is larger than %d MiB", bodyLimit>>20),
					http.StatusRequestEntityTooLarge)
			} else { // for one that only stopped sending
				http.Error(w, "Night Drill: the request ended before its body was complete; no event was made of it",
					http.StatusBadRequest)
			}
			return
		}
		a := answer(r.Context(), &event.Request{Method: r.Method, Target: r.RequestURI, Header: fields(r), Body: body},
			slices.Sorted(maps.Keys(r.Trailer)))
		for name, values := range a.Header {
			if !slices.Contains(ofConnection, strings.ToLower(name)) {
				w.Header()[name] = values
			}
		}
		if length := a.Header.Get("Content-Length"); r.Method == http.MethodHead && length != "" {
			w.Header().Set("Content-Length", length) // of what GET would have sent (RFC 9110 §8.6)
		}
		w.WriteHeader(a.Status)
		if r.Method != http.MethodHead {
			_, _ = w.Write(a.Body) // a caller that is gone needs nothing
		}
	})
}

// ofConnection are headers of one connection, which are not passed on
// (RFC 9110 §7.6.1); lengths are written anew.
var ofConnection = []string{"connection", "keep-alive", "proxy-connection", "transfer-encoding", "te", "trailer",
	"upgrade", "content-length"}

// fields returns a request's headers in a fixed order.
func fields(r *http.Request) (out []event.Field) {
	out = append(out, event.Field{Name: "Host", Value: r.Host})
	named := strings.Split(strings.ToLower(r.Header.Get("Connection")), ",")
	for name, values := range r.Header {
		lower := strings.ToLower(name)
		if slices.Contains(ofConnection, lower) ||
			slices.ContainsFunc(named, func(n string) bool { return strings.TrimSpace(n) == lower }) {
			continue
		}
		for _, v := range values {
			out = append(out, event.Field{Name: name, Value: v})
		}
	}
	slices.SortStableFunc(out[1:], func(a, b event.Field) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Plain returns an answer of the program's own, in words.
func Plain(status int, format string, args ...any) Answer {
	h := http.Header{"Content-Type": {"text/plain; charset=utf-8"}}
	return Answer{status, h, fmt.Appendf(nil, "Night Drill: "+format+"\n", args...)}
}
