package jsondiff

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
)

// JSON that is laid out in lines is the same JSON, its members in their order, and
// the place of each line is that of the value that begins or ends there.
func TestLines(t *testing.T) {
	text := `{"b":1.50,"a":[],"c/d":[{"x":null},"<é>",[true]],"e":{}}`
	lines, ok := Lines([]byte(text))
	if !ok {
		t.Fatal("it is JSON")
	}
	var got []string
	for _, l := range lines {
		got = append(got, l.At+" "+strings.TrimSpace(l.Text))
	}
	want := ` {|/b "b": 1.50,|/a "a": [],|/c~1d "c/d": [|/c~1d/0 {|/c~1d/0/x "x": null|/c~1d/0 },|/c~1d/1 "<é>",` +
		`|/c~1d/2 [|/c~1d/2/0 true|/c~1d/2 ]|/c~1d ],|/e "e": {}| }`
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("lines\n%s\nwant\n%s", s, want)
	}
	for _, no := range []string{"", "{", `{"a":1}x`, strings.Repeat("[", 300) + strings.Repeat("]", 300)} {
		if _, ok := Lines([]byte(no)); ok {
			t.Errorf("%.20q is laid out", no)
		}
	}
}

func FuzzLines(f *testing.F) {
	f.Add([]byte(`{"a":[1,{"b":"c"}],"d":{}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		lines, ok := Lines(text)
		if !ok {
			return
		}
		var whole bytes.Buffer
		for _, l := range lines {
			whole.WriteString(l.Text + "\n")
		}
		if !json.Valid(whole.Bytes()) {
			t.Fatalf("%q is laid out as %s", text, whole.Bytes())
		}
		v, err := Decode(text)
		if err != nil {
			return
		}
		w, err := Decode(whole.Bytes())
		if err != nil || !Equal(v, w) {
			t.Fatalf("%q is laid out as %s", text, whole.Bytes())
		}
		for _, l := range lines {
			if _, ok := Lookup(v, l.At); !ok && !strings.Contains(string(text), `"`) {
				t.Fatalf("%q: nothing is at %s", text, l.At)
			}
		}
	})
}
