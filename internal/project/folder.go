package project

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/files"
)

// DataRef is the attribute that says where the bytes of an object are
// (CloudEvents, extension "dataref").
const DataRef = "dataref"

// FolderFile is a file of a folder, which stands for an object of that key.
type FolderFile struct {
	Path, Key string
	Info      fs.FileInfo
}

// FolderFiles returns the files of a folder and of those below it, in the order of
// their times. Hidden ones and links are left out.
func FolderFiles(ctx context.Context, root string) (all []FolderFile, err error) {
	err = files.Visible(root, func(path, key string, info fs.FileInfo, err error) error {
		all = append(all, FolderFile{path, key, info})
		return errors.Join(err, ctx.Err())
	})
	slices.SortFunc(all, func(a, b FolderFile) int {
		if c := a.Info.ModTime().Compare(b.Info.ModTime()); c != 0 {
			return c
		}
		return strings.Compare(a.Key, b.Key)
	})
	return all, err
}

// Kind returns the media type of a file, by its name or by how it begins.
func (f *FolderFile) Kind() (string, error) {
	if kind := mime.TypeByExtension(filepath.Ext(f.Path)); kind != "" {
		return kind, nil
	}
	from, err := os.Open(f.Path)
	if err != nil {
		return "", err
	}
	defer from.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(from, head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		return "", err
	}
	return http.DetectContentType(head[:n]), nil
}

// Event returns the event that reports the file as an object that was created.
func (f *FolderFile) Event(bucket, id, kind, etag string) (*event.Event, error) {
	abs, err := filepath.Abs(f.Path)
	if err != nil {
		return nil, err
	}
	object := event.Object{Bucket: bucket, Key: f.Key, Action: event.Created, Size: f.Info.Size(), ContentType: kind,
		ETag: etag}
	e := object.Event(id, f.Info.ModTime().UTC())
	e.Extensions = []event.Field{{Name: DataRef,
		Value: (&url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}).String()}}
	return e, nil
}

// folder reads a set whose recording is a folder: an event for each of its files.
func (l *loader) folder(set *payload.Set, o *object, path string) {
	for _, key := range []string{"kind", "time", "id", "key", "type", "fits", "broken"} {
		if n := o.keys[key]; n != nil {
			l.wrong(n, "%s cannot be used with a folder, whose files are read as objects", o.at(key))
		}
	}
	files, err := FolderFiles(context.Background(), path)
	switch {
	case err != nil:
		l.wrong(o.fields["recording"], "%s: %s cannot be read: %v", o.at("recording"), set.Origin, Cause(err))
	case len(files) == 0:
		l.wrong(o.fields["recording"], "%s: the folder %s has no files", o.at("recording"), set.Origin)
	case len(files) > mostMade:
		l.wrong(o.fields["recording"], "%s: the folder %s has %d files; the limit is %d", o.at("recording"), set.Origin,
			len(files), mostMade)
	}
	l.folders = append(l.folders, path)
	for _, f := range files[:min(len(files), mostMade)] {
		if strings.ContainsFunc(f.Key, unicode.IsControl) || !utf8.ValidString(f.Key) {
			l.wrong(o.fields["recording"], "%s: %q is not a name for an object: it contains control characters, or "+
				"is not UTF-8", o.at("recording"), f.Key)
			continue
		}
		kind, err := f.Kind()
		if err == nil {
			var e *event.Event
			if e, err = f.Event(set.Name, f.Key, kind, ""); err == nil {
				set.Payloads = append(set.Payloads, payload.Payload{Event: e, Time: e.Time})
			}
		}
		if err != nil {
			l.wrong(o.fields["recording"], "%s: %s cannot be read: %v", o.at("recording"), f.Key, Cause(err))
		}
	}
}
