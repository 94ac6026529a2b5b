package broker

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/event"
)

func fields(pairs ...string) (out []event.Field) {
	for i := 0; i < len(pairs); i += 2 {
		out = append(out, event.Field{Name: pairs[i], Value: pairs[i+1]})
	}
	return out
}

// What a message becomes: a CloudEvent by the binding of its protocol, or an event that is made for plain data, with
// what it has beside that in attributes.
func TestWhatAMessageBecomes(t *testing.T) {
	at, second := time.Date(2026, 3, 28, 10, 0, 0, 5, time.UTC), time.Second
	const came = `"recordedtime":"2026-03-28T10:00:00.000000005Z",`
	const time = `"time":"2026-03-28T10:00:00.000000005Z",`
	cloud := func(prefix string) []event.Field {
		return fields(prefix+"specversion", "1.0", prefix+"id", "7", prefix+"source", "/gate", prefix+"type", "scan",
			prefix+"datacontenttype", "text/csv")
	}
	for _, x := range []struct {
		name, kind string
		m          Message
		want       string // of the event as JSON
		wrong      string
	}{
		{"plain JSON", "nats", Message{Data: []byte(`{"a": 1}`), ID: "5", Place: "quay.west", Partition: -1},
			`"id":"5","source":"/recorded/s","type":"s.recorded","subject":"quay.west",` + time +
				`"datacontenttype":"application/json",` + came + `"data":{"a": 1}}`, ""},
		{"plain text", "mqtt", Message{Data: []byte("calm sea"), Partition: -1},
			`"datacontenttype":"text/plain",` + came + `"data":"calm sea"}`, ""},
		{"bytes", "kafka", Message{Data: []byte{0xff, 0}, Key: "k", Partition: 2, Redelivered: true, Lost: 3},
			`"datacontenttype":"application/octet-stream","missing":"3","partition":"2","partitionkey":"k",` +
				`` + came + `"redelivered":"true","data_base64":"/wA="}`, ""},
		{"JSON that is not", "amqp", Message{Data: []byte(`{"a":`), ContentType: "application/json", Partition: -1,
			Lost: -1},
			`"datacontenttype":"application/json","missing":"some",` + came + `` +
				`"data_base64":"eyJhIjo="}`, ""},
		{"a CloudEvent of AMQP", "amqp", Message{Headers: append(cloud("cloudEvents:"), fields("shift", "night")...),
			ContentType: "application/json", Data: []byte("1"), Partition: -1, Sent: at.Add(-second)},
			`"id":"7","source":"/gate","type":"scan","datacontenttype":"application/json",` +
				`"brokertime":"2026-03-28T09:59:59` +
				`.000000005Z","headers":"shift: night",` + came + `"data":1}`, ""},
		{"with the other prefix", "amqp", Message{Headers: cloud("cloudEvents_"), Partition: -1, Data: []byte("a,b")},
			`"type":"scan","datacontenttype":"text/csv",`, ""},
		{"of Kafka", "kafka", Message{Headers: cloud("ce_"), Partition: 0, Data: []byte("a,b")},
			`"id":"7","source":"/gate"`, ""},
		{"of NATS", "nats", Message{Headers: cloud("ce-"), Partition: -1, Data: []byte("a,b")},
			`"id":"7","source":"/gate"`, ""},
		{"of MQTT, with what is no attribute", "mqtt", Message{Headers: append(cloud(""), fields("Trace Id", "x")...),
			Partition: -1, Data: []byte("a,b")}, `"headers":"Trace Id: x"`, ""},
		{"Latin-1 in a header", "nats", Message{Headers: append(cloud("ce-"), fields("ce-port", "Sines\xe3o\x1b")...),
			Partition: -1}, `"port":"Sinesão"`, ""},
		{"structured", "nats", Message{ContentType: event.StructuredType, Partition: -1,
			Data: []byte(`{"specversion":"1.0","id":"9","source":"/gate","type":"scan",` +
				`"time":"2026-01-01T00:00:00Z"}`)},
			`"id":"9","source":"/gate","type":"scan","time":"2026-01-01T00:00:00Z","recordedtime"`, ""},
		{"structured and broken", "nats", Message{ContentType: event.StructuredType, Data: []byte(`{"id":"9"}`),
			Place: "q"},
			"", "a message of q says that it is a CloudEvent"},
		{"without a type", "kafka", Message{Headers: cloud("ce_")[:3], ID: "0-4", Place: "scans"}, "",
			"message 0-4 of scans has attributes of a CloudEvent, and not type"},
		{"the prefix of another protocol", "kafka", Message{Headers: cloud("ce-"), Partition: -1, Data: []byte("1")},
			`"type":"s.recorded"`, ""},
	} {
		x.m.At = at
		p, asJSON, err := x.m.Payload(x.kind, "s", nil)
		if x.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), x.wrong) {
				t.Errorf("%s: %v, want %q", x.name, err, x.wrong)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		got := string(p.Event.AppendAs(nil, asJSON))
		if !strings.Contains(got, x.want) || got != string(p.Event.AppendJSON(nil)) || !p.Time.Equal(at) {
			t.Errorf("%s: %s\nwant %s", x.name, got, x.want)
		}
		if back, err := event.Parse([]byte(got)); err != nil ||
			string(back.Data) != strings.ReplaceAll(string(x.m.Data), ": ",
				":") && x.name != "structured" {
			t.Errorf("%s: read back it has %q, %v", x.name, back.Data, err)
		}
	}
}
