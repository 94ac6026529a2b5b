package session

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"sync"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/broker"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/recorder"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/store"
)

// BrokerFeed is how a source that is fed from a broker stands.
type BrokerFeed struct {
	Source  string
	Broker  string
	Place   string // in words
	Takes   bool   // messages are taken, not copied
	Came    int    // messages so far
	Held    int    // that are taken and not acknowledged
	Failed  int    // that were rejected
	Trouble string // why nothing comes; "" while it does
}

// Words returns how a feed stands, as a sentence.
func (f *BrokerFeed) Words() string {
	done := "copied from"
	if f.Takes {
		done = "taken from"
	}
	words := fmt.Sprintf("%s %s, %s: ", done, f.Broker, f.Place)
	if f.Trouble != "" {
		return words + f.Trouble
	}
	words += text.Plural(f.Came, "message")
	if f.Held > 0 {
		words += fmt.Sprintf(", %d not acknowledged yet", f.Held)
	}
	if f.Failed > 0 {
		words += fmt.Sprintf(", %d failed and kept in %s/%s/%s.ndjson", f.Failed, project.StateDir, FailedDir, f.Source)
	}
	return words
}

// brokerFeeds feed sources from brokers while the session has its functions.
type brokerFeeds struct {
	turn  sync.Mutex // held while it is begun or ended
	mu    sync.Mutex
	of    []plan.Source // with what they are fed from
	from  []plan.Broker
	stop  context.CancelFunc // nil while none is fed
	all   *sync.WaitGroup
	state map[string]*BrokerFeed // by source
}

// BrokerFeeds returns how the sources stand that are fed from brokers, in the order of the project.
func (s *Session) BrokerFeeds() (out []BrokerFeed) {
	s.feeds.mu.Lock()
	defer s.feeds.mu.Unlock()
	for i := range s.feeds.of {
		if f := s.feeds.state[s.feeds.of[i].Name]; f != nil {
			out = append(out, *f)
		}
	}
	return out
}

// feed begins to feed those sources that the project says; what is fed already goes on, where nothing about it changed.
func (s *Session) feed() {
	s.feeds.turn.Lock()
	defer s.feeds.turn.Unlock()
	if s.life.Err() != nil {
		return
	}
	var of []plan.Source
	p := s.Plan()
	for _, src := range p.Sources {
		if src.Copied != nil || src.Taken != nil {
			of = append(of, plan.Source{Name: src.Name, Copied: src.Copied, Taken: src.Taken})
		}
	}
	s.feeds.mu.Lock()
	same := s.feeds.stop != nil && reflect.DeepEqual(of, s.feeds.of) && slices.Equal(p.Brokers, s.feeds.from)
	s.feeds.mu.Unlock()
	if same {
		return
	}
	s.endFeeds()
	if len(of) == 0 {
		return
	}
	if s.aside.second != "" {
		s.Log.Add(time.Now(), "brokers", "brokers", logs.Note, "another program has this project open, and gets the "+
			"messages of its brokers")
		return
	}
	ctx, stop := context.WithCancel(s.life)
	f := &s.feeds
	f.mu.Lock()
	f.of, f.from, f.stop, f.all, f.state = of, p.Brokers, stop, &sync.WaitGroup{}, map[string]*BrokerFeed{}
	for i := range of {
		src := &of[i]
		b, at := p.FedFrom(src)
		state := &BrokerFeed{Source: src.Name, Broker: b.Name, Place: broker.PlaceText(at), Takes: src.Taken != nil,
			Trouble: "connecting"}
		f.state[src.Name] = state
		f.all.Go(func() { s.feedOne(ctx, b, src, state) })
	}
	f.mu.Unlock()
}

// starve ends the feeding, and returns when it is over. What was taken and has no outcome stays with its broker.
func (s *Session) starve() {
	s.feeds.turn.Lock()
	defer s.feeds.turn.Unlock()
	s.endFeeds()
}

func (s *Session) endFeeds() {
	f := &s.feeds
	f.mu.Lock()
	stop, all := f.stop, f.all
	f.stop, f.of, f.state = nil, nil, nil
	f.mu.Unlock()
	if stop != nil {
		stop()
		all.Wait()
	}
}

// retryFeed is after which time a feed that could not begin is tried again.
const retryFeed = 3 * time.Second

