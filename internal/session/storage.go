package session

import (
	"cmp"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/objects"
	"nightdrill.dev/internal/session/catalog"
)

// serveObjects opens the entrance of the object store, where the project has any
// storage, and reports what changes there.
func (s *Session) serveObjects() {
	if len(catalog.Buckets(s.Loaded)) == 0 {
		return
	}
	var err error
	if s.Objects.Address() == "" {
		s.Objects.Tell(s.objectChanged)
		at := cmp.Or(s.Entrances.Objects, objects.Usual)
		err = s.Objects.Listen(at) // where it really listens is on the screen
	}
	if err == nil {
		err = s.Objects.Watch()
	}
	if err != nil {
		s.mu.Lock()
		s.trouble = err.Error()
		s.mu.Unlock()
	}
	s.relist()
}

// objectChanged fires what an object's change is an event of.
func (s *Session) objectChanged(o event.Object, at time.Time) {
	s.relistSoon()
	s.mu.Lock()
	var items []*catalog.Item
	for i := range s.Sources {
		if src := &s.Sources[i]; src.Kind == plan.Storage && src.Bucket == o.Bucket {
			p := &payload.Payload{Event: o.Event(uuid.NewString(), at.UTC().Round(time.Millisecond))}
			items = append(items, &catalog.Item{Source: i, SourceName: src.Name, Label: o.Action + " " + o.Key,
				Payload: p})
		}
	}
	s.mu.Unlock()
	for _, i := range items {
		s.Fire(Order{Item: i, Origin: InStorage})
	}
	s.changed()
}

// bring makes sure that an object is there of which a firing at a storage source
// tells, and returns the event that reports it.
func (s *Session) bring(f *Firing, p *payload.Payload) (*payload.Payload, error) {
	s.mu.Lock()
	at, sources, store := f.Item.Source, s.Whole.Sources, s.Objects
	s.mu.Unlock()
	if at >= len(sources) || sources[at].Kind != plan.Storage || f.Origin == InStorage {
		return p, nil
	}
	out, err := catalog.Bring(store, &sources[at], p, f.Item.Set) // it may be large
	if err == nil && out != p {
		s.relist()
	}
	return out, err
}

// objectsOf returns the object store of a drill: it has the objects of the session's, and what
// the drill puts there goes when it is closed.
func (d *Workspace) objectsOf(run string) (*objects.Store, error) {
	if len(catalog.Buckets(d.Loaded)) == 0 {
		return d.Objects, nil
	}
	at, err := d.aside.folder()
	if err != nil {
		return nil, err
	}
	return d.Objects.Layer(filepath.Join(at, run)), nil
}

// listenFor opens the entrance of a drill's object store: where the session's would be, or
// beside that one.
func (d *Workspace) listenFor(store *objects.Store) error {
	at := cmp.Or(d.Entrances.Objects, "127.0.0.1:0")
	if taken := d.Objects.Address(); taken != "" {
		host, _, _ := net.SplitHostPort(taken)
		at = net.JoinHostPort(host, "0")
	}
	return store.Listen(at)
}

// keepAgain stores those of the objects that a run kept that are wanted.
func (d *Workspace) keepAgain(store *objects.Store, drill *plan.Drill, wanted func(plan.KeptObject) bool) error {
	for _, o := range drill.Kept {
		if !wanted(o) {
			continue
		}
		data, err := d.Runs.Blob(drill.Again, o.Blob)
		if err == nil {
			_, err = store.Keep(o.Bucket, o.Key, o.ContentType, data)
		}
		if err != nil {
			return fmt.Errorf("the object %s of run %s cannot be stored: %w", o.Key, drill.Again, catalog.Cause(err))
		}
	}
	return nil
}

// keepLost stores the objects that a run kept, but for those of which the bucket has one: a
// user's object is not overwritten by what a run reported.
func (s *Session) keepLost(drill *plan.Drill) error {
	s.mu.Lock()
	store := s.Objects
	s.mu.Unlock()
	return s.keepAgain(store, drill, func(o plan.KeptObject) bool {
		_, there := store.Find(o.Bucket, o.Key)
		return !there
	})
}

// bringAllObjects stores what a drill's feeds bring to storage sources, before it
// begins, and returns the project and the drill with the events that report it.
func (d *Workspace) bringAllObjects(store *objects.Store, from *plan.Project, drill *plan.Drill) (
	*plan.Project, *plan.Drill, error) {
	toStorage := func(f plan.Feed) bool { return d.Sources[f.Source].Kind == plan.Storage && f.Set >= 0 }
	needed := slices.ContainsFunc(drill.Feeds, toStorage)
	for i := range d.Functions {
		needed = needed || slices.ContainsFunc(d.Functions[i].Then,
			func(t plan.Then) bool { return d.Sources[t.To].Kind == plan.Storage })
	}
	if !needed {
		return from, drill, nil
	}
	if err := d.listenFor(store); err != nil { // no one knows where it is but the functions
		return nil, nil, err
	}
	if err := d.keepAgain(store, drill, func(plan.KeptObject) bool { return true }); err != nil {
		return nil, nil, err
	}
	p, changed := *from, *drill
	p.Sets, changed.Feeds = slices.Clone(p.Sets), slices.Clone(drill.Feeds)
	for i := range changed.Feeds {
		f := &changed.Feeds[i]
		if !toStorage(*f) {
			continue
		}
		set := p.Sets[f.Set]
		set.Payloads = slices.Clone(set.Payloads)
		for n := range set.Payloads {
			x := &set.Payloads[n]
			brought, err := catalog.Bring(store, &p.Sources[f.Source], x, set.Name)
			if err != nil {
				return nil, nil, fmt.Errorf("%s#%d cannot be brought to %s: %w", set.Name, n+1,
					p.Sources[f.Source].Name, err)
			}
			*x = *brought
		}
		f.Set = len(p.Sets)
		p.Sets = append(p.Sets, set)
	}
	return &p, &changed, nil
}

// Upload puts a file into the bucket of a storage source, and returns the item that fires its
// event.
func (d *Workspace) Upload(source int, path, key string) (*catalog.Item, error) {
	if d.Objects.Address() == "" {
		if err := d.Objects.Listen(cmp.Or(d.Entrances.Objects, "127.0.0.1:0")); err != nil {
			return nil, err
		}
	}
	return catalog.Upload(d.Objects, &d.Sources[source], source, path, key)
}

// Upload is that of the session, while it stands.
func (s *Session) Upload(source, path, key string) (*catalog.Item, error) {
	s.mu.Lock()
	at, store := s.Whole.SourceNamed(source), s.Objects
	if at < 0 || s.Whole.Sources[at].Kind != plan.Storage {
		s.mu.Unlock()
		return nil, fmt.Errorf("storage source %s no longer exists", source)
	}
	src := s.Whole.Sources[at]
	s.mu.Unlock()
	defer s.changed()
	i, err := catalog.Upload(store, &src, at, path, key)
	s.relist()
	return i, err
}

// RemoveObject removes an object of a storage source's bucket; the event that tells
// of it comes by itself.
func (s *Session) RemoveObject(i *catalog.Item) error {
	if !i.InBucket() {
		return fmt.Errorf("%s is not an object of a bucket", i.Title())
	}
	s.mu.Lock()
	store := s.Objects
	s.mu.Unlock()
	if err := store.Remove(strings.TrimPrefix(i.Set, catalog.BucketSet), i.Label); err != nil {
		return fmt.Errorf("%s cannot be removed: %w", i.Label, catalog.Cause(err))
	}
	return nil
}
