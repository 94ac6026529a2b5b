// Package ingest brings recordings into a project: files in other formats, and what the proxy records.
package ingest

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/recorder"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/store"
)

// Import describes what to import as a payload set, and how.
type Import struct {
	From string // a file, or a folder whose files become storage events
	Name string // of the set
	Form payload.Form
	// JSON Pointers into data that are redacted besides what always is
	Redact   []string
	Suspects bool // what only looks like a secret is redacted too
	Skip     bool // broken records are skipped instead of refused
	Replace  bool // an existing recording is replaced
}

// Imported is the result of an import.
type Imported struct {
	File   string // relative to the project's folder
	Kind   string
	Count  int
	Bytes  int64 // of the recording that was written
	Broken project.Mistakes
	payload.Tally
	Notes []string
	Added bool // the set was added to the project's file
}

// mostBroken is how many broken records are reported one by one.
const mostBroken = 20

// Import reads a recording and keeps it as a payload set of the project in a
// folder: events as JSON lines, requests as a HAR archive, with secrets redacted.
// The error is project.Mistakes where records are broken; nothing is kept then.
func (i Import) Import(ctx context.Context, dir string) (*Imported, error) {
	if err := project.SetName(i.Name); err != nil {
		return nil, err
	}
	for _, p := range append(slices.Clone(i.Redact), i.Form.Time, i.Form.ID, i.Form.Key) {
		if _, err := jsondiff.Parse(p); err != nil {
			return nil, err
		}
	}
	key, err := RedactionKey(dir)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(i.From)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", i.From, project.Cause(err))
	}
	if i.Form.Type == "" {
		i.Form.Type = i.Name + ".recorded"
	}
	if i.Form.Source == "" {
		i.Form.Source = "/recorded/" + i.Name
	}
	w := &importing{Import: i, ctx: ctx, dir: dir, out: &Imported{},
		redact: &payload.Redactor{Key: key, Set: i.Name, Pointers: i.Redact, Looks: i.Suspects}}
	defer w.drop()
	if info.IsDir() && i.Form.Kind != "" {
		return nil, fmt.Errorf("%s is a folder, which is read as storage events; --kind %s needs a file", i.From,
			i.Form.Kind)
	}
	if info.IsDir() {
		w.out.Kind = "folder"
		err = w.folder()
	} else {
		err = w.file()
	}
	if err != nil {
		return nil, err
	}
	return w.finish()
}

// importing is an import in progress.
type importing struct {
	Import
	ctx    context.Context
	dir    string
	out    *Imported
	redact *payload.Redactor
	temp   *os.File
	to     *bufio.Writer
	har    bool
	line   []byte
	last   time.Time
	ids    map[uint64]bool // hashes
	seed   maphash.Seed
	back   int // times that run backwards
	twice  int // ids that came before
}

// mostIDs bounds the ids that are remembered to find duplicates.
const mostIDs = 1 << 20

func (w *importing) file() error {
	f, err := os.Open(w.From)
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", w.From, project.Cause(err))
	}
	defer f.Close()
	w.out.Kind, err = payload.Scan(f, w.Form, func(p payload.Payload, _ payload.Mistake) error { return w.put(p) },
		func(m payload.Mistake) error {
			w.wrong(m)
			return w.ctx.Err()
		})
	if m, ok := errors.AsType[payload.Mistake](err); ok {
		w.wrong(m)
		err = nil
	}
	return err
}

func (w *importing) wrong(m payload.Mistake) {
	if len(w.out.Broken) < mostBroken {
		w.out.Broken = append(w.out.Broken, project.Mistake{File: w.From, Line: m.Line, Column: m.Column, Text: m.Text})
		return
	}
	if len(w.out.Broken) == mostBroken {
		w.out.Broken = append(w.out.Broken, project.Mistake{File: w.From, Text: "more records are broken"})
	}
}

func (w *importing) put(p payload.Payload) error {
	if w.out.Count%1024 == 0 && w.ctx.Err() != nil {
		return w.ctx.Err()
	}
	if w.to == nil {
		w.har = p.Request != nil
		folder := filepath.Join(w.dir, catalog.SavedDir)
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		var err error
		if w.temp, err = os.CreateTemp(folder, ".import-*"); err != nil {
			return err
		}
		w.to = bufio.NewWriterSize(w.temp, 1<<20)
		if w.har {
			if _, err := w.to.WriteString(payload.HARBegin); err != nil {
				return err
			}
		}
	}
	w.look(&p)
	if w.out.Kind != "folder" { // of which there are only names and sizes
		var redacted, suspects []payload.Spot
		p, redacted, suspects = w.redact.Apply(p)
		w.out.Add(redacted, suspects)
	}
	w.line = w.line[:0]
	if w.har {
		if w.out.Count > 0 {
			w.line = append(w.line, ",\n"...)
		}
		w.line = p.AppendHAR(w.line, "http://recorded.invalid", 0, 0, "")
	} else {
		w.line = append(p.Event.AppendJSON(w.line), '\n')
	}
	w.out.Count++
	_, err := w.to.Write(w.line)
	return err
}

