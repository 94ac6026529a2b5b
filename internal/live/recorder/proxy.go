package recorder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
)

// Kept is how much of a body is recorded; the rest passes by.
const Kept = 16 << 20

// Recorder redacts what passed and writes it down.
type Recorder struct {
	Archive *Archive
	Redact  *payload.Redactor
	Base    string // the address that targets are relative to

	mu     sync.Mutex
	tally  payload.Tally
	failed error
}

// Keep writes an exchange down. p's reply may be nil.
func (r *Recorder) Keep(p payload.Payload, wait, receive time.Duration, comment string) error {
	out, redacted, suspects := r.Redact.Apply(p)
	err := r.Archive.Append(out.AppendHAR(nil, r.Base, wait, receive, comment))
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tally.Add(redacted, suspects)
	if err != nil && r.failed == nil {
		r.failed = err
	}
	return err
}

// Report returns what was redacted, and what was left although it looks like a
// secret; failed is why not everything was recorded.
func (r *Recorder) Report() (found payload.Tally, failed error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.tally, r.failed
}

// Proxy is a reverse proxy in front of a service.
type Proxy struct {
	Address string // where it listens
	Recorder
	// Passed is reported each exchange: a line for people.
	Passed  func(line string)
	Skipped atomic.Int64 // connections that were passed on and not recorded

	server *http.Server
}

// listensAt reports whether a request to a URL would come to a listener of this machine.
func listensAt(at net.Addr, to *url.URL) bool {
	own, ok := at.(*net.TCPAddr)
	port := to.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[to.Scheme]
	}
	if !ok || port != strconv.Itoa(own.Port) {
		return false
	}
	ctx, enough := context.WithTimeout(context.Background(), 2*time.Second)
	defer enough()
	ips, _ := net.DefaultResolver.LookupNetIP(ctx, "ip", to.Hostname()) // without any, the first request tells
	for _, ip := range ips {
		if ip = ip.Unmap(); ip.String() == own.IP.String() || own.IP.IsLoopback() && ip.IsUnspecified() ||
			own.IP.IsUnspecified() && (ip.IsLoopback() || ip.IsUnspecified() || hasAddress(ip)) {
			return true
		}
	}
	return false
}

// hasAddress reports whether an address is one of this machine's.
func hasAddress(ip netip.Addr) bool {
	all, _ := net.InterfaceAddrs()
	return slices.ContainsFunc(all, func(a net.Addr) bool {
		p, err := netip.ParsePrefix(a.String())
		return err == nil && p.Addr().Unmap() == ip
	})
}

// Start listens and passes everything on to a service. Requests and replies stream;
// what was recorded of a body is at most Kept of it.
func (p *Proxy) Start(listen, to string) error {
	target, err := url.Parse(to)
	if err != nil || target.Scheme != "http" && target.Scheme != "https" || target.Host == "" {
		return fmt.Errorf("%q is not the URL of a service, such as http://127.0.0.1:8080", to)
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		if op, ok := errors.AsType[*net.OpError](err); ok {
			err = op.Err
		}
		return fmt.Errorf("cannot listen at %s: %w; choose another with --listen HOST:PORT", listen, err)
	}
	if listensAt(l.Addr(), target) {
		l.Close()
		return fmt.Errorf("%s is where this proxy listens itself, so nothing would ever answer; give the address "+
			"of the service with --to, and another to listen at with --listen",
			to)
	}
	p.Address, p.Base = l.Addr().String(), target.Scheme+"://"+target.Host
	through := &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(target)
			r.Out.Host = r.In.Host
			r.Out.Header["X-Forwarded-For"] = r.In.Header["X-Forwarded-For"]
			r.SetXForwarded()
		},
		Transport:      &http.Transport{DisableCompression: true, MaxIdleConnsPerHost: 64, ForceAttemptHTTP2: false},
		FlushInterval:  -1,
		ModifyResponse: p.reply,
		ErrorHandler:   p.unreachable,
	}
	p.server = &http.Server{ReadHeaderTimeout: 30 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Header.Get("Upgrade") != "" {
				p.Skipped.Add(1)
				p.say("%s %s  asks for %s: passed on, not recorded", r.Method, r.URL.Path, r.Header.Get("Upgrade"))
				through.ServeHTTP(w, r)
				return
			}
			x := &exchange{began: time.Now(), request: event.Request{Method: r.Method, Target: r.RequestURI,
				Header: Fields(r.Header)}}
			if r.Host != "" {
				x.request.Header = slices.Insert(x.request.Header, 0, event.Field{Name: "Host", Value: r.Host})
			}
			if r.Body != nil && r.Body != http.NoBody {
				r.Body = &Tee{ReadCloser: r.Body, Copy: &x.sent}
			}
			through.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), exchangeKey{}, x)))
			if x.answered { // HEAD and the like have no body whose end would be heard
				x.over(p)
			}
		})}
	go func() { _ = p.server.Serve(l) }() // it ends with Close
	return nil
}

