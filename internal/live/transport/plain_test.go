package transport

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"io"
	"net/http"
	"strings"
	"testing"
)

func packed(t *testing.T, with func(io.Writer) io.WriteCloser, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := with(&b)
	if _, err := io.WriteString(w, text); err != nil {
		t.Fatal(err)
	}
	w.Close()
	return b.Bytes()
}

func gzipped(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) }
func zlibbed(w io.Writer) io.WriteCloser { return zlib.NewWriter(w) }
func flated(w io.Writer) io.WriteCloser {
	f, _ := flate.NewWriter(w, 6)
	return f
}

// A body is shown unpacked and as UTF-8; what cannot be is shown as it came, and
// it is said why.
func TestPlain(t *testing.T) {
	text := strings.Repeat("tides and fares ", 40)
	whole := packed(t, gzipped, text)
	for name, c := range map[string]struct {
		coding, kind string
		body         []byte
		want, note   string
	}{
		"as it is":     {"", "text/plain", []byte("holm"), "holm", ""},
		"identity":     {"identity", "", []byte("holm"), "holm", ""},
		"gzip":         {"gzip", "", whole, text, "unpacked from gzip"},
		"deflate":      {"deflate", "", packed(t, zlibbed, text), text, "unpacked from deflate"},
		"bare deflate": {"deflate", "", packed(t, flated, text), text, "unpacked from deflate"},
		"twice":        {"gzip, gzip", "", packed(t, gzipped, string(whole)), text, "unpacked from gzip"},
		"cut off":      {"gzip", "", whole[:len(whole)-12], text, "unpacked from gzip"},
		"not what it says": {"gzip", "", []byte("plain text of the quay"), "plain text of the quay",
			"gzip, shown as received: gzip: invalid header"},
		"not unpacked here": {"br", "", []byte("x"), "x", "br, shown as received: this coding is not supported"},
		"latin-1":           {"", "text/plain; charset=ISO-8859-1", []byte("M\xf6we"), "Möwe", "from iso-8859-1"},
		"shift-jis":         {"", `text/plain; charset="shift_jis"`, []byte("\x91\x44"), "船", "from shift_jis"},
		"both": {"gzip", "text/plain; charset=latin1", packed(t, gzipped, "M\xf6we"), "Möwe",
			"unpacked from gzip, from latin1"},
		"unknown set": {"", "text/plain; charset=holmish", []byte("x"), "x",
			`unknown character set "holmish", shown as received`},
		"utf-8": {"", "application/json; charset=utf-8", []byte("Möwe"), "Möwe", ""},
	} {
		r := Reply{Header: http.Header{}, Body: c.body}
		r.Header.Set("Content-Encoding", c.coding)
		r.Header.Set("Content-Type", c.kind)
		body, note := r.Plain()
		if got := string(body); note != c.note || got != c.want && !(name == "cut off" && strings.HasPrefix(text,
			got) && len(got) > 0) {
			t.Errorf("%s: %q, %q; want %q, %q", name, body, note, c.want, c.note)
		}
	}
}

// What a small body unpacks to is bounded.
func TestABombIsNotUnpacked(t *testing.T) {
	r := Reply{Header: http.Header{"Content-Encoding": {"gzip"}},
		Body: packed(t, gzipped, strings.Repeat("0", ReplyLimit+1))}
	if body, note := r.Plain(); len(body) != len(r.Body) || !strings.Contains(note, "larger than 64 MiB") {
		t.Errorf("%d bytes of %d, %q", len(body), len(r.Body), note)
	}
}
