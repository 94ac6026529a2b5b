package session

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/uuid"

	"nightdrill/internal/core/event"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/objects"
	"nightdrill/internal/project"
)

// buckets are those of a project's storage sources.
func buckets(l *project.Loaded) (out []objects.Bucket) {
	for i := range l.Sources {
		if s := &l.Sources[i]; s.Kind == plan.Storage {
			out = append(out, objects.Bucket{Name: s.Bucket, Folder: s.Folder})
		}
	}
	return out
}

// openObjects opens the object store: apart from that of another program, in a folder of its
// own, where that is not "".
func openObjects(l *project.Loaded, apart string) (s *objects.Store, err error) {
	dir := filepath.Join(l.Dir, project.StateDir, "objects")
	if apart != "" {
		s, err = objects.Borrow(dir, filepath.Join(apart, "objects"), buckets(l))
	} else {
		s, err = objects.Open(dir, buckets(l))
	}
	if err != nil {
		return nil, fmt.Errorf("the object store cannot be opened: %w", project.Cause(err))
	}
	return s, nil
}

// serveObjects opens the entrance of the object store, where the project has any
// storage, and reports what changes there.
func (s *Session) serveObjects() {
	if len(buckets(s.Loaded)) == 0 {
		return
	}
	var err error
	if s.Objects.Address() == "" {
		s.Objects.Tell(s.objectChanged)
		at := cmp.Or(s.Entrances.Objects, objects.Usual)
		_, err = s.Objects.Listen(at) // where it really listens is on the screen
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
	var items []*Item
	for i := range s.Sources {
		if src := &s.Sources[i]; src.Kind == plan.Storage && src.Bucket == o.Bucket {
			p := &payload.Payload{Event: o.Event(uuid.NewString(), at.UTC().Round(time.Millisecond))}
			items = append(items, &Item{Source: i, SourceName: src.Name, Label: o.Action + " " + o.Key, Payload: p})
		}
	}
	s.mu.Unlock()
	for _, i := range items {
		s.Fire(Order{Item: i, Origin: InStorage})
	}
	s.changed()
}

// mostObjects bounds the objects of a bucket that are offered for firing.
const mostObjects = 50

// own returns what a source offers by itself: the objects of its bucket, or its
// next times.
func own(store *objects.Store, s int, src *plan.Source) (out []*Item) {
	switch src.Kind {
	case plan.Storage:
		list, _, _ := store.List(src.Bucket, "", "", mostObjects) // the bucket is there
		for n, o := range list {
			if told, ok := store.Find(src.Bucket, o.Key); ok {
				e := told.Event(fmt.Sprintf("%s-%d", src.Bucket, n+1), o.Modified.UTC())
				out = append(out, &Item{Source: s, SourceName: src.Name, Label: o.Key, Set: bucketSet + src.Bucket,
					N: n + 1, Payload: &payload.Payload{Event: e, Time: e.Time}})
			}
		}
	case plan.Schedule:
		for n, t := range NextTimes(src, time.Now(), 3) {
			p := plan.ScheduleEvent(src, t.Spec, t.At)
			out = append(out, &Item{Source: s, SourceName: src.Name,
				Label: "due " + t.At.Format("2006-01-02 15:04:05 -0700"), Set: "times", N: n + 1, Payload: &p})
		}
	}
	return out
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
	out, err := bringObject(store, &sources[at], p, f.Item.Set) // it may be large
	if err == nil && out != p {
		s.relist()
	}
	return out, err
}

// bringObject stores what a payload has to be an event of a storage source: the
// bytes that its event refers to, or its data.
func bringObject(store *objects.Store, src *plan.Source, p *payload.Payload, set string) (*payload.Payload, error) {
	if p.Event == nil {
		return nil, fmt.Errorf("it is an HTTP request, and %s is a storage source", src.Name)
	}
	told, isObject := event.ObjectOf(p.Event)
	var from io.Reader
	key, kind := told.Key, told.ContentType
	ref, _ := p.Event.Attribute(project.DataRef)
	switch {
	case isObject && told.Action == event.Removed:
		return p, nil
	case isObject && ref != "":
		u, err := url.Parse(ref)
		if err != nil || u.Scheme != "file" {
			return nil, fmt.Errorf("its dataref %q is not a file on this machine", ref)
		}
		f, err := os.Open(filepath.FromSlash(u.Path))
		if err != nil {
			return nil, fmt.Errorf("the file of the object %s cannot be read: %s: %w", key, u.Path, project.Cause(err))
		}
		defer f.Close()
		from = f
	case isObject:
		if there, ok := store.Find(src.Bucket, key); ok {
			there.Action = told.Action
			return telling(p, there), nil
		}
		return p, nil // of one that is not there
	default:
		from, kind = bytes.NewReader(p.Event.Data), p.Event.DataContentType
		if kind == "" {
			kind = "application/json"
		}
		if key = p.Event.Subject; key == "" {
			key = strings.Trim(set, "/") + "/" + p.Event.ID + extensionOf(kind)
		}
	}
	kept, err := store.KeepFrom(src.Bucket, key, kind, from)
	if err != nil {
		return nil, fmt.Errorf("the object %s cannot be stored: %w", key, refused(err))
	}
	if isObject && told.Action != "" {
		kept.Action = told.Action
	}
	return telling(p, kept), nil
}

// AsObject returns a payload as the event that it would be at a source: at storage,
// that of the object that it would become. Nothing is stored.
func AsObject(src *plan.Source, p *payload.Payload) *payload.Payload {
	if src.Kind != plan.Storage || p.Event == nil {
		return p
	}
	o, isObject := event.ObjectOf(p.Event)
	_, isFile := p.Event.Attribute(project.DataRef)
	switch {
	case isObject && !isFile:
		return p
	case isObject: // the bucket is the one that it is brought to
	case o.Key == "" && p.Event.Subject == "":
		return p // its key is made when it is stored
	case o.Key == "":
		o = event.Object{Key: p.Event.Subject, Action: event.Created}
	}
	o.Bucket = src.Bucket
	return &payload.Payload{Event: o.Event(p.Event.ID, p.Event.Time), Time: p.Time, Expect: p.Expect}
}

// telling returns a payload whose event reports an object.
func telling(p *payload.Payload, o event.Object) *payload.Payload {
	e := o.Event(p.Event.ID, p.Event.Time)
	for _, x := range p.Event.Extensions {
		if x.Name != project.DataRef {
			e.Extensions = append(e.Extensions, x)
		}
	}
	return &payload.Payload{Event: e, Time: p.Time, Expect: p.Expect}
}

func extensionOf(kind string) string {
	base, _, _ := strings.Cut(kind, ";")
	for ext, known := range map[string]string{".csv": "text/csv", ".json": "application/json", ".txt": "text/plain",
		".xml": "application/xml"} {
		if strings.TrimSpace(base) == known {
			return ext
		}
	}
	return ""
}

// objectsOf returns the object store of a drill: it has the objects of the session's, and what
// the drill puts there goes when it is closed.
func (d *Workspace) objectsOf(run string) (*objects.Store, error) {
	if len(buckets(d.Loaded)) == 0 {
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
	_, err := store.Listen(at)
	return err
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
			return fmt.Errorf("the object %s of run %s cannot be stored: %w", o.Key, drill.Again, refused(err))
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
			brought, err := bringObject(store, &p.Sources[f.Source], x, set.Name)
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
func (d *Workspace) Upload(source int, path, key string) (*Item, error) {
	if d.Objects.Address() == "" {
		if _, err := d.Objects.Listen(cmp.Or(d.Entrances.Objects, "127.0.0.1:0")); err != nil {
			return nil, err
		}
	}
	return upload(d.Objects, &d.Sources[source], source, path, key)
}

// Upload is that of the session, while it stands.
func (s *Session) Upload(source, path, key string) (*Item, error) {
	s.mu.Lock()
	at, store := s.Whole.SourceNamed(source), s.Objects
	if at < 0 || s.Whole.Sources[at].Kind != plan.Storage {
		s.mu.Unlock()
		return nil, fmt.Errorf("storage source %s no longer exists", source)
	}
	src := s.Whole.Sources[at]
	s.mu.Unlock()
	defer s.changed()
	i, err := upload(store, &src, at, path, key)
	s.relist()
	return i, err
}

// RemoveObject removes an object of a storage source's bucket; the event that tells
// of it comes by itself.
func (s *Session) RemoveObject(i *Item) error {
	if !i.InBucket() {
		return fmt.Errorf("%s is not an object of a bucket", i.Title())
	}
	s.mu.Lock()
	store := s.Objects
	s.mu.Unlock()
	if err := store.Remove(strings.TrimPrefix(i.Set, bucketSet), i.Label); err != nil {
		return fmt.Errorf("%s cannot be removed: %w", i.Label, refused(err))
	}
	return nil
}

// bucketSet begins the name of the set that the objects of a bucket are offered in.
const bucketSet = "bucket "

// InBucket reports whether the item is an object that is in its source's bucket.
func (i *Item) InBucket() bool { return strings.HasPrefix(i.Set, bucketSet) }

// UsualKey returns a key for a file at a storage source: in the folder that its first
// wire takes.
func UsualKey(src *plan.Source, path string) string {
	name := filepath.Base(path)
	if len(src.Wires) > 0 {
		if folder, _ := doublestar.SplitPattern(src.Wires[0].When.Key); src.Wires[0].When.Key != "" && folder != "." {
			return folder + "/" + name
		}
	}
	return name
}

// refused returns the reason alone of what the object store refuses.
func refused(err error) error {
	if why, is := errors.AsType[*objects.Refusal](err); is {
		return errors.New(why.Text)
	}
	return err
}

func upload(store *objects.Store, src *plan.Source, source int, path, key string) (*Item, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, project.Cause(err))
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.IsDir() {
		return nil, fmt.Errorf("%s is a folder; name a file", path)
	}
	if key == "" {
		key = filepath.Base(path)
	}
	o, err := store.KeepFrom(src.Bucket, key, "", f)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be stored: %w", path, refused(err))
	}
	p := &payload.Payload{Event: o.Event(uuid.NewString(), time.Now().UTC().Round(time.Millisecond))}
	return &Item{Source: source, SourceName: src.Name, Label: o.Action + " " + o.Key, Set: "upload", N: 1, Payload: p},
		nil
}
