package payload

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// What was expected and held, and what was there instead where it did not.
func TestExpect(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(
		`{"type":"object","required":["cents"],"properties":{"cents":{"type":"integer","minimum":1}}}`))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("fare.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("fare.json")
	if err != nil {
		t.Fatal(err)
	}
	value := func(at, want string) Value {
		var v any
		d := json.NewDecoder(strings.NewReader(want))
		d.UseNumber()
		_ = d.Decode(&v)
		return Value{at, v}
	}
	fare := &Expect{Status: []int{200, 203}, Schema: schema, SchemaName: "fare.json",
		Values: []Value{value("/cents", "450"), value("/sailings", `["07:00"]`)}}
	for _, x := range []struct {
		e      *Expect
		status int
		body   string
		want   string
	}{
		{nil, 500, "", ""},
		{&Expect{}, 500, "", ""},
		{&Expect{Status: []int{200}}, 200, "no json", "held status 200"},
		{&Expect{Status: []int{200}}, 503, "", "broke status 200: 503"},
		{fare, 203, `{"cents":450.0,"sailings":["07:00"]}`,
			`held status 200 203; held a reply that satisfies fare.json; held /cents is 450; held /sailings is ` +
				`["07:00"]`},
		{fare, 200, `{"cents":0,"sailings":[]}`,
			`held status 200 203; broke a reply that satisfies fare.json: at '/cents': minimum: got 0, want 1; ` +
				`broke /cents is 450: 0; broke /sailings is ["07:00"]: []`},
		{fare, 200, `{}`, `held status 200 203; broke a reply that satisfies fare.json: at '': missing property ` +
			`'cents'; broke /cents is 450: nothing there; broke /sailings is ["07:00"]: nothing there`},
		{&Expect{Recorded: true, LeaveOut: []string{"/at"}}, 200, `{"at":"08:00","cents":450.0}`,
			"held status 200, as recorded; held the body that was recorded"},
		{&Expect{Recorded: true}, 503, `{"cents":9}`,
			`broke status 200, as recorded: 503; broke "07:00" at /at, as recorded: nothing at /at, and 1 more ` +
				`differences`},
		{&Expect{Recorded: true, LeaveOut: []string{"/at", "/cents"}}, 200, `{"who":"x"}`,
			"held status 200, as recorded; broke nothing at /who, as recorded: \"x\" at /who"},
		{fare, 200, `<p>`, `held status 200 203; broke a reply that is JSON: not valid JSON: invalid character '<' ` +
			`looking for beginning of value`},
	} {
		var got []string
		for _, v := range x.e.Check(&Payload{Reply: &Reply{Status: 200, Body: []byte(`{"cents":450,"at":"07:00"}`)}},
			x.status, []byte(x.body)) {
			if v.Held {
				got = append(got, "held "+v.Text)
			} else {
				got = append(got, fmt.Sprintf("broke %s: %s", v.Text, v.Got))
			}
		}
		if s := strings.Join(got, "; "); s != x.want {
			t.Errorf("%d %s:\n%s\nwant\n%s", x.status, x.body, s, x.want)
		}
	}
}

// One request or event by itself is a recording of one.
func TestOneByItselfIsRead(t *testing.T) {
	for text, want := range map[string]string{
		"GET /quote/x HTTP/1.1\nAccept: a/b\n\n":                                                  "GET /quote/x",
		"{\n  \"specversion\": \"1.0\", \"id\": \"7\",\n \"source\": \"s\", \"type\": \"t\"\n}\n": "t 7",
		"GET /x HTTP/1.1\nno header\n":                                                            "! line 2",
		"{\n  \"id\": \"7\"\n}":                                                                   "! missing or empty",
	} {
		list, mistakes := Read([]byte(text))
		if bad, ok := strings.CutPrefix(want, "! "); ok {
			if len(list) > 0 || len(mistakes) != 1 || !strings.Contains(mistakes[0].Text, bad) {
				t.Errorf("%q: %v, %v", text, list, mistakes)
			}
		} else if len(list) != 1 || len(mistakes) > 0 || list[0].Label() != want {
			t.Errorf("%q: %v, %v", text, list, mistakes)
		}
	}
}
