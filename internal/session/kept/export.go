// Package kept reads the runs that a project keeps: compares them, exports them, and holds what is
// noted of a run beside its records.
package kept

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/store"
)

// Formats lists the formats that a run can be exported in.
var Formats = []string{"svg", "pdf", "csv", "hdr", "openmetrics", "junit", "har", "events", "failed", "html", "json",
	"log", "otlp"}

// Exporting selects what of a run is written, and where.
type Exporting struct {
	Formats []string // all where it is empty
	Charts  []string // names; all where it is empty
	Size    export.Size
	Dir     string
	Over    bool // existing files may be overwritten
}

// SourceOf reads what is needed to export a run.
func SourceOf(runs *store.Store, info store.Info) (*export.Source, error) {
	r, err := runs.Load(info.ID)
	if err != nil {
		return nil, err
	}
	page, err := runs.Page(info.ID)
	if err != nil {
		return nil, err
	}
	lines, err := runs.Lines(info.ID)
	if err != nil {
		return nil, err
	}
	return &export.Source{Run: r, Page: page, Began: info.Began, Lines: lines, Blob: blobsOf(runs, info.ID)}, nil
}

// blobsOf returns the bytes that a run kept, by their number, or nil; each is read once.
func blobsOf(runs *store.Store, id string) func(int32) []byte {
	read := map[int32][]byte{}
	return func(n int32) []byte {
		if n <= 0 {
			return nil
		}
		text, ok := read[n]
		if !ok {
			var err error
			if text, err = runs.Blob(id, n); err != nil {
				text = nil
			}
			read[n] = text
		}
		return text
	}
}

// Export writes a run, and returns the files that it wrote. None is written if one of them already
// exists and must not be overwritten.
func Export(s *export.Source, comparisons []*measure.Comparison, x Exporting) (files []string, err error) {
	formats := x.Formats
	if len(formats) == 0 {
		formats = Formats
	}
	type file struct {
		name  string
		write func(io.Writer) error
	}
	var all []file
	base := s.Run.ID
	add := func(suffix string, write func(io.Writer) error) {
		all = append(all, file{filepath.Join(x.Dir, base+suffix), write})
	}
	for _, format := range formats {
		switch format {
		case "svg", "pdf":
			for i := range export.Charts {
				if c := &export.Charts[i]; len(x.Charts) == 0 || slices.Contains(x.Charts, c.Name) {
					add("-"+c.Name+"."+format, func(to io.Writer) error { return c.Write(to, format, x.Size, s) })
				}
			}
			for _, c := range comparisons {
				if len(x.Charts) == 0 || slices.Contains(x.Charts, "comparison") {
					add("-comparison-"+FileName(c.Title)+"."+format,
						func(to io.Writer) error { return export.Comparison(to, format, x.Size, c) })
				}
			}
		case "csv":
			add("-invocations.csv", func(to io.Writer) error { return export.CSV(to, s) })
		case "hdr":
			add("-latency.hlog", func(to io.Writer) error { return export.HDR(to, s) })
		case "openmetrics":
			add("-metrics.txt", func(to io.Writer) error { return export.OpenMetrics(to, s) })
		case "junit":
			add("-budgets.xml", func(to io.Writer) error { return export.JUnit(to, s) })
		case "har":
			add("-requests.har", func(to io.Writer) error { _, err := export.HAR(to, s, nil); return err })
		case "events":
			add("-events.ndjson", func(to io.Writer) error { _, err := export.Events(to, s, nil); return err })
		case "failed":
			add("-failed.ndjson", func(to io.Writer) error { _, err := export.Events(to, s, export.Lost); return err })
			add("-failed.har", func(to io.Writer) error { _, err := export.HAR(to, s, export.Lost); return err })
		case "html":
			add(".html", func(to io.Writer) error { return export.HTML(to, s) })
		case "json":
			add("-summary.json", func(to io.Writer) error {
				e := json.NewEncoder(to)
				e.SetIndent("", "  ")
				return e.Encode(s.Page.Summary)
			})
		case "otlp":
			add(".otlp.json", func(to io.Writer) error { return export.OTLP(to, s) })
		case "log":
			add("-log.txt", func(to io.Writer) error { return export.Log(to, s.Lines) })
		default:
			return nil, fmt.Errorf("unknown export format %q; available: %s", format, strings.Join(Formats, ", "))
		}
	}
	if x.Dir != "" {
		if err := os.MkdirAll(x.Dir, 0o755); err != nil {
			return nil, fmt.Errorf("cannot create the folder for exports: %w", err)
		}
	}
	for _, f := range all { // before anything is written
		if _, err := os.Stat(f.name); err == nil && !x.Over {
			return nil, fmt.Errorf("%s already exists; choose another folder with --out, or overwrite it with --force",
				f.name)
		}
	}
	for _, f := range all {
		var b bytes.Buffer
		if err := f.write(&b); err != nil {
			return files, fmt.Errorf("%s: %w", f.name, err)
		}
		if err := export.Put(f.name, b.Bytes(), x.Over); err != nil {
			return files, err
		}
		files = append(files, f.name)
	}
	return files, nil
}

// FileName makes a string fit for the name of a file.
func FileName(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '@' || r == '.' {
			return r
		}
		return '-'
	}, text)
}
