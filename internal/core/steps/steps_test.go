package steps

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"text/template"
)

// Templates do what they did, and those that go on without end are ended: by their steps,
// by what they write, or when it is said.
func TestTemplatesEnd(t *testing.T) {
	told := errors.New("told to end")
	asked := 0
	for _, c := range []struct {
		text, want string
		stop       func() error
	}{
		{`{{range $i, $x := .}}{{if $i}},{{end}}{{$x}}{{else}}none{{end}}`, "a,b", nil},
		{`{{define "x"}}<{{.}}>{{end}}{{range .}}{{template "x" .}}{{end}}`, "<a><b>", nil},
		{`{{range .}}{{.}}{{break}}{{end}}{{with .}}{{len .}}{{end}}`, "a2", nil},
		{`{{range 100000}}{{range 100000}}{{end}}{{end}}`, "! it takes more than", nil},
		{`{{define "x"}}{{if .}}{{template "x" .}}{{end}}{{end}}{{template "x" .}}`,
			"! templates call each other more than 1000 deep", nil},
		{doubling(40) + `{{template "d40" .}}`, "! told to end",
			func() error {
				if asked++; asked > 100 {
					return told
				}
				return nil
			}},
		{`{{range 1000000}}` + strings.Repeat("0123456789", 20) + `{{end}}`, "! it writes more than 64 MiB", nil},
		{`{{range 1000}}{{end}}`, "! told to end", func() error { return told }},
	} {
		x, err := Parse(template.New("t"), c.text)
		if err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		for range 3 { // at once, on one template
			all.Go(func() {
				stop := c.stop
				if c.stop != nil {
					var mu sync.Mutex
					stop = func() error { mu.Lock(); defer mu.Unlock(); return c.stop() }
				}
				got, err := x.Execute([]string{"a", "b"}, stop)
				bad, ends := strings.CutPrefix(c.want, "! ")
				if ends && (err == nil || !strings.Contains(err.Error(), bad)) || !ends && (string(got) != c.want ||
					err != nil) {
					t.Errorf("%s: %.50q, %v; want %s", c.text, got, err, c.want)
				}
			})
			if c.stop != nil {
				all.Wait()
			}
		}
		all.Wait()
	}
}

// doubling writes templates each of which calls the one before it twice.
func doubling(n int) string {
	text := `{{define "d0"}}{{end}}`
	for i := range n {
		text += fmt.Sprintf(`{{define "d%d"}}{{template "d%d"}}{{template "d%d"}}{{end}}`, i+1, i, i)
	}
	return text
}

// BenchmarkCounted is a template that counts its steps, against the same one that does not.
func BenchmarkCounted(b *testing.B) {
	const text = `{"id":{{.ID}},"of":[{{range .Of}}{"n":{{.}}},{{end}}0]}`
	data := map[string]any{"ID": 7, "Of": []int{1, 2, 3, 4, 5, 6, 7, 8}}
	counted, err := Parse(template.New("t"), text)
	if err != nil {
		b.Fatal(err)
	}
	plain := template.Must(template.New("t").Parse(text))
	b.Run("counted", func(b *testing.B) {
		for b.Loop() {
			if _, err := counted.Execute(data, nil); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("plain", func(b *testing.B) {
		for b.Loop() {
			var out strings.Builder
			if err := plain.Execute(&out, data); err != nil {
				b.Fatal(err)
			}
		}
	})
}
