package payload

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/rng"
)

// Bodies are the forms that data made from a schema can be given.
var Bodies = []string{"json", "csv", "form", "multipart", "text", "binary"}

// EncodeBody returns a JSON value as a body of a form, and its media type. csv wants
// an array of rows, each an object of columns; form and multipart an object of
// fields; text and binary a text, of whose length the bytes of binary are, drawn
// by seed and number.
func EncodeBody(form string, data []byte, seed, n uint64) (body []byte, kind string, err error) {
	if form == "" || form == "json" {
		return data, "application/json", nil
	}
	v, err := jsondiff.Decode(data)
	if err != nil {
		return nil, "", err
	}
	switch form {
	case "csv":
		return csvBody(v)
	case "form":
		m, ok := v.(map[string]any)
		if !ok {
			return nil, "", errors.New("a form needs an object of fields")
		}
		values := url.Values{}
		for name, x := range m {
			for _, text := range plainList(x) {
				values.Add(name, text)
			}
		}
		return []byte(values.Encode()), "application/x-www-form-urlencoded", nil
	case "multipart":
		return multipartBody(v, seed, n)
	case "text":
		return []byte(PlainText(v)), "text/plain; charset=utf-8", nil
	case "binary":
		s, ok := v.(string)
		if !ok {
			return nil, "", errors.New("a binary body needs a string, of which it has the length")
		}
		r := rng.New(seed, n)
		body = make([]byte, utf8.RuneCountInString(s))
		for i := 0; i < len(body); i += 8 {
			bits := r.Uint64()
			for k := i; k < min(i+8, len(body)); k++ {
				body[k] = byte(bits)
				bits >>= 8
			}
		}
		return body, "application/octet-stream", nil
	}
	return nil, "", fmt.Errorf("unknown form of a body %q; available: %s", form, strings.Join(Bodies, ", "))
}

// PlainText writes a value as people would: a text without quotes.
func PlainText(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	text, _ := json.Marshal(v) // it was decoded from JSON
	return string(text)
}

func plainList(v any) (out []string) {
	if list, ok := v.([]any); ok {
		for _, x := range list {
			out = append(out, PlainText(x))
		}
		return out
	}
	return []string{PlainText(v)}
}

// csvBody writes rows (RFC 4180), the columns in the order of their names.
func csvBody(v any) ([]byte, string, error) {
	rows, ok := v.([]any)
	if _, one := v.(map[string]any); one {
		rows, ok = []any{v}, true
	}
	if !ok {
		return nil, "", errors.New("CSV needs an array of rows, each an object of columns")
	}
	columns := map[string]bool{}
	for _, r := range rows {
		m, ok := r.(map[string]any)
		if !ok {
			return nil, "", errors.New("a row of CSV must be an object of columns")
		}
		for name := range m {
			columns[name] = true
		}
	}
	names := slices.Sorted(maps.Keys(columns))
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	write := func(record []string) {
		if len(record) > 0 {
			_ = w.Write(record) // into memory
		}
	}
	write(names)
	for _, r := range rows {
		record := make([]string, len(names))
		for i, name := range names {
			record[i] = PlainText(r.(map[string]any)[name])
		}
		write(record)
	}
	w.Flush()
	return b.Bytes(), "text/csv; charset=utf-8", nil
}

// multipartBody writes fields as parts (RFC 7578). A field that is an object with
// filename and content is a file; its content may be base64 with encoding base64.
func multipartBody(v any, seed, n uint64) ([]byte, string, error) {
	m, ok := v.(map[string]any)
	if !ok {
		return nil, "", errors.New("multipart needs an object of parts")
	}
	boundary := fmt.Sprintf("part-%016x", rng.New(seed, n).Uint64())
	var b bytes.Buffer
	quote := strings.NewReplacer(`"`, "%22", "\r", "%0D", "\n", "%0A")
	for _, name := range slices.Sorted(maps.Keys(m)) {
		for _, x := range asList(m[name]) {
			fmt.Fprintf(&b, "--%s\r\nContent-Disposition: form-data; name=\"%s\"", boundary, quote.Replace(name))
			content := ""
			switch file, isObject := x.(map[string]any); {
			case isObject && file["filename"] != nil:
				content = PlainText(file["content"])
				if file["encoding"] == "base64" {
					raw, err := base64.StdEncoding.DecodeString(content)
					if err != nil {
						return nil, "", fmt.Errorf("part %s: %w", name, err)
					}
					content = string(raw)
				}
				kind := PlainText(file["type"])
				if kind == "" {
					kind = "application/octet-stream"
				}
				fmt.Fprintf(&b, "; filename=\"%s\"\r\nContent-Type: %s", quote.Replace(PlainText(file["filename"])),
					strings.NewReplacer("\r", "", "\n", "").Replace(kind))
			case isObject:
				b.WriteString("\r\nContent-Type: application/json")
				content = PlainText(x)
			default:
				content = PlainText(x)
			}
			fmt.Fprintf(&b, "\r\n\r\n%s\r\n", content)
		}
	}
	fmt.Fprintf(&b, "--%s--\r\n", boundary)
	return b.Bytes(), "multipart/form-data; boundary=" + boundary, nil
}

func asList(v any) []any {
	if list, ok := v.([]any); ok {
		return list
	}
	return []any{v}
}
