package session

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

// relist reads the catalog again, and takes it up unless the project was exchanged meanwhile, whose
// own is read then. Files are read without the lock, which drawing needs.
func (s *Session) relist() {
	s.listing.Lock()
	defer s.listing.Unlock()
	s.mu.Lock()
	l, store, offers := s.Loaded, s.Objects, slices.Clone(s.offers)
	s.mu.Unlock()
	x := catalog.Read(l, store, offers)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Loaded == l {
		s.catalog = x
	}
}

// relistSoon reads the catalog again in the background, once for all changes that come meanwhile.
func (s *Session) relistSoon() {
	if s.relists.Add(1) > 1 {
		return // another goroutine is doing it, and checks again
	}
	go func() {
		for done, more := int32(0), true; more && s.life.Err() == nil; more = !s.relists.CompareAndSwap(done, 0) {
			done = s.relists.Load()
			s.relist()
			s.changed()
		}
	}()
}

// Sent is what a function receives for a payload.
type Sent struct {
	Function string
	Form     string // binary, structured, body, shaped, batch, or as it is for a request
	transport.Message
}

// Sent returns what each function that a source's wires lead to receives for a payload, without
// sending it.
func (s *Session) Sent(source string, p *payload.Payload) (out []Sent) {
	s.mu.Lock()
	whole := s.Whole
	s.mu.Unlock()
	at := whole.SourceNamed(source)
	if at < 0 {
		return nil
	}
	src := &whole.Sources[at]
	takes := whole.Routes(at, p)
	for w := range src.Wires {
		if takes&(1<<w) == 0 {
			continue
		}
		f := &whole.Functions[src.Wires[w].To]
		d := Sent{Function: f.Name, Form: f.Deliver.String()}
		if p.Request != nil {
			if f.Deliver != plan.DeliverShaped {
				d.Form = "as it is"
			}
			d.Message = transport.Build(s.life, f, p.Request, nil, false)
		} else {
			if src.BatchMax > 1 && f.Deliver != plan.DeliverShaped {
				d.Form = "batch"
			}
			d.Message = transport.Build(s.life, f, nil, []*event.Event{p.Event}, src.BatchMax > 1)
		}
		if d.Call != nil && p.Request == nil {
			d.Header = d.Call.Fields()
		}
		out = append(out, d)
	}
	return out
}

// mostOffers is how many payloads that are in no list can be fired again.
const mostOffers = 8

// Offer makes a payload of a set available for firing at a source, and returns its key: payload n,
// from 0, as the project has it, or a preview.
func (s *Session) Offer(source string, set *payload.Set, n int, p *payload.Payload, look bool) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	at := s.SourceNamed(source)
	i := &catalog.Item{Source: at, SourceName: source, HTTP: p.Request != nil, Label: p.Label(), Set: set.Name,
		N: n + 1, Payload: p, Expect: set.Expect}
	if look {
		s.looks++
		i.Set = fmt.Sprintf("%s, preview %d", set.Name, s.looks)
	} else if n < len(set.Payloads) {
		i.Expect = set.ExpectOf(n)
	}
	if s.catalog.Find(i.Key()) == nil && at >= 0 {
		s.offers = slices.Insert(s.offers, 0, i)
		s.offers = s.offers[:min(len(s.offers), mostOffers)]
		s.catalog = s.catalog.WithOffers(s.offers)
	}
	return i.Key()
}

// Save saves a text as a payload of a source, and returns its key. A name that is taken is refused.
func (s *Session) Save(source, name string, text []byte) (key string, err error) {
	path, err := s.pathOf(source, name)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(path); err == nil {
		return "", fmt.Errorf("%s already has a payload %s", source, name)
	}
	return s.put(source, name, path, text)
}

func (s *Session) put(source, name, path string, text []byte) (string, error) {
	if err := catalog.WriteFile(path, text); err != nil {
		return "", fmt.Errorf("the payload cannot be saved: %w", err)
	}
	s.relist()
	s.changed()
	return source + " " + name, nil
}

// KeepExpectation adds a set to the project by which a copy of a payload expects the same reply as
// the payload. Nothing happens if nothing is expected.
func (s *Session) KeepExpectation(of *catalog.Item, name string) error {
	if of.Expect == nil || of.Set == "" {
		return nil
	}
	if of.Expect.Recorded {
		return fmt.Errorf("%s expects the recorded reply, and a copy has none; add an expect: of its own to "+
			"the project",
			of.Title())
	}
	settings, err := project.Expectation(s.Dir, of.Set, of.N)
	if err != nil || settings == "" {
		return err
	}
	s.mu.Lock()
	at := s.SourceNamed(of.SourceName)
	file := catalog.SavedDir + "/" + of.SourceName + "/" + name + catalog.Suffix(&s.Sources[at])
	s.mu.Unlock()
	added, err := project.AddSet(s.Dir, name, fmt.Sprintf("{recording: %s, reaches: [%s], expect: %s}", file,
		of.SourceName, settings))
	if err == nil && !added {
		return fmt.Errorf("the project has another payload set called %s", name)
	}
	return err
}

// pathOf returns the file of a saved payload.
func (s *Session) pathOf(source, name string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := s.SourceNamed(source)
	if i < 0 {
		return "", fmt.Errorf("unknown source %q", source)
	}
	if name == "" || strings.ContainsFunc(name, func(r rune) bool {
		return r != '-' && r != '_' && r != '.' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}) || name[0] == '.' {
		return "", fmt.Errorf("%q is not a name for a payload; use letters, digits, dots and - or _", name)
	}
	return filepath.Join(s.Dir, catalog.SavedDir, source, name+catalog.Suffix(&s.Sources[i])), nil
}

// Rewrite changes the text of a saved payload.
func (s *Session) Rewrite(i *catalog.Item, text []byte) error {
	_, err := s.put(i.SourceName, i.Name, i.File, text)
	return err
}

// Rename renames a saved payload and returns its new key.
func (s *Session) Rename(i *catalog.Item, name string) (key string, err error) {
	path, err := s.pathOf(i.SourceName, name)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(path); err == nil {
		return "", fmt.Errorf("%s already has a payload %s", i.SourceName, name)
	}
	if err := os.Rename(i.File, path); err != nil {
		return "", fmt.Errorf("the payload cannot be renamed: %w", project.Cause(err))
	}
	s.relist()
	return i.SourceName + " " + name, nil
}

// Delete removes a saved payload.
func (s *Session) Delete(i *catalog.Item) error {
	if i.File == "" {
		return fmt.Errorf("%s is part of a recording; only saved payloads can be deleted", i.Title())
	}
	if err := os.Remove(i.File); err != nil {
		return fmt.Errorf("the payload cannot be deleted: %w", project.Cause(err))
	}
	s.relist()
	return nil
}

// List returns everything that can be fired.
func (s *Session) List() []*catalog.Item {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.catalog.All
}

// FreeName returns a name that no saved payload of the source has.
func (s *Session) FreeName(source, like string) string {
	like = strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9', r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r == '-', r == '_':
			return r
		}
		return '-'
	}, like)
	name := strings.Trim(like, "-")
	if name == "" {
		name = "payload"
	}
	for n := 2; ; n++ {
		path, err := s.pathOf(source, name)
		if err != nil {
			return name
		}
		if _, err := os.Stat(path); err != nil {
			return name
		}
		name = fmt.Sprintf("%s-%d", strings.Trim(like, "-"), n)
	}
}
