package hosts

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
)

func TestWhichNamesAreAnswered(t *testing.T) {
	for host, answered := range map[string]bool{
		"127.0.0.1:8420": true, "127.1.2.3": true, "localhost": true, "LOCALHOST:8420": true, "quay.localhost:1": true,
		"[::1]:8420": true, "[::1]": true, "localhost.": true,
		"192.168.7.5:8420": true, "host.harbour.internal:8420": true, "HOST.harbour.internal": true, "": true,
		"rebound.example:8420": false, "192.168.7.6:8420": false, "localhost.example": false,
		"127.0.0.1.example": false,
		"[fe80::1]:8420":    false, "0.0.0.0": false, "evil.host.harbour.internal": false,
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.Host = host
		r = r.WithContext(context.WithValue(r.Context(), http.LocalAddrContextKey,
			net.Addr(&net.TCPAddr{IP: net.IPv4(192, 168, 7, 5), Port: 8420})))
		if why := Check(r, []string{"host.harbour.internal"}); (why == "") != answered {
			t.Errorf("%q: refused with %q", host, why)
		}
	}
}

func TestWhichPagesAreOfAnotherSite(t *testing.T) {
	for _, c := range []struct {
		origin, site string
		cross        bool
	}{
		{"", "", false}, {"", "same-origin", false}, {"", "cross-site", true}, {"http://127.0.0.1:8420", "", false},
		{"http://127.0.0.1:9000", "", true},
		{"https://page.example", "cross-site", true}, {"null", "", true}, {"%", "", true},
	} {
		if got := CrossSite(c.origin, c.site, "127.0.0.1:8420"); got != c.cross {
			t.Errorf("origin %q, %q: %v", c.origin, c.site, got)
		}
	}
}
