package session

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/broker"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/ingest"
)

// Copying is a recording of a broker that is being made.
type Copying struct {
	Name   string // of the payload set
	From   string // broker and place, in words
	Ready  bool   // messages are copied
	Count  int    // so far
	Latest []string
}

// copying is one in progress.
type copying struct {
	mu    sync.Mutex
	state Copying
	stop  context.CancelFunc
	done  chan struct{}
	out   *ingest.Copied
	err   error
}

// latestCopied is how many of the latest messages are shown.
const latestCopied = 6

// ParseCopy reads what is to be recorded from a broker: the broker, where its messages pass and the name of the
// recording, such as "harbour exchange=orders key=order.* as=orders".
func (s *Session) ParseCopy(content string) (c ingest.Copy, err error) {
	words := strings.Fields(content)
	if len(words) == 0 {
		return c, errors.New("name a broker of the project file, or its URL")
	}
	b, err := project.Broker(&s.Plan().Project, words[0])
	if err != nil {
		return c, err
	}
	for _, w := range words[1:] {
		name, value, _ := strings.Cut(w, "=")
		to := map[string]*string{"topic": &c.At.Topic, "exchange": &c.At.Exchange, "key": &c.At.Key,
			"stream":  &c.At.Stream,
			"subject": &c.At.Subject, "queue": &c.At.Queue, "as": &c.Name, "password-env": &b.PasswordEnv,
			"ca": &b.CA}[name]
		if to == nil || value == "" {
			return c, fmt.Errorf("%q is not topic=, exchange=, key=, stream=, subject= or as= with a value", w)
		}
		*to = value
	}
	if c.Name == "" {
		return c, errors.New("the name of the recording is missing: as=NAME")
	}
	if why := c.At.CheckCopy(b.Kind(), ""); why != "" {
		return c, errors.New(why)
	}
	c.Server, err = broker.New(b)
	return c, err
}

// CopyFrom begins to record messages of a broker. What is wrong after that is said when it ends.
func (s *Session) CopyFrom(c ingest.Copy) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.copying != nil {
		return fmt.Errorf("%s is being recorded; end that first", s.copying.state.Name)
	}
	ctx, stop := context.WithCancel(s.life)
	x := &copying{stop: stop, done: make(chan struct{}),
		state: Copying{Name: c.Name, From: c.Server.Name + ", " + broker.PlaceText(&c.At)}}
	s.copying = x
	change := func(do func(*Copying)) {
		x.mu.Lock()
		do(&x.state)
		x.mu.Unlock()
		s.changed()
	}
	c.Ready = func() { change(func(c *Copying) { c.Ready = true }) }
	c.Note = func(note string) { s.Log.Add(time.Now(), "brokers", c.Name, logs.Note, note) }
	c.Came = func(m *broker.Message) {
		line := m.At.Format("15:04:05.000") + "  " + payload.Short(text.Harmless(m.Place), 40) + "  " +
			payload.Short(text.Harmless(strings.ToValidUTF8(string(m.Data[:min(len(m.Data), 200)]), "·")), 80)
		change(func(c *Copying) {
			c.Count++
			c.Latest = append(c.Latest, line)
			c.Latest = c.Latest[max(len(c.Latest)-latestCopied, 0):]
		})
	}
	go func() {
		defer close(x.done)
		x.out, x.err = c.Run(ctx, s.Dir)
		s.changed()
	}()
	return nil
}

// CopyingNow returns the recording of a broker that is being made; nil for none. over reports whether it has ended by
// itself: StopCopying returns how.
func (s *Session) CopyingNow() (c *Copying, over bool) {
	s.mu.Lock()
	x := s.copying
	s.mu.Unlock()
	if x == nil {
		return nil, false
	}
	select {
	case <-x.done:
		over = true
	default:
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	state := x.state
	state.Latest = slices.Clone(state.Latest)
	return &state, over
}

// StopCopying ends the recording of a broker, and returns what came of it, in words.
func (s *Session) StopCopying() (said string, err error) {
	s.mu.Lock()
	x := s.copying
	s.copying = nil
	s.mu.Unlock()
	if x == nil {
		return "no recording in progress", nil
	}
	x.stop()
	<-x.done
	if x.err != nil {
		return "", x.err
	}
	said = fmt.Sprintf("%s recorded as %s", text.Plural(x.out.Count, "message"), x.state.Name)
	switch {
	case x.out.Gaps > 0:
		said += fmt.Sprintf(", some missing at %s", text.Plural(x.out.Gaps, "place"))
	case x.out.Missing > 0:
		said += fmt.Sprintf(", %d missing", x.out.Missing)
	}
	if n := len(x.out.Redacted); n > 0 {
		said += fmt.Sprintf(", secrets redacted in %s", text.Plural(n, "place"))
	}
	s.touch("")
	go s.bringAll()
	return said, nil
}
