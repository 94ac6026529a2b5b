package broker

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/broker/brokertest"
)

// under is a broker under test.
type under struct {
	*brokertest.Server
	*testing.T
}

func start(t *testing.T, kind string) under {
	t.Helper()
	return under{brokertest.Serve(t, kind), t}
}

// eachKind runs a test against a server of each kind.
func eachKind(t *testing.T, test func(t *testing.T, s under)) {
	for _, kind := range brokertest.Kinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			s := start(t, kind)
			s.Declare()
			test(t, s)
		})
	}
}

// broker returns how the program connects to the server.
func (s under) broker() *Server {
	b := &Server{Name: "harbour", Kind: s.Kind, Address: fmt.Sprint("127.0.0.1:", s.Port)}
	if !s.Open {
		b.User, b.Password = "quay", s.Password()
	}
	return b
}

// watch copies in the background.
type watch struct {
	mu    sync.Mutex
	all   []Message
	notes []string
	came  chan struct{} // receives after each message
	ready chan struct{}
	done  chan error
	stop  context.CancelFunc
}

func (s under) watch(at *plan.BrokerPlace) *watch {
	s.Helper()
	w := &watch{came: make(chan struct{}, 1), ready: make(chan struct{}), done: make(chan error, 1)}
	ctx, stop := context.WithCancel(context.Background())
	w.stop = stop
	go func() {
		w.done <- s.broker().Copy(ctx, at, Options{Ready: func() { close(w.ready) },
			Each: func(m *Message) error {
				w.mu.Lock()
				defer w.mu.Unlock()
				w.all = append(w.all, *m)
				select {
				case w.came <- struct{}{}:
				default:
				}
				return nil
			},
			Note: func(text string) {
				w.mu.Lock()
				defer w.mu.Unlock()
				w.notes = append(w.notes, text)
			}})
	}()
	s.Cleanup(stop)
	select {
	case <-w.ready:
	case err := <-w.done:
		s.Fatalf("it does not copy: %v", err)
	case <-time.After(time.Minute):
		s.Fatal("it never was ready")
	}
	return w
}

func (w *watch) messages() []Message {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]Message(nil), w.all...)
}

// await waits until there are as many messages.
func (w *watch) await(t *testing.T, n int) []Message {
	t.Helper()
	late := time.After(time.Minute)
	for {
		if all := w.messages(); len(all) >= n {
			return all
		}
		select {
		case <-w.came:
		case <-late:
			w.mu.Lock()
			defer w.mu.Unlock()
			t.Fatalf("%d messages came of %d; notes %q", len(w.all), n, w.notes)
		}
	}
}

// What passes is copied from when the copy begins, in its order, as the CloudEvents that they are; after a restart of
// the broker it goes on, and says what may be missing.
func TestCopies(t *testing.T) {
	eachKind(t, func(t *testing.T, s under) {
		kind := s.Kind
		if kind == "amqp" || kind == "kafka" {
			s.Publish(1000, 1003) // before: not copied
		}
		w := s.watch(s.Place())
		s.Publish(0, 100)
		all := w.await(t, 100)
		last := map[string]int{}
		for i := range all {
			m := &all[i]
			p, _, err := m.Payload(kind, "scans", nil)
			if err != nil {
				t.Fatal(err)
			}
			n, key := -1, ""
			fmt.Sscanf(string(p.Event.Data), `{"n":%d}`, &n)
			if kind == "kafka" {
				key = m.Key
			}
			if n <= last[key] && n > 2 || p.Event.ID != fmt.Sprint("e", n) || p.Event.Source != "/gate" ||
				p.Event.Type != "scan" || p.Event.DataContentType != "application/json" {
				t.Errorf("message %d: %+v", i, *p.Event)
			}
			last[key] = n
			if v, _ := p.Event.Attribute("shift"); v != "night" || p.Time.IsZero() || m.Lost != 0 || m.Redelivered {
				t.Errorf("message %d: shift %q, %+v", i, v, m)
			}
		}
		s.Stop()
		s.Start()
		if kind == "amqp" {
			s.Declare()
		}
		for n := 200; len(w.messages()) < 105; n++ {
			s.Publish(n, n+1)
			if n > 2000 {
				t.Fatalf("nothing comes any more: %q", w.notes)
			}
		}
		w.stop()
		if err := <-w.done; err != nil {
			t.Error(err)
		}
		gap := w.messages()[100].Lost
		if notes := strings.Join(w.notes, "; "); kind != "kafka" && (!strings.Contains(notes, "lost") ||
			!strings.Contains(notes, "again")) || gap != 0 != (kind != "redis" && kind != "kafka") {
			t.Errorf("lost %d; %s", gap, notes)
		}
	})
}

