package upstream

import (
	"context"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

const ratesHAR = `{"log": {"version": "1.2", "entries": [{"startedDateTime": "2026-01-01T00:00:00Z", "request":
 {"method": "GET", "url": "https://rates.example/v1/fares?x=1", "headers": []}, "response": {"status": 200, "headers":
 [], "content": {"text": "{\"cents\": 450}"}}, "timings": {"wait": 1, "receive": 0}}]}}`

// clients are programs that get a URL and print what it answers; those that obey the variables of a proxy out of the
// box are proxied.
var clients = []struct {
	name, needs string
	args        []string
	proxied     bool
}{
	{"urllib", "python3", []string{"python3", "-c", "import sys, urllib.request as u; " +
		"print(u.urlopen(sys.argv[1]).read())"},
		true},
	{"requests", "python3", []string{"python3", "-c", "import sys\ntry: import requests\nexcept ImportError: " +
		"print('not here: cents')\nelse: print(requests.get(sys.argv[1]).text)"}, true},
	{"curl", "curl", []string{"curl", "-s", "--max-time", "60"}, true},
	{"go", "go", []string{"go", "run", "testdata/ask/main.go"}, true},
	{"java", "java", []string{"java", "testdata/ask/Ask.java"}, true},
	{"fetch", "node", []string{"node", "--input-type=module", "-e",
		"console.log(await (await fetch(process.argv[1])).text())"}, false},
	{"http", "node", []string{"node", "-e", "require('http').get(process.argv[1], (r) => r.pipe(process.stdout))"},
		false},
}

// Real clients get recorded replies by an address of the stand-in, and, those that obey its variables, through the
// proxy, whose authority they trust although no system does.
func TestClients(t *testing.T) {
	if testing.Short() {
		t.Skip("compilers and runtimes are started")
	}
	folder := t.TempDir()
	authority, err := OpenAuthority(folder, []string{"rates.example"})
	if err != nil {
		t.Fatal(err)
	}
	set, err := Open(Options{Upstreams: []plan.Upstream{{Name: "rates", URL: "https://rates.example/v1", Service: -1,
		Mode: plan.Replay, Proxy: true}}, Authority: authority, Recording: func(*plan.Upstream) ([]payload.Payload,
		error) {
		all, mistakes := payload.Read([]byte(ratesHAR))
		if len(mistakes) > 0 {
			return nil, mistakes[0]
		}
		return all, nil
	}})
	if err != nil {
		t.Fatal(err)
	}
	defer set.Close()
	p := &process{}
	g, err := set.Gate(p, []int{0}, "")
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	env := append(os.Environ(), g.ProxyEnvironment(func(url string) string { return url }, func(string) (string, bool) {
		return "", false
	})...)
	for _, c := range clients {
		t.Run(c.name, func(t *testing.T) {
			if _, err := exec.LookPath(c.needs); err != nil {
				t.Skipf("A CLIENT IS NOT TRIED: %s is not on this machine", c.needs)
			}
			urls := []string{g.URL(0) + "/fares?x=1"}
			if c.proxied {
				urls = append(urls, "https://rates.example/v1/fares?x=1")
			}
			for _, at := range urls {
				ctx, enough := context.WithTimeout(t.Context(), 2*time.Minute)
				defer enough()
				x := exec.CommandContext(ctx, c.args[0], append(c.args[1:], at)...)
				x.Env = env
				if out, err := x.CombinedOutput(); err != nil || !strings.Contains(string(out), "cents") {
					t.Errorf("%s: %v\n%s", at, err, out)
				}
			}
		})
	}
}

// What the authority signs is believed for the hosts of upstreams alone, its key is the owner's alone, and it stays the
// same for the same hosts.
func TestAuthority(t *testing.T) {
	folder := t.TempDir()
	a, err := OpenAuthority(folder, []string{"rates.example", "10.1.2.3"})
	if err != nil {
		t.Fatal(err)
	}
	again, err := OpenAuthority(folder, []string{"10.1.2.3", "rates.example", "rates.example"})
	if err != nil || !again.cert.Equal(a.cert) {
		t.Errorf("another authority for the same hosts: %v", err)
	}
	if info, err := os.Stat(filepath.Join(folder, "authority", "authority.key")); err != nil ||
		info.Mode().Perm() != 0o600 {
		t.Errorf("its key: %v %v", info.Mode(), err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(a.cert)
	for host, want := range map[string]bool{"rates.example": true, "10.1.2.3": true, "other.example": false,
		"10.1.2.4": false} {
		a.hosts = append(a.hosts[:2:2], host) // as if it were asked to
		c, err := a.For(host)
		if err != nil {
			t.Fatal(err)
		}
		leaf, err := x509.ParseCertificate(c.Certificate[0])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := leaf.Verify(x509.VerifyOptions{DNSName: host, Roots: roots}); (err == nil) != want {
			t.Errorf("%s: verified with %v", host, err)
		}
	}
	other, err := OpenAuthority(folder, []string{"tides.example"})
	if err != nil || other.cert.Equal(a.cert) {
		t.Errorf("the same authority for other hosts: %v", err)
	}
}

// Hosts that are not upstreams are reached through the proxy untouched, in a tunnel and plainly; and what is sent to
// the proxy itself is refused.
func TestTheProxyPassesOthersBy(t *testing.T) {
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "secure")
	}))
	defer secure.Close()
	open := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, "open "+r.Host)
	}))
	defer open.Close()
	set, err := Open(Options{Upstreams: []plan.Upstream{{Name: "rates", URL: "https://rates.example", Mode: plan.Pass,
		Proxy: true}}})
	if err != nil {
		t.Fatal(err)
	}
	defer set.Close()
	p := &process{}
	g, err := set.Gate(p, []int{0}, "")
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	through := secure.Client().Transport.(*http.Transport).Clone()
	through.Proxy = func(*http.Request) (*url.URL, error) { return url.Parse("http://" + g.proxy) }
	client := &http.Client{Transport: through}
	for at, want := range map[string]string{secure.URL: "secure",
		open.URL: "open " + strings.TrimPrefix(open.URL, "http://")} {
		r, err := client.Get(at)
		if err != nil {
			t.Errorf("%s: %v", at, err)
			continue
		}
		body, _ := io.ReadAll(r.Body)
		_ = r.Body.Close()
		if string(body) != want {
			t.Errorf("%s: %q", at, body)
		}
	}
	if r, err := http.Get("http://" + g.proxy + "/x"); err != nil || r.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("asked for something itself: %v %v", r, err)
	}
	// a tunnel ends with the process whose it is
	conn, err := net.Dial("tcp", g.proxy)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_, _ = io.WriteString(conn, "CONNECT "+strings.TrimPrefix(open.URL, "http://")+" HTTP/1.1\r\nHost: x\r\n\r\n")
	head := make([]byte, 12)
	if _, err := io.ReadFull(conn, head); err != nil || string(head) != "HTTP/1.1 200" {
		t.Fatalf("%q %v", head, err)
	}
	g.Close()
	_ = conn.SetReadDeadline(time.Now().Add(time.Minute))
	if _, err := io.ReadAll(conn); errors.Is(err, os.ErrDeadlineExceeded) {
		t.Error("the tunnel is still open")
	}
	if len(p.calls) > 0 {
		t.Errorf("calls that are none: %v", p.calls)
	}
}
