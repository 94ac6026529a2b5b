package upstream

import (
	"bufio"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/plan"
)

// proxyHint is what a client gets that asks the proxy itself for something.
const proxyHint = "Night Drill: this is a forward proxy for functions; it answers CONNECT and requests with a whole URL"

// proxied returns the stand-in for an address (host and port) that is called through the proxy, or nil.
func (s *Set) proxied(address string) *standIn {
	for _, x := range s.all {
		if x.Proxy && x.target != nil && strings.EqualFold(addressOf(x.target), address) {
			return x
		}
	}
	return nil
}

// addressOf returns the host and the port of a URL.
func addressOf(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return net.JoinHostPort(u.Hostname(), port)
}

// openProxy opens the gate's proxy, where any upstream is called through one.
func (g *Gate) openProxy(host string, which []int) error {
	if !slices.ContainsFunc(which, func(i int) bool { return g.set.all[i].Proxy }) {
		return nil
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, "0"))
	if err != nil {
		return err
	}
	g.listeners = append(g.listeners, l)
	g.proxy = l.Addr().String()
	go func() { _ = g.set.server.Serve(&entrance{l, g, nil}) }() // it ends with the listener
	return nil
}

// serveProxy answers a request to the proxy of a gate.
func (g *Gate) serveProxy(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.Method == http.MethodConnect:
		g.connect(w, r)
	case r.URL.IsAbs() && r.URL.Scheme == "http":
		at := g.set.proxied(addressOf(r.URL))
		if at == nil {
			plain.ServeHTTP(w, r)
			return
		}
		r.RequestURI = r.URL.RequestURI()
		at.serve(w, r, g.caller)
	default:
		http.Error(w, proxyHint, http.StatusMisdirectedRequest)
	}
}

// plain passes requests on to hosts that are not upstreams.
var plain = &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.Out.Host = r.In.Host },
	Transport:     &http.Transport{DisableCompression: true, Proxy: http.ProxyFromEnvironment},
	FlushInterval: -1, ErrorLog: unheard}

// connect opens a tunnel: to the stand-in for an upstream, or to the host itself.
func (g *Gate) connect(w http.ResponseWriter, r *http.Request) {
	at := g.set.proxied(r.Host)
	var to net.Conn
	if at == nil {
		var err error
		if to, err = (&net.Dialer{Timeout: 30 * time.Second}).DialContext(r.Context(), "tcp", r.Host); err != nil {
			http.Error(w, "Night Drill: "+reason(err), http.StatusBadGateway)
			return
		}
		defer to.Close()
	}
	h, ok := w.(http.Hijacker)
	if !ok {
		http.Error(w, "Night Drill: no tunnel here", http.StatusHTTPVersionNotSupported)
		return
	}
	raw, buffered, err := h.Hijack()
	if err != nil {
		return
	}
	defer raw.Close()
	g.mu.Lock() // Close ends it, too
	g.conns[raw] = true
	closed := g.closed
	g.mu.Unlock()
	defer func() {
		g.mu.Lock()
		delete(g.conns, raw)
		g.mu.Unlock()
	}()
	if closed {
		return
	}
	if _, err := io.WriteString(raw, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		return
	}
	client := &read{Conn: raw, from: buffered.Reader}
	if at == nil {
		splice(client, to)
		return
	}
	g.tunnel(client, at)
}

// splice copies between two connections until both directions have ended.
func splice(a, b net.Conn) {
	var both sync.WaitGroup
	for _, x := range [][2]net.Conn{{a, b}, {b, a}} {
		both.Go(func() {
			_, _ = io.Copy(x[0], x[1]) // the end of one is all that there is to say
			if half, ok := x[0].(interface{ CloseWrite() error }); ok {
				_ = half.CloseWrite()
			} else {
				_ = x[0].Close()
			}
		})
	}
	both.Wait()
}

// read is a connection of which a part was read already.
type read struct {
	net.Conn
	from *bufio.Reader
}

// Read implements io.Reader.
func (r *read) Read(b []byte) (int, error) { return r.from.Read(b) }

// CloseWrite ends the writing.
func (r *read) CloseWrite() error {
	c := r.Conn
	if own, ok := c.(*conn); ok {
		c = own.Conn
	}
	if half, ok := c.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return r.Close()
}

