package store

import (
	"bytes"
	"compress/flate"
	"encoding/json"
	"io"

	"nightdrill.dev/internal/core/record"
)

// packLines writes lines of a log as JSON, compressed.
func packLines(lines []record.Line) ([]byte, error) {
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, flate.BestSpeed)
	if err != nil {
		return nil, err
	}
	if err := json.NewEncoder(w).Encode(lines); err != nil {
		return nil, err
	}
	err = w.Close()
	return b.Bytes(), err
}

// largestLines bounds the lines of one block once they are unpacked: a damaged one may be anything.
const largestLines = 64 << 20

// Lines returns the log of a run, as far as it was kept and can be read. Runs of earlier versions have
// none.
func (s *Store) Lines(run string) (out []record.Line, err error) {
	blocks := map[string][]block{}
	if _, err := s.blocksOf(run, "lines", blocks); err != nil && !s.isDamage(err) {
		return nil, s.said(err)
	}
	for _, b := range blocks["lines"] {
		var some []record.Line
		data, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(b.data)), largestLines))
		if err == nil && ReadJSON(data, &some) == nil {
			out = append(out, some...)
		}
	}
	return out, nil
}
