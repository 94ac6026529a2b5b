package catalog

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/project"
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

// Suffix is the ending of the files in which a source's payloads are saved.
func Suffix(src *plan.Source) string {
	if src.Kind == plan.HTTP {
		return requestSuffix
	}
	return eventSuffix
}

// SavedNamed reads a saved payload of a source by its name; nil when there is none.
func SavedNamed(dir, name string, s int, src *plan.Source) *Item {
	path := filepath.Join(dir, SavedDir, src.Name, name+Suffix(src))
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
	p, err := i.Fill(payload.Values{Now: time.Now(), Counter: 1, Seed: 1, UUID: uuid.NewString})
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

// Fill returns the payload to be sent.
func (i *Item) Fill(v payload.Values) (*payload.Payload, error) {
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

// Short returns an item without what is too large to be kept; the item itself if it is in the
// project, or not large.
func (i *Item) Short(most int) *Item {
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

// bucketSet begins the name of the set that the objects of a bucket are offered in.
const BucketSet = "bucket "

// InBucket reports whether the item is an object that is in its source's bucket.
func (i *Item) InBucket() bool { return strings.HasPrefix(i.Set, BucketSet) }

// WriteFile writes a file so that it is there whole or not at all.
func WriteFile(path string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return project.WriteWhole(path, text)
}
