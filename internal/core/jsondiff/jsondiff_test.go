package jsondiff

import (
	"fmt"
	"strings"
	"testing"
)

func TestBetween(t *testing.T) {
	for _, c := range []struct {
		was, is string
		out     string
		want    string
	}{
		{`{"cents":450}`, `{"cents":450}`, "", ``},
		{`{"cents":450,"at":1}`, `{"at":2,"cents":720}`, "", `/at 1>2 /cents 450>720`},
		{`{"cents":450,"at":1}`, `{"at":2,"cents":720}`, "/at", `/cents 450>720`},
		{`{"sailings":["07:00","08:15"]}`, `{"sailings":["07:00"]}`, "", `/sailings/1 "08:15">`},
		{`{"s":[{"id":1,"x":1},{"id":2,"x":2}]}`, `{"s":[{"id":3,"x":1},{"id":4,"x":3}]}`, "/s/*/id", `/s/1/x 2>3`},
		// what was added at the front does not make all that follows differ
		{`["a","b","c"]`, `["x","a","b","c"]`, "", `/0 >"x"`},
		{`[{"id":1},{"id":2},{"id":3}]`, `[{"id":1},{"id":3}]`, "", `/1 {"id":2}>`},
		{`["a","b","c","d"]`, `["b","B","d","e"]`, "", `/0 "a"> /1 "c">"B" /3 >"e"`},
		{`{"a/b":{"~":1}}`, `{"a/b":{}}`, "", `/a~1b/~0 1>`},
		{`[1]`, `{"0":1}`, "", ` [1]>{"0":1}`},
		{`1.0`, `1`, "", ``},
		{`12345678901234567890`, `12345678901234567891`, "", ` 12345678901234567890>12345678901234567891`},
		{"a\nb\nc", "a\nB\nc", "", `line 2 b>B`},
		{"a\nc", "a\nb\nc", "", `line 2 >b`},
		{"a\nb\nc\nd", "x\na\nb\nc\nD", "", `line 1 >x line 5 d>D`},
		{`{"ok":true}`, `{"ok":`, "", `line 1 {"ok":true}>{"ok":`},
	} {
		var got []string
		for _, d := range Between([]byte(c.was), []byte(c.is), strings.Fields(c.out)) {
			got = append(got, fmt.Sprintf("%s %s>%s", d.At, d.Was, d.Is))
		}
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s to %s: %q, want %q", c.was, c.is, s, c.want)
		}
	}
	long := strings.Repeat("x\n", 5000)
	if d := Between([]byte(long), []byte(strings.ToUpper(long)), nil); len(d) != Most+1 || d[Most].At != "4800 more" {
		t.Errorf("%d differences, the last %+v", len(d), d[len(d)-1])
	}
}

// What Pointer writes, Lookup finds (RFC 6901 §5 for the examples).
func TestLookup(t *testing.T) {
	v, _ := Decode([]byte(`{"foo":["bar","baz"],"":0,"a/b":1,"m~n":8,"x":{"y":null}}`))
	for pointer, want := range map[string]string{"/foo/0": "bar", "/": "0", "/a~1b": "1", "/m~0n": "8", "/x/y": "<nil>",
		"/foo/2": "none", "/foo/01": "none", "/foo/-": "none", "/nope": "none", "/x/y/z": "none", "foo": "none",
		"/m~2n": "none"} {
		got := "none"
		if found, ok := Lookup(v, pointer); ok {
			got = fmt.Sprint(found)
		}
		if got != want {
			t.Errorf("%s: %s, want %s", pointer, got, want)
		}
	}
}

func FuzzBetween(f *testing.F) {
	f.Add([]byte(`{"a":[1,2]}`), []byte(`{"a":[1]}`))
	f.Add([]byte("x\ny"), []byte(""))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		if len(Between(a, a, nil)) != 0 {
			t.Fatalf("%q differs from itself", a)
		}
		for _, d := range Between(a, b, nil) {
			if v, err := Decode(a); err == nil && strings.HasPrefix(d.At, "/") && d.Was != "" {
				if _, ok := Lookup(v, d.At); !ok {
					t.Fatalf("%q: nothing at %q", a, d.At)
				}
			}
		}
	})
}
