package payload

import (
	"maps"
	"strings"

	"nightdrill.dev/internal/core/jsondiff"
)

// Alike returns values that cannot be told from one where they are written without types, as in
// the query of a request or in a form: 5 from "5", a list of one from that one, nothing from "".
// They differ from it in one place. A value within a list or an object that is one itself is
// written as JSON, which has types.
func Alike(v any) (out []any) {
	switch v := v.(type) {
	case []any:
		for i, x := range v {
			for _, other := range scalarsAlike(x) {
				c := append([]any{}, v...)
				c[i] = other
				out = append(out, c)
			}
		}
		if len(v) == 1 {
			out = append(append(out, v[0]), scalarsAlike(v[0])...)
		}
		out = append(out, PlainText(v), strings.Join(plainList(v), ",")) // by one who wants a text
	case map[string]any:
		for name, x := range v {
			for _, other := range Alike(x) {
				c := maps.Clone(v)
				c[name] = other
				out = append(out, c)
			}
		}
		out = append(out, PlainText(v))
	default:
		out = scalarsAlike(v)
		for _, x := range append([]any{v}, out...) {
			out = append(out, []any{x})
		}
	}
	return out
}

// scalarsAlike returns what else the text of a value can be read as.
func scalarsAlike(v any) (out []any) {
	text := PlainText(v)
	if _, is := v.(string); !is {
		out = append(out, text)
	}
	switch x, err := jsondiff.Decode([]byte(text)); {
	case text == "":
		if v != nil {
			out = append(out, nil)
		}
	case err == nil: // a number, true, false, null, or JSON
		if _, is := v.(string); is {
			out = append(out, x)
		}
	}
	return out
}

// Taken reports whether a body, written in a form, can be read as a value that fits.
func Taken(form string, v any, fits func(any) bool) bool {
	if v = arriving(form, v); fits(v) {
		return true
	}
	switch form {
	case "", "json", "binary":
		return false
	case "csv":
		rows, _ := v.([]any)
		for i := range rows {
			for _, other := range Alike(rows[i]) {
				c := append([]any{}, rows...)
				if c[i] = other; fits(c) {
					return true
				}
			}
		}
		return false
	}
	for _, other := range Alike(v) {
		if fits(other) {
			return true
		}
	}
	return false
}

// arriving returns what of a value is in a body of a form.
func arriving(form string, v any) any {
	if form == "binary" {
		if _, isText := v.(string); !isText {
			return "x" // bytes, of whatever came instead
		}
	}
	fields, is := v.(map[string]any)
	if !is || form != "form" && form != "multipart" {
		return v
	}
	fields = maps.Clone(fields)
	maps.DeleteFunc(fields, func(_ string, v any) bool { // an empty list writes no field
		list, is := v.([]any)
		return is && len(list) == 0
	})
	return fields
}
