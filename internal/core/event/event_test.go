package event

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2"
	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
)

var samples = []string{
	`{"specversion":"1.0","id":"a-1","source":"/quay/2","type":"scan.made","data":{"pass":"BF-1","n":[1, 2]}}`,
	`{"specversion":"1.0","id":"ä \"1\" %","source":"urn:x","type":"t","subject":"Möwe",` +
		`"time":"2026-11-20T18:00:00.25Z","vessel":"kittiwake","legs":3,"live":true}`,
	`{"specversion":"1.0","id":"b","source":"s","type":"t","datacontenttype":"text/csv","data":"a,b\n1,2\n"}`,
	`{"specversion":"1.0","id":"c","source":"s","type":"t","datacontenttype":"image/png","data_base64":"iVBORw0K"}`,
	`{"specversion":"1.0","id":"d","source":"s","type":"t","datacontenttype":"application/json","data":"just a ` +
		`string"}`,
}

// The forms written here are read back by the standard's own library.
func TestWrittenFormsAgreeWithTheReference(t *testing.T) {
	for _, text := range samples {
		e, err := Parse([]byte(text))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var want, structured cloudevents.Event
		if err := want.UnmarshalJSON([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if err := structured.UnmarshalJSON(e.AppendJSON(nil)); err != nil {
			t.Fatalf("%s: %v", e.AppendJSON(nil), err)
		}
		req, _ := http.NewRequest("POST", "http://localhost/", strings.NewReader(string(e.Data)))
		for _, h := range e.Headers() {
			req.Header.Set(h.Name, h.Value)
		}
		binary, err := binding.ToEvent(t.Context(), cehttp.NewMessageFromHttpRequest(req))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		// the library leaves the percent-decoding of §3.1.3.2 to its caller
		for _, set := range []struct {
			to  func(string)
			was string
		}{{binary.SetID, binary.ID()}, {binary.SetSubject, binary.Subject()}} {
			plain, err := url.PathUnescape(set.was)
			if err != nil {
				t.Fatal(err)
			}
			set.to(plain)
		}
		for mode, got := range map[string]*cloudevents.Event{"structured": &structured, "binary": binary} {
			if got.ID() != want.ID() || got.Source() != want.Source() || got.Type() != want.Type() ||
				got.Subject() != want.Subject() || !got.Time().Equal(want.Time()) {
				t.Errorf("%s: attributes differ:\n%s\nwant\n%s", mode, got, &want)
			}
			for name := range want.Extensions() {
				a, b := got.Extensions()[name], want.Extensions()[name]
				if mode == "binary" { // a header has no type
					a, b = toText(a), toText(b)
				}
				if a != b {
					t.Errorf("%s: %s is %T %v, want %T %v", mode, name, a, a, b, b)
				}
			}
		}
		if got, want := compact(structured.Data()), compact(want.Data()); got != want {
			t.Errorf("structured data %q, want %q", got, want)
		}
	}
}

func toText(v any) string {
	s, _ := cloudeventsString(v)
	return s
}

func cloudeventsString(v any) (string, error) {
	e := cloudevents.NewEvent()
	e.SetExtension("x", v)
	b, err := e.MarshalJSON()
	return strings.ReplaceAll(string(b), `"`, ""), err
}

func compact(b []byte) string { return strings.ReplaceAll(string(b), " ", "") }

func TestParseSaysWhatIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		`{`:  "not valid JSON",
		`[]`: "not a JSON object",
		`{"specversion":"1.0","source":"s","type":"t"}`:                                      `"id" is missing`,
		`{"specversion":"0.3","id":"1","source":"s","type":"t"}`:                             `specversion is "0.3"`,
		`{"specversion":"1.0","id":7,"source":"s","type":"t"}`:                               "id: 7 is not a string",
		`{"specversion":"1.0","id":"1","source":"s","type":"t","time":"yesterday"}`:          "RFC 3339",
		`{"specversion":"1.0","id":"1","source":"s","type":"t","Vessel":"x"}`:                `"Vessel"`,
		`{"specversion":"1.0","id":"1","source":"s","type":"t","x":{}}`:                      "plain values",
		`{"specversion":"1.0","id":"1","source":"s","type":"t","data":1,"data_base64":"AA"}`: "both",
	} {
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: error %v, want one with %q", text, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range samples {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		e, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(e.AppendJSON(nil))
		if err != nil {
			t.Fatalf("what was written is not read: %v\n%s", err, e.AppendJSON(nil))
		}
		if again.ID != e.ID || string(again.Data) != string(e.Data) ||
			again.Time.Format(time.RFC3339Nano) != e.Time.Format(time.RFC3339Nano) {
			t.Fatalf("read back as\n%+v\nwas\n%+v", again, e)
		}
	})
}
