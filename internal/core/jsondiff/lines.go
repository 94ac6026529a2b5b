package jsondiff

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"
)

// Line is one line of formatted JSON, with the pointer of the value that begins in it.
type Line struct {
	At   string // a JSON Pointer
	Text string
}

// mostLines bounds what is formatted.
const mostLines = 20_000

// Lines formats JSON, keeping its members in their order. ok is false for what is not JSON, or is
// too long.
func Lines(text []byte) (out []Line, ok bool) {
	if !json.Valid(text) {
		return nil, false
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var value func(at []string, before string) bool
	value = func(at []string, before string) bool {
		if len(out) > mostLines || len(at) > 200 {
			return false
		}
		indent := strings.Repeat("  ", len(at))
		token, err := d.Token()
		if err != nil {
			return false
		}
		open, is := token.(json.Delim)
		if !is {
			out = append(out, Line{Pointer(at), indent + before + write(token)})
			return true
		}
		closing := map[json.Delim]string{'{': "}", '[': "]"}[open]
		if !d.More() {
			_, _ = d.Token() // the closing bracket: the JSON is valid
			out = append(out, Line{Pointer(at), indent + before + open.String() + closing})
			return true
		}
		out = append(out, Line{Pointer(at), indent + before + open.String()})
		for n := 0; d.More(); n++ {
			name, head := strconv.Itoa(n), ""
			if open == '{' {
				key, _ := d.Token() // a name: the JSON is valid
				name, _ = key.(string)
				head = write(name) + ": "
			}
			if !value(append(at[:len(at):len(at)], name), head) {
				return false
			}
			if d.More() {
				out[len(out)-1].Text += ","
			}
		}
		_, _ = d.Token() // the closing brace: the JSON is valid
		out = append(out, Line{Pointer(at), indent + closing})
		return true
	}
	return out, value(nil, "")
}
