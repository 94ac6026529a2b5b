package objects

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/event"
)

// A file manager's ways: folders are listed, made, copied, moved and removed with what is in them, each change is an
// event, and the rules of the store hold.
func TestWebDAV(t *testing.T) {
	dir := t.TempDir()
	outside := filepath.Join(dir, "outside")
	files := filepath.Join(dir, "files")
	for _, d := range []string{outside, files} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(outside, filepath.Join(files, "link")); err != nil {
		t.Fatal(err)
	}
	s := open(t, filepath.Join(dir, "store"), Bucket{Name: "cargo"}, Bucket{Name: "papers", Folder: files})
	at := "http://" + s.Address()
	const lock = `<?xml version="1.0"?><lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope>` +
		`<locktype><write/></locktype></lockinfo>`
	var seen []string
	events := func() string {
		for {
			select {
			case o := <-s.told:
				seen = append(seen, o.Action+" "+o.Key)
			default:
				out := strings.Join(seen, ", ")
				seen = nil
				return out
			}
		}
	}
	for _, c := range []struct {
		method, path, body string
		headers            []string
		status             int
		want, events       string
	}{
		{"OPTIONS", "/cargo/", "", nil, 200, "", ""},
		{"PROPFIND", "/", "", []string{"Depth", "1"}, 207, "/cargo/</D:href>", ""},
		{"MKCOL", "/cargo/manifests", "", nil, 201, "", ""},
		{"MKCOL", "/cargo/manifests", "", nil, 405, "", ""},
		{"MKCOL", "/cargo/none/deep", "", nil, 409, "", ""},
		{"MKCOL", "/new-bucket", "", nil, 405, "", ""},
		{"PUT", "/cargo/manifests/heron.csv", "lime", nil, 201, "", event.Created + " manifests/heron.csv"},
		{"PUT", "/cargo/manifests/tern.csv", "salt", nil, 201, "", event.Created + " manifests/tern.csv"},
		{"PROPFIND", "/cargo/manifests/", "", []string{"Depth", "1"}, 207, "heron.csv</D:href>", ""},
		{"PROPFIND", "/cargo/manifests/heron.csv", "", []string{"Depth", "0"}, 207, "text/csv", ""},
		{"COPY", "/cargo/manifests/", "", []string{"Destination", at + "/cargo/copies/"}, 201, "",
			event.Created + " copies/heron.csv, " + event.Created + " copies/tern.csv"},
		{"MOVE", "/cargo/copies/heron.csv", "", []string{"Destination", at + "/cargo/heron-2.csv"}, 201, "",
			event.Created + " heron-2.csv, " + event.Removed + " copies/heron.csv"},
		{"GET", "/cargo/heron-2.csv", "", nil, 200, "lime", ""},
		{"DELETE", "/cargo/manifests/", "", nil, 204, "", event.Removed + " manifests/heron.csv, " + event.Removed +
			" manifests/tern.csv"},
		{"PROPFIND", "/cargo/manifests/", "", []string{"Depth", "0"}, 404, "", ""},
		{"DELETE", "/cargo/", "", nil, 405, "defined in the project file", ""},
		{"LOCK", "/cargo/heron-2.csv", lock, []string{"Timeout", "Second-60"}, 200, "locktoken", ""},
		{"MKCOL", "/cargo/x", "", []string{"Origin", "http://evil.example"}, 403, "pages of other sites", ""},
		{"MOVE", "/cargo/copies/tern.csv", "", []string{"Destination", at + "/papers/link/tern.csv"}, 403,
			"", ""},
		{"MOVE", "/cargo/copies/tern.csv", "", []string{"Destination", "http://elsewhere.example/cargo/x"}, 502,
			"", ""},
	} {
		status, _, text := s.ask(c.method, c.path, c.body, c.headers...)
		got := events()
		refused := c.status == 403 && status >= 400
		if status != c.status && !refused || !strings.Contains(text, c.want) || got != c.events {
			t.Errorf("%s %s: %d %s\n events %s, want %d and %s", c.method, c.path, status, text, got, c.status,
				c.events)
		}
	}
	if left, err := os.ReadDir(outside); err != nil || len(left) > 0 {
		t.Errorf("something was put outside: %v, %v", left, err)
	}
}
