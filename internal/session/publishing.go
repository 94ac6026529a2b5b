package session

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/publish"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

// publishable reports whether a project has a source that can be published to.
func publishable(p *plan.Project) bool {
	return slices.ContainsFunc(p.Sources, func(s plan.Source) bool { return s.Kind.Published() })
}

// mayBeLater reports whether events that were not taken may be later.
func mayBeLater(err error) bool { return errors.As(err, new(*runner.ErrLater)) }

// openPublishing opens the entrance at which functions and other programs publish, at the usual address or a free one
// where wanted is "". Without a source that can be published to there is none.
func (s *Session) openPublishing(wanted string) {
	if !publishable(s.Project) || s.entrance != nil {
		return
	}
	project := func() *plan.Project {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.Project
	}
	e, err := publish.Open(cmp.Or(s.Entrances.Publish, wanted), s.Entrances.Hosts, project, s.published, s.SendAgain,
		mayBeLater)
	if err != nil {
		s.trouble = err.Error()
		return
	}
	s.entrance = e
	if s.MQTT {
		at := ""
		if wanted != "" { // of a command: a port of its own
			at = wanted
		}
		s.mqtt, err = publish.OpenMQTT(at, project, s.published, mayBeLater, func(text string) {
			s.Log.Add(time.Now(), "publishing", "publishing", logs.Note, text)
		})
		if err != nil {
			s.trouble = err.Error()
		}
	}
}

// Publishing returns the address at which events are published, and why it is not the usual one; "" for none.
func (s *Session) Publishing() (url, note string) {
	if s.entrance == nil {
		return "", ""
	}
	return s.entrance.URL(), s.entrance.Note
}

// PublishingMQTT returns the address at which events are published over MQTT; "" for none.
func (s *Session) PublishingMQTT() string { return s.mqtt.URL() }

// publisher is the event whose invocation published others.
type publisher struct {
	driver *runner.Follower // that it is of
	event  *runner.Trace
}

// of returns the event, if it is one of that driver's.
func (p *publisher) of(driver *runner.Follower) *runner.Trace {
	if p == nil || p.driver != driver {
		return nil
	}
	return p.event
}

// came notes that one of the events that were published was handed in, or will not be.
func (p *publisher) came() {
	if p != nil {
		p.driver.Came(p.event)
	}
}

// mostWaiting is how many published events may wait for their functions.
const mostWaiting = 100_000

// published fires events that were published.
func (s *Session) published(source int, all []payload.Payload, trace string) error {
	s.enter()
	defer s.leave()
	s.mu.Lock()
	p, paused, driver := s.Whole, s.paused, s.driver
	full := s.waiting+len(all) > mostWaiting
	if paused == "" && !full && source < len(p.Sources) {
		s.waiting += len(all)
	}
	s.mu.Unlock()
	switch {
	case paused != "":
		return &runner.ErrLater{Text: paused}
	case full:
		return &runner.ErrLater{Text: fmt.Sprintf("there is room for %d published events that wait", mostWaiting)}
	case source >= len(p.Sources):
		return errors.New("the source no longer exists")
	}
	var by *publisher
	switch event, err := driver.Expect(trace, len(all)); {
	case err != nil:
		s.mu.Lock()
		s.waiting -= len(all)
		s.mu.Unlock()
		return err
	case event != nil:
		by = &publisher{driver, event}
	}
	for i := range all {
		s.firing(source, p.Sources[source].Name, &all[i], by)
	}
	return nil
}

// firing fires an event that was published, which counts as waiting already.
func (s *Session) firing(source int, name string, pl *payload.Payload, by *publisher) *Firing {
	return s.Fire(Order{Item: &catalog.Item{Source: source, SourceName: name, Label: pl.Label(), Payload: pl},
		Origin: Published, by: by})
}

// firePublished fires one event as if it was published, however many wait.
func (s *Session) firePublished(source string, pl *payload.Payload) (*Firing, error) {
	s.enter()
	defer s.leave()
	s.mu.Lock()
	at, paused := s.Whole.SourceNamed(source), s.paused
	if at >= 0 && paused == "" {
		s.waiting++
	}
	s.mu.Unlock()
	switch {
	case paused != "":
		return nil, &runner.ErrLater{Text: paused}
	case at < 0:
		return nil, fmt.Errorf("the source %s no longer exists", source)
	}
	return s.firing(at, source, pl, nil), nil
}

// PublishFile publishes the events of a file to a source, as another program would: CloudEvents as JSON, one, a list or
// a line each. It returns how many there were; all of them are taken or none.
func (s *Session) PublishFile(source, file string) (n int, err error) {
	p := s.Plan()
	at := p.SourceNamed(source)
	if at < 0 || !p.Sources[at].Kind.Published() {
		return 0, fmt.Errorf("events cannot be published to %s", source)
	}
	content, err := project.ReadFile(s.inProject(file), payload.LargestPublished)
	if err != nil {
		return 0, err
	}
	all, err := payload.Events(content)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", file, err)
	}
	return len(all), s.published(at, all, "")
}
