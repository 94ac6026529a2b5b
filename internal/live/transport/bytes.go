package transport

import (
	"fmt"
	"hash/maphash"
	"net/http"
	"slices"

	"nightdrill.dev/internal/core/payload"
)

// What is kept of events and replies to be looked at: first line, headers,
// body, as they would stand on the wire, without what is secret or changes with
// every reply.

// Kept is how much of an event or a reply is kept.
const Kept = bodyKept

// Text returns a message as it is kept.
func (m *Message) Text() []byte {
	b := fmt.Appendf(nil, "%s %s\n", m.Method, payload.ShownTarget(m.Target))
	for _, h := range m.Header {
		b = appendHeader(b, h.Name, h.Value)
	}
	return append(append(b, '\n'), m.Body[:min(len(m.Body), Kept)]...)
}

// LeftOut replaces the value of a secret header.
const LeftOut = "(left out)"

func appendHeader(b []byte, name, value string) []byte {
	if payload.SecretHeader(name) {
		value = LeftOut
	}
	return fmt.Appendf(b, "%s: %s\n", name, value)
}

// ownPlace are the headers of replies that are kept elsewhere, or not at all:
// they differ from one reply to the next although nothing else does.
var ownPlace = []string{"Date", "Server-Timing"}

// Text returns a reply as it is kept.
func (r *Reply) Text() []byte {
	b := fmt.Appendf(nil, "%d %s\n", r.Status, http.StatusText(r.Status))
	for _, name := range headerNames(r.Header) {
		for _, v := range r.Header[name] {
			b = appendHeader(b, name, v)
		}
	}
	kept := r.Body[:min(len(r.Body), Kept)]
	b = append(append(b, '\n'), kept...)
	if r.Size > int64(len(kept)) {
		b = fmt.Appendf(b, "\n(the first %d of %d bytes)", len(kept), r.Size)
	}
	return b
}

func headerNames(h http.Header) []string {
	names := make([]string, 0, len(h))
	for name := range h {
		if !slices.Contains(ownPlace, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// Key is the same for replies of which the same is kept, and different for
// others but for a chance of 2⁻⁶⁴.
func (r *Reply) Key() uint64 {
	key := maphash.Bytes(seed, r.Body) ^ uint64(r.Status)<<48 ^ uint64(r.Size)
	if r.Status == 0 {
		return key
	}
	if r.headKey != 0 {
		return key + r.headKey
	}
	return key + headerKey(r.Header)
}
