package catalog

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/uuid"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/objects"
	"nightdrill.dev/internal/project"
)

// Buckets are those of a project's storage sources.
func Buckets(l *project.Loaded) (out []objects.Bucket) {
	for i := range l.Sources {
		if s := &l.Sources[i]; s.Kind == plan.Storage {
			out = append(out, objects.Bucket{Name: s.Bucket, Folder: s.Folder})
		}
	}
	return out
}

// OpenStore opens the object store: apart from that of another program, in a folder of its
// own, where that is not "".
func OpenStore(l *project.Loaded, apart string) (s *objects.Store, err error) {
	dir := filepath.Join(l.Dir, project.StateDir, "objects")
	if apart != "" {
		s, err = objects.Borrow(dir, filepath.Join(apart, "objects"), Buckets(l))
	} else {
		s, err = objects.Open(dir, Buckets(l))
	}
	if err != nil {
		return nil, fmt.Errorf("the object store cannot be opened: %w", project.Cause(err))
	}
	return s, nil
}

// Bring stores what a payload has to be an event of a storage source: the
// bytes that its event refers to, or its data.
func Bring(store *objects.Store, src *plan.Source, p *payload.Payload, set string) (*payload.Payload, error) {
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
		return nil, fmt.Errorf("the object %s cannot be stored: %w", key, Cause(err))
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

// Cause returns the reason alone of what the object store refuses.
func Cause(err error) error {
	if why, is := errors.AsType[*objects.Refusal](err); is {
		return errors.New(why.Text)
	}
	return err
}

func Upload(store *objects.Store, src *plan.Source, source int, path, key string) (*Item, error) {
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
		return nil, fmt.Errorf("%s cannot be stored: %w", path, Cause(err))
	}
	p := &payload.Payload{Event: o.Event(uuid.NewString(), time.Now().UTC().Round(time.Millisecond))}
	return &Item{Source: source, SourceName: src.Name, Label: o.Action + " " + o.Key, Set: "upload", N: 1, Payload: p},
		nil
}
