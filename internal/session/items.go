package session

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"nightdrill/internal/core/event"
	"nightdrill/internal/core/payload"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/live/objects"
	"nightdrill/internal/live/transport"
	"nightdrill/internal/project"
)

// SavedDir is the folder of a project in which saved payloads are, in a folder for each source.
const SavedDir = "payloads"

// Suffixes of saved payloads: a raw HTTP request, or an event as JSON.
const (
	requestSuffix = ".request"
	eventSuffix   = ".event.json"
)

// Item is something that can be fired at a source.
type Item struct {
	Source     int
	SourceName string
	HTTP       bool
	Label      string // what it is, in a few words
	Set        string // of a payload of a set
	N          int    // its place in the set, from 1
	Payload    *payload.Payload
	File       string // of a saved one: the file's path, absolute
	Name       string // of a saved one
	Text       []byte // of a saved one, its actions not filled in
	Wrong      string // why a saved one cannot be read
	Expect     *payload.Expect
}

// Key identifies an item, also after the project was read again.
func (i *Item) Key() string {
	switch {
	case i.File != "":
		return i.SourceName + " " + i.Name
	case i.Set != "":
		return fmt.Sprintf("%s %s#%d", i.SourceName, i.Set, i.N)
	}
	return i.SourceName + " " + i.Label
}

// Title names an item within its source.
func (i *Item) Title() string {
	switch {
	case i.File != "":
		return i.Name
	case i.Set != "":
		return fmt.Sprintf("%s#%d", i.Set, i.N)
	}
	return "from outside"
}

// Catalog is all that can be fired, by source. It is never changed: a new one takes its place.
type Catalog struct{ All []*Item }

// ReadCatalog lists what can be fired: offers first, and for each source its saved payloads, then
// those of the sets that reach it. It reads files.
func ReadCatalog(l *project.Loaded, store *objects.Store, offers []*Item) *Catalog {
	x := &Catalog{All: slices.Clone(offers)}
	for s := range l.Sources {
		src := &l.Sources[s]
		if len(src.Wires) == 0 {
			continue // it only stores events
		}
		kept := saved(l.Dir, s, src)
		for _, i := range kept { // one that a set is made of has the set's expectations
			for n := range l.Sets {
				if filepath.Join(l.Dir, filepath.FromSlash(l.Sets[n].Origin)) == i.File {
					if i.Expect = l.Sets[n].Expect; len(l.Sets[n].Payloads) == 1 {
						i.Expect = l.Sets[n].ExpectOf(0)
					}
				}
			}
		}
		x.All = append(x.All, kept...)
		x.All = append(x.All, own(store, s, src)...)
		for _, set := range setsOf(l.Project, s) {
			if strings.HasPrefix(set.Origin, SavedDir+"/"+src.Name+"/") {
				continue // it is listed by itself
			}
			for n := range set.Payloads {
				p := &set.Payloads[n]
				x.All = append(x.All, &Item{Source: s, SourceName: src.Name, HTTP: src.Kind == plan.HTTP,
					Label: p.Label(),
					Set:   set.Name, N: n + 1, Payload: p, Expect: set.ExpectOf(n)})
			}
		}
	}
	return x
}

// Find returns an item by its key, or nil.
func (x *Catalog) Find(key string) *Item {
	if i := slices.IndexFunc(x.All, func(i *Item) bool { return i.Key() == key }); i >= 0 {
		return x.All[i]
	}
	return nil
}

// relist reads the catalog again, and takes it up unless the project was exchanged meanwhile, whose
// own is read then. Files are read without the lock, which drawing needs.
func (s *Session) relist() {
	s.listing.Lock()
	defer s.listing.Unlock()
	s.mu.Lock()
	l, store, offers := s.Loaded, s.Objects, slices.Clone(s.offers)
	s.mu.Unlock()
	x := ReadCatalog(l, store, offers)
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

// setsOf returns the sets that reach a source.
func setsOf(p *plan.Project, source int) (sets []*payload.Set) {
	for i := range p.Sets {
		if to, _ := p.Reach(i); slices.Contains(to, source) {
			sets = append(sets, &p.Sets[i])
		}
	}
	return sets
}

// saved reads the saved payloads of a source.
func saved(dir string, s int, src *plan.Source) (out []*Item) {
	folder := filepath.Join(dir, SavedDir, src.Name)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if item := SavedItem(filepath.Join(folder, e.Name()), s, src); item != nil && e.Type().IsRegular() {
			out = append(out, item)
		}
	}
	return out
}

// savedLimit is the largest file that is read as a payload, in bytes.
const savedLimit = 64 << 20

