// Package publish is the entrance at which functions and other programs publish events to queues and streams: in the
// HTTP binding of CloudEvents, or as plain data.
package publish

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/suggest"
	"nightdrill.dev/internal/live/hosts"
)

// Usual is where the entrance listens when no one says otherwise.
const Usual = "127.0.0.1:8422"

// largest is the largest request that is taken, in bytes, and mostEvents how many events it may have.
const (
	largest    = payload.LargestPublished
	mostEvents = 10_000
)

// retryAfter is when events that are not taken just now may be tried again, in seconds.
const retryAfter = "1"

// Taker takes events that were published to a source, all of them or none. An error that is Later means that they may
// be taken later.
type Taker func(source int, all []payload.Payload, trace string) error

// Entrance is an open entrance.
type Entrance struct {
	Address string // host and port
	Note    string // when it is not the address that was wanted: why
	server  *http.Server
}

// URL returns the base address of the entrance; "" of none.
func (e *Entrance) URL() string {
	if e == nil {
		return ""
	}
	return "http://" + e.Address
}

// Open listens at an address: the usual one, or a free one where that is taken, when it is "". project returns the
// project as it is now; later reports whether an error of take passes.
// again, if not nil, sends the failed events of a source again.
func Open(wanted string, allowed []string, project func() *plan.Project, take Taker, again func(source string) (int,
	error),
	later func(error) bool) (*Entrance, error) {
	l, note, err := hosts.Listen(wanted, Usual)
	if err != nil {
		return nil, fmt.Errorf("events cannot be published at %w; choose another address with --publish HOST:PORT", err)
	}
	e := &Entrance{Address: l.Addr().String(), Note: note}
	h := &handler{allowed: allowed, project: project, take: take, again: again, later: later}
	e.server = &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 1 << 20}
	go func() { _ = e.server.Serve(l) }() // it ends with Close
	return e, nil
}

// Close ends the listening.
func (e *Entrance) Close() {
	if e != nil {
		_ = e.server.Close()
	}
}

type handler struct {
	allowed []string
	project func() *plan.Project
	take    Taker
	again   func(source string) (int, error)
	later   func(error) bool
}

// refusal is why a request is not taken.
type refusal struct {
	status int
	text   string
}

func refuse(status int, format string, args ...any) *refusal {
	return &refusal{status, fmt.Sprintf(format, args...)}
}

// ServeHTTP takes a request.
func (h *handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	hosts.EndAfter(w, r)
	sent, no := h.serve(w, r)
	if no == nil {
		w.WriteHeader(http.StatusAccepted)
		if sent >= 0 {
			fmt.Fprintf(w, "%d\n", sent)
		}
		return
	}
	if no.status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", retryAfter)
	}
	http.Error(w, "Night Drill: "+no.text, no.status)
}

// ways are how events come into sources that cannot be published to.
var ways = map[plan.Kind]string{
	plan.HTTP:     "it takes requests at the front, http://127.0.0.1:8420",
	plan.Storage:  "its events are changes of objects: PUT http://127.0.0.1:8421/BUCKET/KEY",
	plan.Schedule: "it makes its own events at its times",
}

// serve takes a request; sent is how many failed events are sent again, where that was asked for, and else -1.
func (h *handler) serve(w http.ResponseWriter, r *http.Request) (sent int, no *refusal) {
	if !r.URL.Query().Has(DeadLetters) {
		return -1, h.publish(w, r)
	}
	source, no := h.sourceOf(w, r)
	switch {
	case no != nil:
		return -1, no
	case h.again == nil:
		return -1, refuse(http.StatusConflict, "a drill has no dead letters to send again")
	}
	sent, err := h.again(source)
	switch {
	case err != nil && h.later(err):
		return -1, refuse(http.StatusServiceUnavailable, "%v", err)
	case err != nil:
		return -1, refuse(http.StatusConflict, "%v", err)
	}
	return sent, nil
}

// DeadLetters is the parameter of the query with which the failed events of a source are sent again.
const DeadLetters = "dead-letters"

func (h *handler) publish(w http.ResponseWriter, r *http.Request) *refusal {
	name, no := h.sourceOf(w, r)
	if no != nil {
		return no
	}
	at := h.project().SourceNamed(name)
	if at < 0 {
		return refuse(http.StatusConflict, "the source no longer exists")
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, largest))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return refuse(http.StatusRequestEntityTooLarge, "the request is larger than %d MiB", largest>>20)
	case err != nil:
		return refuse(http.StatusBadRequest, "the request ended before its body was complete; nothing was taken")
	}
	all, no := Read(r.Header, body, name)
	if no != nil {
		return no
	}
	switch err := h.take(at, all, r.Header.Get("Traceparent")); {
	case err != nil && h.later(err):
		return refuse(http.StatusServiceUnavailable, "%v; nothing was taken", err)
	case err != nil:
		return refuse(http.StatusConflict, "%v; nothing was taken", err)
	}
	return nil
}