// handshake is the first byte of TLS (RFC 8446 §5.1).
const handshake = 22

// tunnel answers what comes through a tunnel to an upstream: in TLS, or plainly, as some clients send it.
func (g *Gate) tunnel(client *read, at *standIn) {
	var through net.Conn = client
	first, err := client.from.Peek(1)
	if err != nil {
		return
	}
	if first[0] == handshake {
		through = tls.Server(client, &tls.Config{NextProtos: []string{"http/1.1"},
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
				if g.set.Authority == nil {
					return nil, errors.New("no authority")
				}
				return g.set.Authority.For(strings.ToLower(at.target.Hostname()))
			}})
	}
	one := &once{conn: &conn{Conn: through, gate: g, at: at, proxied: true}, done: make(chan struct{})}
	server := &http.Server{Handler: http.HandlerFunc(serve), ReadHeaderTimeout: 30 * time.Second, ConnContext: withConn,
		ErrorLog: unheard, ConnState: func(_ net.Conn, s http.ConnState) {
			if s == http.StateClosed || s == http.StateHijacked {
				one.Close()
			}
		}}
	_ = server.Serve(one) // it ends with the connection
}

// once is a listener that has one connection.
type once struct {
	conn   net.Conn
	taken  sync.Once
	closed sync.Once
	done   chan struct{}
}

// Accept implements net.Listener.
func (o *once) Accept() (c net.Conn, err error) {
	o.taken.Do(func() { c = o.conn })
	if c != nil {
		return c, nil
	}
	<-o.done
	return nil, net.ErrClosed
}

// Close implements net.Listener.
func (o *once) Close() error {
	o.closed.Do(func() { close(o.done) })
	return nil
}

// Addr implements net.Listener.
func (o *once) Addr() net.Addr { return o.conn.LocalAddr() }

// noProxy are the hosts that are never called through a proxy.
const noProxy = "localhost,127.0.0.1,::1"

// ProxyEnvironment returns the variables by which programs learn of the gate's proxy and whom to trust; nil where
// it has none. reach returns a URL as the function reaches it, and has what its own environment says.
func (g *Gate) ProxyEnvironment(reach func(url string) string, has func(name string) (value string, ok bool)) []string {
	if g == nil || g.proxy == "" {
		return nil
	}
	at := reach("http://" + g.proxy)
	var env []string
	add := func(name, value string) {
		if _, there := has(name); !there {
			env = append(env, name+"="+value)
		}
	}
	for _, name := range []string{"HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"} {
		add(name, at)
		add(strings.ToLower(name), at)
	}
	add("NO_PROXY", noProxy)
	add("no_proxy", noProxy)
	add("NODE_USE_ENV_PROXY", "1")
	t := g.set.trust
	add("SSL_CERT_FILE", t.Bundle)
	add("REQUESTS_CA_BUNDLE", t.Bundle)
	add("CURL_CA_BUNDLE", t.Bundle)
	add("NODE_EXTRA_CA_CERTS", t.Own)
	if u, err := url.Parse(at); err == nil {
		options := "-Dhttp.proxyHost=" + u.Hostname() + " -Dhttp.proxyPort=" + u.Port() + " -Dhttps.proxyHost=" +
			u.Hostname() + " -Dhttps.proxyPort=" + u.Port() + " -Dhttp.nonProxyHosts=localhost|127.*|[::1]" +
			" -Djavax.net.ssl.trustStore=" + t.Store + " -Djavax.net.ssl.trustStoreType=PKCS12" +
			" -Djavax.net.ssl.trustStorePassword=" + StorePassword
		own, _ := has("JAVA_TOOL_OPTIONS")
		env = append(env, "JAVA_TOOL_OPTIONS="+strings.TrimSpace(own+" "+options))
	}
	return env
}

// ProxiedHosts returns the hosts of the upstreams that are called through a proxy.
func ProxiedHosts(all []plan.Upstream) (hosts []string) {
	for i := range all {
		if u, err := url.Parse(all[i].URL); err == nil && all[i].Proxy {
			hosts = append(hosts, strings.ToLower(u.Hostname()))
		}
	}
	return hosts
}