// SavedItem reads a payload from a file; nil if its name is not that of one.
func SavedItem(path string, s int, src *plan.Source) *Item {
	base := filepath.Base(path)
	name, isRequest := strings.CutSuffix(base, requestSuffix)
	name, isEvent := strings.CutSuffix(name, eventSuffix)
	if !isRequest && !isEvent || isRequest != (src.Kind == plan.HTTP) {
		return nil
	}
	i := &Item{Source: s, SourceName: src.Name, HTTP: isRequest, File: path, Name: name}
	text, err := readLimited(path)
	if err != nil {
		i.Wrong = err.Error()
	}
	i.takeText(text)
	return i
}

// suffixOf is the ending of the files in which a source's payloads are saved.
func suffixOf(src *plan.Source) string {
	if src.Kind == plan.HTTP {
		return requestSuffix
	}
	return eventSuffix
}

// SavedNamed reads a saved payload of a source by its name; nil when there is none.
func SavedNamed(dir, name string, s int, src *plan.Source) *Item {
	path := filepath.Join(dir, SavedDir, src.Name, name+suffixOf(src))
	if _, err := os.Stat(path); err != nil {
		return nil
	}
	return SavedItem(path, s, src)
}

func readLimited(path string) ([]byte, error) {
	text, err := project.ReadFile(path, savedLimit)
	return text, project.Cause(err)
}

// takeText sets the text of a payload, and what it is or what is wrong with it.
func (i *Item) takeText(text []byte) {
	i.Text = text
	if i.Wrong != "" {
		return
	}
	p, err := i.fill(payload.Values{Now: time.Now(), Counter: 1, Seed: 1, UUID: uuid.NewString})
	if err != nil {
		i.Wrong = err.Error()
		return
	}
	i.Label = p.Label()
}

// ItemOf makes an item from a text, for a source.
func ItemOf(name string, text []byte, s int, src *plan.Source) *Item {
	i := &Item{Source: s, SourceName: src.Name, HTTP: src.Kind == plan.HTTP, File: name, Name: name}
	i.takeText(text)
	return i
}

// fill returns the payload to be sent.
func (i *Item) fill(v payload.Values) (*payload.Payload, error) {
	if i.Payload != nil && i.Wrong != "" && i.File == "" {
		return nil, errors.New(i.Wrong)
	}
	if i.Payload != nil {
		return i.Payload, nil
	}
	text, err := payload.Fill(i.Text, v)
	if err != nil {
		return nil, err
	}
	p, err := payload.ParseText(text, i.HTTP)
	if err != nil {
		return nil, err
	}
	return &p, nil
}

// short returns an item without what is too large to be kept; the item itself if it is in the
// project, or not large.
func (i *Item) short(most int) *Item {
	if i.File != "" || i.Set != "" || i.Payload == nil || len(i.Payload.Data()) <= most {
		return i
	}
	short := *i
	short.Payload = i.Payload.Short(most)
	short.Wrong = fmt.Sprintf("only the first %d of its %d bytes are kept", most, len(i.Payload.Data()))
	return &short
}

// Content returns the text of an item for editing.
func (i *Item) Content() []byte {
	if i.File != "" {
		return i.Text
	}
	return i.Payload.Text()
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
	at := s.SourceNamed(source)
	i := &Item{Source: at, SourceName: source, HTTP: p.Request != nil, Label: p.Label(), Set: set.Name, N: n + 1,
		Payload: p, Expect: set.Expect}
	if look {
		s.looks++
		i.Set = fmt.Sprintf("%s, preview %d", set.Name, s.looks)
	} else if n < len(set.Payloads) {
		i.Expect = set.ExpectOf(n)
	}
	if s.catalog.Find(i.Key()) == nil && at >= 0 {
		s.offers = slices.Insert(s.offers, 0, i)
		s.offers = s.offers[:min(len(s.offers), mostOffers)]
	}
	s.mu.Unlock()
	s.relist()
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
	if err := save(path, text); err != nil {
		return "", fmt.Errorf("the payload cannot be saved: %w", err)
	}
	s.relist()
	s.changed()
	return source + " " + name, nil
}

// KeepExpectation adds a set to the project by which a copy of a payload expects the same reply as
// the payload. Nothing happens if nothing is expected.
func (s *Session) KeepExpectation(of *Item, name string) error {
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
	file := SavedDir + "/" + of.SourceName + "/" + name + suffixOf(&s.Sources[at])
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
	return filepath.Join(s.Dir, SavedDir, source, name+suffixOf(&s.Sources[i])), nil
}

// Rewrite changes the text of a saved payload.
func (s *Session) Rewrite(i *Item, text []byte) error {
	_, err := s.put(i.SourceName, i.Name, i.File, text)
	return err
}

// Rename renames a saved payload and returns its new key.
func (s *Session) Rename(i *Item, name string) (key string, err error) {
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
func (s *Session) Delete(i *Item) error {
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
func (s *Session) List() []*Item {
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
