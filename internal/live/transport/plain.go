package transport

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
)

// Plain returns the body of a reply unpacked (RFC 9110 §8.4) and, where it is text
// in another character set, as UTF-8; note says what was done, or why it could
// not be. The reply itself stays as it came.
func (r *Reply) Plain() (body []byte, note string) {
	body = r.Body
	codings := strings.Split(strings.ToLower(r.Header.Get("Content-Encoding")), ",")
	for i := len(codings) - 1; i >= 0; i-- { // the last one was put on last
		coding := strings.TrimSpace(codings[i])
		if coding == "" || coding == "identity" {
			continue
		}
		plain, err := unpack(coding, body)
		if err != nil {
			return body, fmt.Sprintf("%s, shown as received: %v", coding, err)
		}
		body, note = plain, "unpacked from "+coding
	}
	_, parameters, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	set := strings.ToLower(parameters["charset"])
	if set == "" || set == "utf-8" || set == "us-ascii" {
		return body, note
	}
	join := func(text string) string {
		if note != "" {
			return note + ", " + text
		}
		return text
	}
	e, err := htmlindex.Get(set)
	if err != nil {
		return body, join(fmt.Sprintf("unknown character set %q, shown as received", set))
	}
	if plain, err := e.NewDecoder().Bytes(body); err == nil {
		return plain, join("from " + set)
	}
	return body, note
}

// unpack undoes one content coding; what comes out is bounded.
func unpack(coding string, body []byte) ([]byte, error) {
	var r io.Reader
	var err error
	switch coding {
	case "gzip", "x-gzip":
		r, err = gzip.NewReader(bytes.NewReader(body))
	case "deflate":
		if r, err = zlib.NewReader(bytes.NewReader(body)); err != nil { // many send it bare
			r, err = flate.NewReader(bytes.NewReader(body)), nil
		}
	default:
		return nil, fmt.Errorf("this coding is not supported")
	}
	if err != nil {
		return nil, err
	}
	plain, err := io.ReadAll(io.LimitReader(r, ReplyLimit+1))
	switch {
	case len(plain) > ReplyLimit:
		return nil, fmt.Errorf("unpacked it is larger than %d MiB", ReplyLimit>>20)
	case err != nil && len(plain) == 0:
		return nil, err
	}
	return plain, nil // of one that is cut off, what there is
}

// Indent lays JSON out in lines. It fails for what is not JSON, and for what is
// nested so deeply that the indentation would be most of it.
func Indent(to *bytes.Buffer, body []byte) bool {
	depth, deepest := 0, 0
	for _, c := range body { // also those in texts: it is a bound, not a count
		switch c {
		case '{', '[':
			depth++
			deepest = max(deepest, depth)
		case '}', ']':
			depth--
		}
	}
	return deepest <= 200 && json.Indent(to, bytes.TrimSpace(body), "", "  ") == nil
}

// textLimit is how many bytes IsText looks at.
const textLimit = 64 << 10

// IsText reports whether bytes are text that can be shown, by their first 64 KiB.
func IsText(b []byte) bool {
	if len(b) > textLimit {
		b = b[:textLimit]
		for i := len(b) - 1; i > len(b)-utf8.UTFMax; i-- { // the cut may go through a character
			if utf8.RuneStart(b[i]) {
				if !utf8.FullRune(b[i:]) {
					b = b[:i]
				}
				break
			}
		}
	}
	return utf8.Valid(b) && bytes.IndexByte(b, 0) < 0
}
