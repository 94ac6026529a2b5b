package proc

import (
	"context"
	"errors"
	"net"
	"net/http"
	"regexp"
	"strconv"
	"sync"
	"time"

	"nightdrill/internal/core/plan"
)

// look is how often a starting instance is looked at. The figure is the
// uncertainty of the time at which it was ready.
const look = time.Millisecond

// ErrEnded says that the process ended before it was ready.
var ErrEnded = errors.New("ended before it was ready")

// WaitReady waits until a process fulfils its readiness condition, and gives
// the time at which that was noticed.
func (p *Process) WaitReady(ctx context.Context, cond plan.Ready, port int) (time.Time, error) {
	address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	switch cond.By {
	case plan.ReadyLine:
		re, err := regexp.Compile(cond.Line)
		if err != nil {
			return time.Time{}, err
		}
		select {
		case <-p.Output.Watch(re):
			return time.Now(), nil
		case <-p.done:
			return time.Time{}, ErrEnded
		case <-ctx.Done():
			return time.Time{}, ctx.Err()
		}
	case plan.ReadyHTTP:
		client := &http.Client{
			Transport:     &http.Transport{DisableKeepAlives: true, Proxy: nil},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		}
		return p.poll(ctx, func() bool { return answers(ctx, client, "http://"+address+cond.Path) })
	}
	return p.poll(ctx, func() bool { return listens(address) })
}

// poll looks again and again until it sees what it looks for.
func (p *Process) poll(ctx context.Context, see func() bool) (time.Time, error) {
	tick := time.NewTicker(look)
	defer tick.Stop()
	for {
		if see() {
			return time.Now(), nil
		}
		select {
		case <-tick.C:
		case <-p.done:
			return time.Time{}, ErrEnded
		case <-ctx.Done():
			return time.Time{}, ctx.Err()
		}
	}
}

// listens tells whether a connection is taken; it is closed at once.
func listens(address string) bool {
	c, err := net.DialTimeout("tcp", address, time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

func answers(ctx context.Context, client *http.Client, url string) bool {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", url, nil)
	if err != nil {
		return false
	}
	resp, err := client.Do(req)
	if err != nil {
		return false
	}
	resp.Body.Close()
	return resp.StatusCode >= 200 && resp.StatusCode < 300
}

// ports remembers which ports this program gave out, so that two instances that
// start at once never get the same one.
var ports struct {
	sync.Mutex
	given map[int]bool
}

// FreePort gives a port of 127.0.0.1 that nobody listens on.
func FreePort() (int, error) {
	ports.Lock()
	defer ports.Unlock()
	if ports.given == nil {
		ports.given = map[int]bool{}
	}
	for range 100 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return 0, err
		}
		port := l.Addr().(*net.TCPAddr).Port
		l.Close()
		if !ports.given[port] {
			ports.given[port] = true
			return port, nil
		}
	}
	return 0, errors.New("no free port was found")
}

// GiveBack says that a port is not used any more.
func GiveBack(port int) {
	ports.Lock()
	delete(ports.given, port)
	ports.Unlock()
}