// feedOne feeds a source until the context ends.
func (s *Session) feedOne(ctx context.Context, b *plan.Broker, src *plan.Source, state *BrokerFeed) {
	set := func(change func(*BrokerFeed)) {
		s.feeds.mu.Lock()
		change(state)
		s.feeds.mu.Unlock()
		s.changed()
	}
	note := func(text string) {
		if ctx.Err() == nil {
			s.Log.Add(time.Now(), "brokers", src.Name, logs.Note, text)
		}
	}
	ready := func() { set(func(f *BrokerFeed) { f.Trouble = "" }) }
	last := ""
	for ctx.Err() == nil {
		err := s.feedFrom(ctx, b, src, feeding{most: s.capacity(src.Name), ready: ready, note: note,
			copied: func(pl *payload.Payload, trace string) error {
				set(func(f *BrokerFeed) { f.Came++ })
				return s.copied(ctx, src.Name, pl, trace, note)
			},
			taken: func(h *broker.Held, pl *payload.Payload) {
				set(func(f *BrokerFeed) { f.Came, f.Held = f.Came+1, f.Held+1 })
				go s.taken(ctx, src.Name, h, pl, note, set)
			}})
		if err == nil || ctx.Err() != nil {
			return
		}
		set(func(f *BrokerFeed) { f.Trouble = err.Error() })
		if err.Error() != last {
			last = err.Error()
			note(last)
		}
		select {
		case <-ctx.Done():
		case <-time.After(retryFeed):
		}
	}
}

// feeding is what is done with the messages of a broker.
type feeding struct {
	most   int // messages that are held at once
	ready  func()
	note   func(string)
	copied func(pl *payload.Payload, trace string) error
	taken  func(h *broker.Held, pl *payload.Payload)
}

// feedFrom copies or takes the messages of a source from its broker until the context ends, or it cannot go on.
func (d *Workspace) feedFrom(ctx context.Context, b *plan.Broker, src *plan.Source, f feeding) error {
	server, err := broker.New(b)
	if err != nil {
		return err
	}
	if src.Taken == nil {
		return server.Copy(ctx, src.Copied, broker.Options{Ready: f.ready, Note: f.note,
			Each: func(m *broker.Message) error {
				pl, trace := eventOf(server.Kind, src.Name, m, f.note)
				return f.copied(&pl, trace)
			}})
	}
	return server.Take(ctx, src.Taken, broker.TakeOptions{Ready: f.ready, Note: f.note, Name: d.taker(src.Name),
		Most: f.most, Each: func(h *broker.Held) {
			pl, _ := eventOf(server.Kind, src.Name, &h.Message, f.note)
			f.taken(h, &pl)
		}})
}

// taker names this project's use of a place at a broker, the same each time.
func (d *Workspace) taker(source string) string {
	sum := sha256.Sum256([]byte(d.Dir + "\x00" + source))
	return "nightdrill-" + hex.EncodeToString(sum[:6])
}

func (s *Session) capacity(source string) int {
	p := s.Plan()
	return capacityOf(&p.Project, source, func(fn int) plan.Limits { return p.Functions[fn].Limits })
}

// mostHeld bounds the messages that a source holds at once.
const mostHeld = 1000

// capacityOf returns how many events the functions of a source can work on at once: their concurrency times its
// batches.
func capacityOf(p *plan.Project, source string, limits func(fn int) plan.Limits) int {
	at := p.SourceNamed(source)
	if at < 0 {
		return 1
	}
	src, n := &p.Sources[at], 0
	for _, w := range src.Wires {
		l := limits(w.To)
		n += l.Max * max(l.PerInstance, 1)
	}
	return min(max(n, 1)*max(src.BatchMax, 1), mostHeld)
}

// eventOf returns the event of a message, and its trace context.
func eventOf(kind, source string, m *broker.Message, note func(string)) (payload.Payload, string) {
	pl, _, err := m.Payload(kind, source, nil)
	if err != nil {
		note(err.Error() + "; it is delivered as plain data")
		pl, _ = m.Plain(source, nil)
	}
	pl.Event.Extensions = slices.DeleteFunc(pl.Event.Extensions, func(f event.Field) bool {
		return f.Name == payload.RecordedTime
	})
	trace, _ := pl.Event.Attribute("traceparent")
	return pl, trace
}