// look notes what is odd in the order and the ids of the records.
func (w *importing) look(p *payload.Payload) {
	if !p.Time.IsZero() {
		if p.Time.Before(w.last) {
			w.back++
		} else {
			w.last = p.Time
		}
	}
	if p.Event != nil && len(w.ids) < mostIDs {
		if w.ids == nil {
			w.ids, w.seed = map[uint64]bool{}, maphash.MakeSeed()
		}
		if key := maphash.String(w.seed, p.Event.Source+"\x00"+p.Event.ID); w.ids[key] {
			w.twice++
		} else {
			w.ids[key] = true
		}
	}
}

// finish moves the recording to its place and adds the set to the project.
func (w *importing) finish() (*Imported, error) {
	if len(w.out.Broken) > 0 && (!w.Skip || w.out.Count == 0) {
		return nil, w.out.Broken
	}
	if w.out.Count == 0 {
		return nil, fmt.Errorf("%s contains nothing to import", w.From)
	}
	name := w.Name + ".ndjson"
	if w.har {
		name = w.Name + ".har"
		if _, err := w.to.WriteString(payload.HAREnd); err != nil {
			return nil, err
		}
	}
	w.out.File = catalog.SavedDir + "/" + name
	path := filepath.Join(w.dir, catalog.SavedDir, name)
	if _, err := os.Stat(path); err == nil && !w.Replace {
		return nil, fmt.Errorf("%s already exists; --replace overwrites it, --as chooses another name", w.out.File)
	}
	if err := w.to.Flush(); err != nil {
		return nil, err
	}
	if at, err := w.temp.Seek(0, io.SeekCurrent); err == nil {
		w.out.Bytes = at
	}
	if err := errors.Join(w.temp.Chmod(0o644), w.temp.Close()); err != nil {
		return nil, err
	}
	if err := os.Rename(w.temp.Name(), path); err != nil {
		return nil, err
	}
	w.temp = nil
	if w.back > 0 {
		w.out.Notes = append(w.out.Notes, fmt.Sprintf("%s earlier than the one before; in a drill they come in the "+
			"order of their times", text.Plural(w.back, "record")))
	}
	if w.twice > 0 {
		w.out.Notes = append(w.out.Notes, fmt.Sprintf("%s with the source and id of an earlier one; they are kept, "+
			"as from a source that delivers twice", text.Plural(w.twice, "event")))
	}
	var err error
	if w.out.Added, err = project.AddRecording(w.dir, w.Name, w.out.File); err != nil {
		w.out.Notes = append(w.out.Notes, err.Error())
	}
	return w.out, nil
}

// drop removes what was begun.
func (w *importing) drop() {
	if w.temp != nil {
		_ = w.temp.Close() // it is removed anyway
		_ = os.Remove(w.temp.Name())
	}
}

// folder makes a storage event of each file of a folder, in the order of their
// times.
func (w *importing) folder() error {
	files, err := project.FolderFiles(w.ctx, w.From)
	if err != nil {
		return err
	}
	for n, x := range files {
		kind, err := x.Kind()
		etag := ""
		if err == nil {
			etag, err = tagOf(x.Path)
		}
		if err != nil {
			w.wrong(payload.Mistake{Text: fmt.Sprintf("%s: %v", x.Key, project.Cause(err))})
			continue
		}
		e, err := x.Event(w.Name, fmt.Sprintf("%d-%s", n+1, etag[:12]), kind, etag)
		if err != nil {
			return err
		}
		if err := w.put(payload.Payload{Event: e, Time: e.Time}); err != nil {
			return err
		}
	}
	return nil
}

// tagOf returns a tag of a file's content.
func tagOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)[:16]), nil
}

// RedactionKey returns the secret of a project from which stand-ins are made; it is drawn when it
// is first needed, and belongs in no repository.
func RedactionKey(dir string) ([]byte, error) {
	if _, err := os.Stat(filepath.Join(dir, project.File)); err != nil {
		_, err = project.Load(context.Background(), dir) // the error names what is missing
		return nil, err
	}
	path := filepath.Join(dir, project.StateDir, "redaction.key")
	if key, err := os.ReadFile(path); err == nil && len(key) >= 32 {
		return key, nil
	}
	if _, err := store.Folder(dir); err != nil {
		return nil, err
	}
	key := make([]byte, 32)
	_, _ = rand.Read(key) // it never fails
	return key, os.WriteFile(path, key, 0o600)
}

// Recording opens the recording of a name in a project's folder, to be appended to, and a proxy
// that writes to it once it is started.
func Recording(dir, name string, pointers []string, suspects bool) (*Recorded, error) {
	if err := project.SetName(name); err != nil {
		return nil, err
	}
	for _, p := range pointers {
		if _, err := jsondiff.Parse(p); err != nil {
			return nil, err
		}
	}
	key, err := RedactionKey(dir)
	if err != nil {
		return nil, err
	}
	a, err := recorder.Open(filepath.Join(dir, catalog.SavedDir, name+".har"))
	if err != nil {
		return nil, err
	}
	r := &Recorded{}
	r.Archive, r.Redact = a, &payload.Redactor{Key: key, Set: name, Pointers: pointers, Looks: suspects}
	return r, nil
}

// Recorded is a recording in progress.
type Recorded struct{ recorder.Proxy }

// Stop stops listening.
func (r *Recorded) Stop(ctx context.Context) { r.Proxy.Close(ctx) }

// Close closes the recording.
func (r *Recorded) Close() { _ = r.Archive.Close() }
