package export

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/draw"
)

// The map is an SVG that any reader takes, with its texts as texts, and a PDF;
// what is there already is not written over unasked.
func TestTheMapAsAPicture(t *testing.T) {
	w := &draw.Wiring{Title: "quay <&>: what reaches which function",
		Sources: []draw.WiringNode{{Name: "cargo", About: "storage, bucket x",
			Ways: []draw.WiringWay{{N: 2, What: "dead-lettered", To: "scans", Then: "gate"}}, Lines: 2},
			{Name: "scans", Lines: 1}},
		Functions: []draw.WiringNode{{Name: "load",
			Ways: []draw.WiringWay{{What: "sent on", To: "scans", Then: "gate"}}, Lines: 2}, {Name: "gate", Lines: 1}},
		Wires: []draw.WiringWire{{Source: 0, Function: 0, Takes: "key in/*.csv", Counts: "5 done"},
			{Source: 0, Function: 1}, {Source: 1, Function: 1}}}
	var svg, pdf bytes.Buffer
	if err := errors.Join(Wiring(&svg, "svg", w), Wiring(&pdf, "pdf", w)); err != nil {
		t.Fatal(err)
	}
	texts := ""
	for d := xml.NewDecoder(&svg); ; {
		token, err := d.Token()
		if err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		if c, ok := token.(xml.CharData); ok && strings.TrimSpace(string(c)) != "" {
			texts += strings.TrimSpace(string(c)) + "|"
		}
		if s, ok := token.(xml.StartElement); ok && s.Name.Local == "text" {
			for _, a := range s.Attr {
				if a.Name.Local == "style" && !strings.Contains(a.Value, "Helvetica, Arial, sans-serif") {
					t.Errorf("a text in %s", a.Value)
				}
			}
		}
	}
	for _, want := range []string{"quay <&>: what reaches which function", "|cargo|", "storage, bucket",
		"|2 dead-lettered|scans|gate|", "key in/*.csv", "|5 done|", "|load|", "|sent on|scans|gate|"} {
		if !strings.Contains(texts, want) {
			t.Errorf("%q is not in %s", want, texts)
		}
	}
	if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) || !bytes.Contains(pdf.Bytes(), []byte("%%EOF")) {
		t.Errorf("the PDF begins with %.20q", pdf.Bytes())
	}
	dir := t.TempDir()
	path := filepath.Join(dir, "map.svg")
	if err := WiringFile(path, w, false); err != nil {
		t.Fatal(err)
	}
	if err := WiringFile(path, w, false); err == nil || !strings.Contains(err.Error(), "--force") {
		t.Errorf("over a file that is there: %v", err)
	}
	if err := WiringFile(path, w, true); err != nil {
		t.Error(err)
	}
	for name, want := range map[string]string{"map.png": "written as .svg or .pdf",
		"none/map.pdf": "cannot be written"} {
		if err := WiringFile(filepath.Join(dir, name), w, false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if files, _ := os.ReadDir(dir); len(files) != 1 {
		t.Errorf("%d files", len(files))
	}
}