// sourceOf returns the source that a request names, which may be published to.
func (h *handler) sourceOf(w http.ResponseWriter, r *http.Request) (string, *refusal) {
	if why := hosts.Check(r, h.allowed); why != "" {
		return "", refuse(http.StatusMisdirectedRequest, "%s", why)
	}
	if r.Header.Get("Origin") != "" || r.Header.Get("Sec-Fetch-Site") != "" {
		return "", refuse(http.StatusForbidden, "pages in a browser cannot publish events; nothing was taken")
	}
	name, err := url.PathUnescape(strings.TrimPrefix(r.URL.EscapedPath(), "/"))
	if err != nil {
		return "", refuse(http.StatusBadRequest, "the path is not validly percent-encoded")
	}
	p := h.project()
	var known []string
	for i := range p.Sources {
		if p.Sources[i].Kind.Published() {
			known = append(known, p.Sources[i].Name)
		}
	}
	at := p.SourceNamed(name)
	switch {
	case name == "":
		return "", refuse(http.StatusNotFound, "POST /SOURCE publishes an event; sources: %s", strings.Join(known,
			", "))
	case at < 0:
		hint := ""
		if near := suggest.Word(name, known); near != "" {
			hint = "; did you mean " + near + "?"
		}
		return "", refuse(http.StatusNotFound, "there is no source %q%s; events can be published to %s", name, hint,
			strings.Join(known, ", "))
	case !p.Sources[at].Kind.Published():
		return "", refuse(http.StatusConflict, "%s is of kind %s and cannot be published to: %s", name,
			p.Sources[at].Kind,
			ways[p.Sources[at].Kind])
	case r.Method != http.MethodPost:
		w.Header().Set("Allow", "POST")
		return "", refuse(http.StatusMethodNotAllowed, "events are published with POST, not %s", r.Method)
	}
	if token := p.Sources[at].Token; token != "" && !hosts.Bearer(r.Header.Get("Authorization"), token) {
		w.Header().Set("WWW-Authenticate", `Bearer realm="`+name+`"`)
		return "", refuse(http.StatusUnauthorized, "%s requires a bearer token in the header Authorization (RFC "+
			"6750 §2.1)",
			name)
	}
	return name, nil
}

// Read returns the events of a request: in the HTTP binding of CloudEvents (1.0.2, §3), or as plain data, of which an
// event is made for the source.
func Read(header http.Header, body []byte, source string) ([]payload.Payload, *refusal) {
	kind := header.Get("Content-Type")
	base, _, err := mime.ParseMediaType(kind)
	if kind != "" && err != nil {
		return nil, refuse(http.StatusUnsupportedMediaType, "the content type %q cannot be read: %v", kind, err)
	}
	cloud := strings.HasPrefix(base, "application/cloudevents")
	if cloud && base != event.StructuredType && base != event.BatchType {
		return nil, refuse(http.StatusUnsupportedMediaType, "events in the format %s are not read; send %s or %s", base,
			event.StructuredType, event.BatchType)
	}
	binary := false
	r := &event.Request{Method: http.MethodPost, Body: body}
	for name, values := range header {
		lower := strings.ToLower(name)
		binary = binary || strings.HasPrefix(lower, "ce-")
		for _, v := range values {
			r.Header = append(r.Header, event.Field{Name: name, Value: v})
		}
	}
	if !cloud && !binary {
		return []payload.Payload{plain(kind, body, source)}, nil
	}
	if !cloud {
		for _, needed := range []string{"Ce-Specversion", "Ce-Id", "Ce-Source", "Ce-Type"} {
			switch v := header.Get(needed); {
			case v == "":
				return nil, refuse(http.StatusBadRequest, "the attribute %s is missing", strings.ToLower(needed))
			case needed == "Ce-Specversion" && v != "1.0":
				return nil, refuse(http.StatusBadRequest, "the attribute ce-specversion is %q; 1.0 is read", v)
			}
		}
		slices.SortFunc(r.Header, func(a, b event.Field) int { return strings.Compare(a.Name, b.Name) })
	}
	all, err := (&payload.Payload{Request: r}).Events()
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "%s; nothing was taken", strings.TrimPrefix(err.Error(),
			"request.postData: "))
	}
	if len(all) > mostEvents {
		return nil, refuse(http.StatusRequestEntityTooLarge, "the batch has %d events; the limit is %d", len(all),
			mostEvents)
	}
	return all, nil
}

// plain makes an event of data without attributes.
func plain(kind string, body []byte, source string) payload.Payload {
	now := time.Now().UTC()
	return payload.Payload{Event: &event.Event{ID: uuid.NewString(), Source: "/publish/" + source,
		Type: source + ".published", Time: now, DataContentType: kind, Data: body,
		Binary: !event.IsJSON(kind) && !utf8.Valid(body)}, Time: now}
}
