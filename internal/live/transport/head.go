package transport

import (
	"bufio"
	"bytes"
	"hash/maphash"
	"io"
	"net/http"
	"slices"
)

// head is the head of a reply as it was read last. A function answers most requests with the same one, and the same
// bytes in answer to the same method mean the same: they are parsed once.
type head struct {
	text   []byte
	method string
	resp   *http.Response
	length int64 // of the body
	key    uint64
}

// heads reads the head of a reply. The body of the response is to be read before the next one.
func (c *Conn) heads(req *http.Request) (*http.Response, error) {
	there, _ := c.in.Peek(c.in.Buffered()) // it is there, so there is no error
	k := &c.known
	if k.resp != nil && k.method == req.Method && bytes.HasPrefix(there, k.text) {
		_, _ = c.in.Discard(len(k.text)) // likewise
		c.rest = rest{c.in, k.length}
		k.resp.Body = &c.rest
		return k.resp, nil
	}
	text := there
	if end := bytes.Index(there, []byte("\r\n\r\n")); end >= 0 {
		text = there[:end+4]
	}
	k.text, k.resp = append(k.text[:0], text...), nil
	left := c.raw.left
	resp, err := http.ReadResponse(c.in, req)
	if err != nil || c.raw.left != left { // not all of it was there
		return resp, err
	}
	length := resp.ContentLength
	if resp.Body == http.NoBody {
		length = 0
	}
	read := len(there) - c.in.Buffered()
	if resp.StatusCode >= 200 && length >= 0 && len(resp.TransferEncoding) == 0 && read <= len(k.text) {
		*k = head{k.text[:read], req.Method, resp, length, headerKey(resp.Header)}
	}
	return resp, nil
}

// rest is a body of a known size that is still to be read.
type rest struct {
	from *bufio.Reader
	left int64
}

// Read implements [io.Reader].
func (r *rest) Read(p []byte) (int, error) {
	if r.left == 0 {
		return 0, io.EOF
	}
	n, err := r.from.Read(p[:min(int64(len(p)), r.left)])
	switch r.left -= int64(n); {
	case r.left == 0:
		return n, io.EOF
	case err == io.EOF:
		return n, io.ErrUnexpectedEOF
	}
	return n, err
}

// Close implements [io.Closer].
func (*rest) Close() error { return nil }

var seed = maphash.MakeSeed()

// headerKey returns a key of what is kept of a header, in any order.
func headerKey(h http.Header) (key uint64) {
	for name, values := range h { // the sum does not depend on the order
		if slices.Contains(ownPlace, name) {
			continue
		}
		for _, v := range values {
			key += maphash.String(seed, name)*3 ^ maphash.String(seed, v)
		}
	}
	return key
}
