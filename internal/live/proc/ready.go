package proc

import (
	"context"
	"errors"
	"net"
	"net/http"
	"regexp"
	"strconv"
	"time"

	"nightdrill.dev/internal/core/plan"
)

// ErrEnded means that the process ended before it was ready.
var ErrEnded = errors.New("ended before it was ready")

// noticed is the time at which something was seen, and how long before that it
// may have been so.
type noticed struct {
	at     time.Time
	within time.Duration
}

// askEvery is the time between two requests of a readiness check by HTTP.
const askEvery = 2 * time.Millisecond

// Expected is a port, or a Unix socket, that someone will listen on.
type Expected struct {
	port   int
	socket string // its path; "" for a port
	ready  <-chan noticed
	Forget func() // ends the looking
}

// Expect begins to look for a listener. It is called before the process is
// started: who begins later may notice late.
func Expect(port int) *Expected {
	ready, forget, ok := lookOut(port)
	if !ok {
		ready, forget = awaitPort(port)
	}
	return &Expected{port: port, ready: ready, Forget: forget}
}

// WaitReady waits until a process fulfils its readiness condition. It returns the
// time at which that was noticed, and how much earlier it may have been so.
func (p *Process) WaitReady(ctx context.Context, cond plan.Ready, e *Expected) (at time.Time, within time.Duration,
	err error) {
	if cond.By == plan.ReadyLine {
		re, err := regexp.Compile(cond.Line)
		if err != nil {
			return at, 0, err
		}
		return p.until(ctx, p.Output.Watch(re))
	}
	// how long its own work at the start takes cannot be distinguished from its first answer
	if cond.By == plan.ReadyRuns {
		return p.Runs, 0, nil
	}
	if at, within, err = p.until(ctx, e.ready); err != nil || cond.By == plan.ReadyTCP {
		return at, within, err
	}
	client, host := asker, net.JoinHostPort("127.0.0.1", strconv.Itoa(e.port))
	if e.socket != "" {
		host, client = "localhost", &http.Client{CheckRedirect: asker.CheckRedirect,
			Transport: &http.Transport{DisableKeepAlives: true,
				DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
					return new(net.Dialer).DialContext(ctx, "unix", e.socket)
				}}}
	}
	return p.until(ctx, p.asked(ctx, client, "http://"+host+cond.Path))
}

// until waits for what is to be noticed, for the end of the process, or of the context.
func (p *Process) until(ctx context.Context, ready <-chan noticed) (time.Time, time.Duration, error) {
	select {
	case n := <-ready:
		return n.at, n.within, nil
	case <-p.done:
		return time.Time{}, 0, ErrEnded
	case <-ctx.Done():
		return time.Time{}, 0, ctx.Err()
	}
}

// asked requests a URL until it answers 2xx.
func (p *Process) asked(ctx context.Context, client *http.Client, url string) <-chan noticed {
	c := make(chan noticed, 1)
	go func() {
		tick := time.NewTicker(askEvery)
		defer tick.Stop()
		last := time.Now()
		for {
			began := time.Now()
			if answers(ctx, client, url) {
				c <- noticed{time.Now(), time.Since(last)}
				return
			}
			last = began
			select {
			case <-tick.C:
			case <-p.done:
				return
			case <-ctx.Done():
				return
			}
		}
	}()
	return c
}

// asker is the client of readiness requests: it keeps no connection and follows no redirect.
var asker = &http.Client{
	Transport:     &http.Transport{DisableKeepAlives: true, Proxy: nil},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// Answers reports whether a URL answers 2xx within a second.
func Answers(ctx context.Context, url string) bool { return answers(ctx, asker, url) }

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
