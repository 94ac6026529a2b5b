// Package hosts decides which requests a listener on this machine answers, by the name that
// they were addressed to and the page that they come from. Without it, a web page could have
// a name of its own resolve to 127.0.0.1, and would then read and write as if it were served
// from here (DNS rebinding).
package hosts

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
)

// Listen listens at an address of this machine: at usual, or a free port where that is taken, when wanted is "". note
// says that it was taken.
func Listen(wanted, usual string) (l net.Listener, note string, err error) {
	address := wanted
	if address == "" {
		address = usual
	}
	l, err = net.Listen("tcp", address)
	if wanted == "" && errors.Is(err, syscall.EADDRINUSE) {
		note = usual + " is taken, so another port was chosen"
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		if op := (*net.OpError)(nil); errors.As(err, &op) {
			err = op.Err // without the address, which it has in words of its own
		}
		return nil, "", fmt.Errorf("%s: %w", address, err)
	}
	return l, note, nil
}

// Bearer reports whether a header Authorization has a token as a bearer token (RFC 6750 §2.1).
func Bearer(authorization, token string) bool {
	scheme, given, _ := strings.Cut(authorization, " ")
	return strings.EqualFold(scheme, "bearer") && Same(strings.TrimSpace(given), token)
}

// Same compares secrets in constant time.
func Same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// Name returns the name in a Host header, in small letters, without its port.
func Name(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return strings.TrimSuffix(strings.ToLower(strings.Trim(host, "[]")), ".")
}

// Check returns why a request is refused, with status 421 (RFC 9110 §15.5.20), or "". A
// request is answered that names the address at which it came in, a loopback address,
// localhost or a name below it, or one of the names that were allowed.
func Check(r *http.Request, allowed []string) string {
	name := Name(r.Host)
	if name == "" || name == "localhost" || strings.HasSuffix(name, ".localhost") { // RFC 6761 §6.3
		return ""
	}
	for _, a := range allowed {
		if strings.EqualFold(a, name) {
			return ""
		}
	}
	if ip, err := netip.ParseAddr(name); err == nil {
		if ip.Unmap().IsLoopback() {
			return ""
		}
		local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
		if local != nil {
			if at, err := netip.ParseAddrPort(local.String()); err == nil && at.Addr().Unmap() == ip.Unmap() {
				return ""
			}
		}
	}
	return fmt.Sprintf("%q is not a name of this listener; use the address that it listens at, or start Night "+
		"Drill with --allow-host %s",
		name, name)
}

// CrossSite reports whether a browser sent a request for a page of another origin (Fetch
// Standard, Origin header; Fetch Metadata, Sec-Fetch-Site).
func CrossSite(origin, fetchSite, host string) bool {
	if origin == "" {
		return fetchSite == "cross-site"
	}
	u, err := url.Parse(origin)
	return err != nil || u.Host == "" || !strings.EqualFold(u.Host, host)
}

// EndAfter closes the connection after a request that was sent in chunks. Such a request may have
// had a length, too, and a proxy before this listener may have used that: what follows on the
// connection could then be taken for the beginning of another request (RFC 9112 §6.1). It is called
// before the response is written.
func EndAfter(w http.ResponseWriter, r *http.Request) {
	if len(r.TransferEncoding) > 0 {
		w.Header().Set("Connection", "close")
	}
}

// Writes reports whether a method may change something (RFC 9110 §9.2.1).
func Writes(method string) bool {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace:
		return false
	}
	return true
}
