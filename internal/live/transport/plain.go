package transport

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"fmt"
	"io"
	"mime"
	"strings"

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
