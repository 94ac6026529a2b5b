package event

import (
	"encoding/json"
	"net/url"
	"strings"
	"time"
)

// What can happen to an object, and the types of the events that report it.
const (
	Created     = "created"
	Overwritten = "overwritten"
	Removed     = "removed"

	// ObjectType is the prefix of the types of events that report changes of objects; the action
	// follows.
	ObjectType = "storage.object."
)

// Actions lists what can happen to an object.
var Actions = []string{Created, Overwritten, Removed}

// Object is the content of an event of a storage source: which object, and what happened to it.
type Object struct {
	Bucket      string `json:"bucket"`
	Key         string `json:"key"`
	Action      string `json:"action"`
	Size        int64  `json:"size"` // bytes; 0 if it was removed
	ContentType string `json:"content_type,omitempty"`
	ETag        string `json:"etag,omitempty"`
	URL         string `json:"url,omitempty"` // serves the object; "" if it was removed
}

// Event returns the event that reports the change of an object.
func (o *Object) Event(id string, at time.Time) *Event {
	data, _ := json.Marshal(o) // plain data always marshals
	return &Event{ID: id, Source: "/" + url.PathEscape(o.Bucket), Type: ObjectType + o.Action, Subject: o.Key, Time: at,
		DataContentType: "application/json", Data: data}
}

// ObjectOf decodes the event of a storage source; ok is false for any other event.
func ObjectOf(e *Event) (o Object, ok bool) {
	if json.Unmarshal(e.Data, &o) != nil {
		return Object{}, false
	}
	if o.Action == "" {
		o.Action, _ = strings.CutPrefix(e.Type, ObjectType)
	}
	return o, o.Bucket != "" && o.Key != ""
}

// Attribute returns a context attribute as the JSON format writes it; ok is false when the event
// does not have it.
func (e *Event) Attribute(name string) (value string, ok bool) {
	switch name {
	case "id":
		value = e.ID
	case "source":
		value = e.Source
	case "type":
		value = e.Type
	case "subject":
		value = e.Subject
	case "datacontenttype":
		value = e.DataContentType
	case "dataschema":
		value = e.DataSchema
	case "time":
		if !e.Time.IsZero() {
			value = e.Time.Format(time.RFC3339Nano)
		}
	default:
		for _, x := range e.Extensions {
			if x.Name == name {
				return x.Value, true
			}
		}
	}
	return value, value != ""
}