// What keeps a copy from beginning has a sentence of its own, without the password.
func TestWhatIsWrong(t *testing.T) {
	eachKind(t, func(t *testing.T, s under) {
		kind := s.Kind
		try := func(want string, b *Server, at *plan.BrokerPlace) {
			t.Helper()
			ctx, stop := context.WithTimeout(context.Background(), time.Minute)
			defer stop()
			err := b.Copy(ctx, at, Options{Note: func(text string) { t.Log(text) }, Ready: stop})
			if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "s3cret") {
				t.Errorf("%v, want %q", err, want)
			}
		}
		refused := s.broker()
		refused.Address = fmt.Sprint("127.0.0.1:", brokertest.FreePort(t))
		try("the connection was refused", refused, s.Place())
		login := s.broker()
		login.Password = "s3cret but wrong"
		try(`does not accept the user "quay" with that password`, login, s.Place())
		nameless := s.broker()
		nameless.User, nameless.Password = "", ""
		if kind != "amqp" { // guest
			try("wants a login", nameless, s.Place())
		}
		noHost := s.broker()
		noHost.Address = "no-such-host.invalid:1"
		try("no host of that name", noHost, s.Place())
		secure := s.broker()
		secure.Address, secure.Secure = fmt.Sprint("127.0.0.1:", s.TLSPort), true
		try("an authority that is not trusted", secure, s.Place())
		secure.CA = filepath.Join(s.Dir, "ca.pem")
		ctx, stop := context.WithTimeout(context.Background(), time.Minute)
		ready := false
		err := secure.Copy(ctx, s.Place(), Options{Note: func(text string) { t.Log(text) },
			Ready: func() { ready = true; stop() }})
		if stop(); err != nil || !ready {
			t.Errorf("over TLS: %v", err)
		}
		if kind == "nats" {
			s.Stop()
			s.OnlyTLS = true
			s.Start()
		}
		plain := s.broker()
		plain.Address = fmt.Sprint("127.0.0.1:", s.TLSPort)
		try(map[string]string{"nats": "the scheme for that is nats+tls", "kafka": "wants TLS (kafka+tls)"}[kind]+
			map[bool]string{true: "does it want TLS?"}[kind != "nats" && kind != "kafka"], plain, s.Place())
		if kind == "nats" {
			s.Stop()
			s.OnlyTLS = false
			s.Start()
		}
		switch kind {
		case "amqp":
			try(`has no exchange "tides"`, s.broker(), &plan.BrokerPlace{Exchange: "tides", Key: "#"})
			other := s.broker()
			other.Path = "elsewhere"
			try(`no virtual host "elsewhere"`, other, s.Place())
		case "redis":
			try(`has no stream "tides"`, s.broker(), &plan.BrokerPlace{Stream: "tides"})
			try("not a stream", s.broker(), &plan.BrokerPlace{Stream: "work"})
		case "nats":
			try(`has no stream "TIDES"`, s.broker(), &plan.BrokerPlace{Stream: "TIDES"})
			try("a work queue", s.broker(), &plan.BrokerPlace{Stream: "WORK"})
		case "kafka":
			try(`has no topic "tides"`, s.broker(), &plan.BrokerPlace{Topic: "tides"})
		}
		for want, at := range map[string]map[string]plan.BrokerPlace{
			"amqp": {`has no queue "tides"`: {Queue: "tides"}},
			"redis": {"has no such consumer group": {Stream: "scans", Group: "others"},
				`has no stream "tides"`: {Stream: "tides", Group: "crew"}},
			"nats": {`has no durable consumer "others"`: {Stream: "QUAY", Group: "others"},
				`has no stream "TIDES"`: {Stream: "TIDES", Group: "crew"}},
			"kafka": {`has no topic "tides"`: {Topic: "tides", Group: "crew"}},
		}[kind] {
			ctx, stop := context.WithTimeout(context.Background(), time.Minute)
			err := s.broker().Take(ctx, &at, TakeOptions{Name: "test", Most: 1, Ready: stop,
				Note: func(text string) { t.Log(text) }, Each: func(*Held) { t.Error("a message came") }})
			if stop(); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("taken: %v, want %q", err, want)
			}
		}
	})
}

// A server of an older MQTT is told from one that closes the connection.
func TestOlderMQTT(t *testing.T) {
	for want, answer := range map[string]string{"does not speak MQTT 5": "\x20\x02\x00\x01",
		"harbour (127.0.0.1:": "\x20\x03\x00\x84\x00", "closed the connection before": ""} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Read(make([]byte, 1000))
				_, _ = c.Write([]byte(answer))
				c.Close()
			}
		}()
		s := &Server{Name: "harbour", Kind: "mqtt", Address: l.Addr().String(), User: "quay", Password: "s3cret"}
		err = s.Copy(t.Context(), &plan.BrokerPlace{Topic: "a"}, Options{Note: func(string) {}, Ready: func() {}})
		if err == nil || !strings.Contains(err.Error(), want) ||
			answer != "" && !strings.Contains(err.Error(), "MQTT 5") {
			t.Errorf("%q: %v", answer, err)
		}
		l.Close()
	}
}