// Close ends the listening once what is in progress is over, or ctx is.
func (p *Proxy) Close(ctx context.Context) {
	if p.server.Shutdown(ctx) != nil {
		_ = p.server.Close() // what is still in progress is interrupted
	}
}

func (p *Proxy) say(format string, args ...any) {
	if p.Passed != nil {
		p.Passed(fmt.Sprintf(format, args...))
	}
}

type exchangeKey struct{}

// exchange is a request and its reply on their way.
type exchange struct {
	began    time.Time
	first    time.Duration
	request  event.Request
	sent     Copy
	reply    payload.Reply
	received Copy
	answered bool
	once     sync.Once
}

// Copy is what is kept of a body, and how much there was.
type Copy struct {
	mu   sync.Mutex
	b    bytes.Buffer
	size int64
	over bool // it was read to its end
}

func (k *Copy) take(b []byte) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.size += int64(len(b))
	k.b.Write(b[:min(len(b), max(Kept-k.b.Len(), 0))])
}

// All returns what is kept, whether that is not all, and the size of all in bytes.
func (k *Copy) All() (b []byte, cut bool, size int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return bytes.Clone(k.b.Bytes()), k.size > int64(k.b.Len()), k.size
}

// Whole reports whether a body of a length, -1 where that is not known, has passed to its end.
func (k *Copy) Whole(length int64) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.over || length >= 0 && k.size >= length
}

// Tee copies a body while it passes.
type Tee struct {
	io.ReadCloser
	Copy *Copy
}

func (l *Tee) Read(b []byte) (int, error) {
	n, err := l.ReadCloser.Read(b)
	l.Copy.take(b[:n])
	if errors.Is(err, io.EOF) {
		l.Copy.mu.Lock()
		l.Copy.over = true
		l.Copy.mu.Unlock()
	}
	return n, err
}

func (p *Proxy) reply(r *http.Response) error {
	x, ok := r.Request.Context().Value(exchangeKey{}).(*exchange)
	if !ok {
		return nil
	}
	x.first = time.Since(x.began)
	x.reply = payload.Reply{Status: r.StatusCode, Header: Fields(r.Header)}
	x.answered = true
	if r.Body != nil {
		r.Body = &Tee{ReadCloser: r.Body, Copy: &x.received}
	}
	return nil
}

// over writes the exchange down.
func (x *exchange) over(p *Proxy) {
	x.once.Do(func() {
		took := time.Since(x.began)
		var notes []string
		note := func(what string, k *Copy) []byte {
			b, cut, size := k.All()
			if cut {
				notes = append(notes, fmt.Sprintf("the first %d of %d bytes of the %s", len(b), size, what))
			}
			return b
		}
		x.request.Body = note("request's body", &x.sent)
		x.reply.Body = note("reply", &x.received)
		if coding := event.Value(x.reply.Header, "Content-Encoding"); coding != "" {
			notes = append(notes, "the reply is compressed ("+coding+")")
		}
		err := p.Keep(payload.Payload{Request: &x.request, Reply: &x.reply, Time: x.began.UTC()}, x.first, took-x.first,
			strings.Join(notes, "; "))
		if err != nil {
			p.say("%s %s  not recorded: %v", x.request.Method, path(x.request.Target), err)
			return
		}
		p.say("%s %s  %d in %.1f ms, %d bytes", x.request.Method, path(x.request.Target), x.reply.Status,
			float64(took.Microseconds())/1000, len(x.reply.Body))
	})
}

// path is a target without its query, in which there may be secrets.
func path(target string) string {
	path, _, _ := strings.Cut(target, "?")
	return path
}

// unreachable answers for a service that did not.
func (p *Proxy) unreachable(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, context.Canceled) {
		return // the caller is gone
	}
	p.say("%s %s  the service did not answer: %v", r.Method, path(r.URL.Path), err)
	http.Error(w, "Night Drill: the service behind the recording did not answer: "+err.Error(), http.StatusBadGateway)
}

// ofHop are headers of one connection (RFC 9110 §7.6.1).
var ofHop = []string{"Connection", "Keep-Alive", "Proxy-Connection", "Transfer-Encoding", "Te", "Trailer", "Upgrade"}

// Fields returns headers in a fixed order, without those of one connection.
func Fields(h http.Header) (out []event.Field) {
	for name, values := range h {
		if slices.Contains(ofHop, name) {
			continue
		}
		for _, v := range values {
			out = append(out, event.Field{Name: name, Value: v})
		}
	}
	slices.SortStableFunc(out, func(a, b event.Field) int { return strings.Compare(a.Name, b.Name) })
	return out
}