// copied hands a message in, once there is room for it.
func (s *Session) copied(ctx context.Context, source string, pl *payload.Payload, trace string,
	note func(string)) error {
	for ctx.Err() == nil {
		err := s.published(s.Plan().SourceNamed(source), []payload.Payload{*pl}, trace)
		switch {
		case err == nil:
			return nil
		case !mayBeLater(err):
			note(err.Error())
			return nil
		}
		select {
		case <-ctx.Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil
}

// taken hands a message in, and acknowledges it by what becomes of it. Where nothing does, since the functions are
// ended or cannot be built, it is handed in again, or stays with the broker.
func (s *Session) taken(ctx context.Context, source string, h *broker.Held, pl *payload.Payload, note func(string),
	set func(func(*BrokerFeed))) {
	again := func() {
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
	for ctx.Err() == nil {
		f, err := s.firePublished(source, pl)
		if mayBeLater(err) {
			again()
			continue
		}
		if err != nil {
			note(err.Error())
			return
		}
		select {
		case <-f.Done():
		case <-ctx.Done():
			return
		}
		v := s.Look(f)
		outcome, over := engine.Done, v.Trace != nil && v.Refused == nil && v.Trace.Left == 0
		if over {
			for i := range v.Trace.Ended {
				if o := v.Trace.Ended[i].Outcome; o != engine.Done {
					outcome = o
				}
			}
		}
		if ctx.Err() != nil {
			return
		}
		if !over || outcome == engine.Abandoned {
			again()
			continue
		}
		s.acknowledge(source, h, pl, outcome != engine.Done, note)
		set(func(f *BrokerFeed) {
			if f.Held--; outcome != engine.Done {
				f.Failed++
			}
		})
		return
	}
}

// FailedDir is the folder, below that of the program's state, in which messages are kept that were taken and failed.
const FailedDir = "failed"

// keeping is held while a failed message is kept.
var keeping sync.Mutex

// keepFailed keeps a copy of an event that its broker will forget.
func (d *Workspace) keepFailed(source string, pl *payload.Payload) error {
	folder, err := store.Folder(d.Dir)
	if err != nil {
		return err
	}
	keeping.Lock()
	defer keeping.Unlock()
	l, err := recorder.OpenLines(filepath.Join(folder, FailedDir, source+".ndjson"))
	if err != nil {
		return err
	}
	if err := l.Append(pl.Event.AppendJSON); err != nil {
		_ = l.Close() // the first error counts
		return err
	}
	return l.Close()
}

// feedDrill feeds those sources of a drill that get messages of their brokers. What it returns ends that.
func (d *Workspace) feedDrill(ctx context.Context, p *plan.Project, drill *plan.Drill, r *Running) (end func()) {
	ctx, stop := context.WithCancel(ctx)
	var all, acks sync.WaitGroup
	for i := range drill.Feeds {
		f := &drill.Feeds[i]
		if f.Live == 0 {
			continue
		}
		src := &p.Sources[f.Source]
		b, _ := p.FedFrom(src)
		note := func(text string) {
			if ctx.Err() == nil {
				d.Log.Add(time.Now(), "brokers", src.Name, logs.Note, text)
				r.driver.Note(src.Name + ": " + text)
			}
		}
		all.Go(func() {
			err := d.feedFrom(ctx, b, src, feeding{note: note,
				most: capacityOf(p, src.Name, func(fn int) plan.Limits { return drill.Limits[fn] }),
				copied: func(pl *payload.Payload, _ string) error {
					return handIn(ctx, r.driver, f.Source, pl, nil)
				},
				taken: func(h *broker.Held, pl *payload.Payload) {
					// what is not taken any more is held until the connection ends, and stays with the broker
					_ = handIn(ctx, r.driver, f.Source, pl, func(failed bool) {
						acks.Go(func() { d.acknowledge(src.Name, h, pl, failed, note) })
					})
				}})
			if err != nil && !errors.Is(err, runner.ErrLive) {
				note(err.Error())
			}
		})
	}
	return func() {
		acks.Wait()
		stop()
		all.Wait()
	}
}

// handIn hands an event in, once the drill takes it.
func handIn(ctx context.Context, driver *runner.Drill, source int, pl *payload.Payload, done func(bool)) error {
	for {
		err := driver.HandIn(source, pl, done)
		if !mayBeLater(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// acknowledge ends what is held of a broker by what became of it.
func (d *Workspace) acknowledge(source string, h *broker.Held, pl *payload.Payload, failed bool, note func(string)) {
	finish := h.Done
	if failed {
		if err := d.keepFailed(source, pl); err != nil {
			note(fmt.Sprintf("a failed message cannot be kept, and stays with its broker: %v", err))
			return
		}
		finish = h.Failed
	}
	if err := finish(); err != nil {
		note(err.Error())
	}
}