// A stream of JetStream is read from its end, over a restart of the server without a gap, and deleted messages are
// counted; entries of Redis that are trimmed before they are read, too.
func TestGaps(t *testing.T) {
	s := start(t, "nats")
	s.Declare()
	c := s.NATS()
	js, _ := c.JetStream()
	put := func(n int) {
		t.Helper()
		if _, err := js.Publish("kept.a", fmt.Appendf(nil, "%d", n)); err != nil {
			t.Fatal(err)
		}
	}
	put(1)
	w := s.watch(&plan.BrokerPlace{Stream: "KEPT"})
	put(2)
	put(3)
	all := w.await(t, 2)
	if all[0].ID != "2" || all[0].Sent.IsZero() || string(all[1].Data) != "3" {
		t.Errorf("%+v", all)
	}
	c.Close()
	s.Stop()
	s.Start()
	c = s.NATS()
	defer c.Close()
	js, _ = c.JetStream()
	put(4)
	if all := w.await(t, 3); string(all[2].Data) != "4" || all[2].Lost != 0 {
		t.Errorf("%+v", all[2])
	}
	w.stop()

	r := start(t, "redis")
	r.Declare()
	first, hold := make(chan struct{}), make(chan struct{})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	var came []Message
	ready, done := make(chan struct{}), make(chan error, 1)
	go func() {
		done <- r.broker().Copy(ctx, r.Place(), Options{Ready: func() { close(ready) },
			Note: func(text string) { t.Log(text) },
			Each: func(m *Message) error {
				if came = append(came, *m); len(came) == 1 {
					close(first)
					<-hold
				}
				if m.Lost > 0 {
					stop()
				}
				return nil
			}})
	}()
	<-ready
	r.Publish(0, 1)
	x := r.Redis()
	defer x.Close()
	<-first
	r.Publish(1, 51)
	if _, err := x.Do("XTRIM", "scans", "MAXLEN", 10); err != nil {
		t.Fatal(err)
	}
	time.AfterFunc(1100*time.Millisecond, func() { close(hold) }) // the stream is looked at once a second
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if lost := came[1].Lost; lost != 40 || len(came) != 11 {
		t.Errorf("%d are said to be missing, want 40: %d came", lost, len(came))
	}
}

// What is taken is acknowledged when it is done, and rejected when it failed; what is held when the program ends comes
// again, and nothing else. No more is held at once than was asked for.
func TestTakes(t *testing.T) {
	eachKind(t, func(t *testing.T, s under) {
		kind := s.Kind
		at := s.TakePlace()
		type round struct {
			seen map[int]bool // by their numbers: redelivered
			held int
		}
		// once takes messages: it leaves those that stay held, until it has seen so many
		once := func(seen int, keep func(n int) bool, ready func()) round {
			t.Helper()
			r := round{seen: map[int]bool{}}
			ctx, stop := context.WithTimeout(context.Background(), time.Minute)
			defer stop()
			var mu sync.Mutex
			inFlight, most := 0, 0
			enough := func() {
				if len(r.seen) >= seen && inFlight == r.held {
					time.AfterFunc(1500*time.Millisecond, stop) // for what would come beside, and commits
				}
			}
			err := s.broker().Take(ctx, at, TakeOptions{Name: "nightdrill-test", Most: 5, Ready: ready,
				Note: func(text string) { t.Log(text) },
				Each: func(h *Held) {
					n := -1
					fmt.Sscanf(string(h.Data), `{"n":%d}`, &n)
					mu.Lock()
					defer mu.Unlock()
					r.seen[n] = h.Redelivered
					inFlight++
					most = max(most, inFlight)
					end := func() {
						mu.Lock()
						inFlight--
						mu.Unlock()
						finish := h.Done
						if n%3 == 2 {
							finish = h.Failed
						}
						if err := finish(); err != nil {
							t.Errorf("message %d: %v", n, err)
						}
						mu.Lock()
						defer mu.Unlock()
						enough()
					}
					if keep(n) {
						r.held++
						enough()
						return
					}
					go end()
				}})
			if err != nil {
				t.Fatal(err)
			}
			if most > 5 {
				t.Errorf("%d were held at once, want at most 5", most)
			}
			return r
		}
		// the last three stay held
		first := once(20, func(n int) bool { return n >= 17 }, func() { go s.Publish(0, 20) })
		if len(first.seen) != 20 {
			t.Fatalf("%d came: %v", len(first.seen), first.seen)
		}
		again := map[int]bool{}
		second := once(3, func(int) bool { return false }, func() {})
		for n := range second.seen {
			again[n] = true
		}
		for n := 17; n < 20; n++ {
			if !again[n] {
				t.Errorf("message %d was held when it ended, and does not come again: %v", n, second.seen)
			}
		}
		if len(again) > 3 && kind != "kafka" { // which knows an offset alone for each partition
			t.Errorf("what was acknowledged comes again: %v", second.seen)
		}
	})
}
