package event

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
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

// field returns where a context attribute is that is a text and no extension, or nil.
func (e *Event) field(name string) *string {
	switch name {
	case "id":
		return &e.ID
	case "source":
		return &e.Source
	case "type":
		return &e.Type
	case "subject":
		return &e.Subject
	case "datacontenttype":
		return &e.DataContentType
	case "dataschema":
		return &e.DataSchema
	}
	return nil
}

// SetAttribute sets a context attribute, or an extension, from its text, as a binding to a protocol has it. The error
// says what is wrong with a time (RFC 3339).
func (e *Event) SetAttribute(name, value string) (err error) {
	if to := e.field(name); to != nil {
		*to = value
		return nil
	}
	if name == "time" {
		if e.Time, err = time.Parse(time.RFC3339Nano, value); err != nil {
			return fmt.Errorf("time: %q is not an RFC 3339 time", value)
		}
		return nil
	}
	if !AttributeName(name) {
		return fmt.Errorf("attribute %q: names consist of a-z and 0-9 (CloudEvents §3.1)", name)
	}
	at, there := slices.BinarySearchFunc(e.Extensions, name, func(x Field, name string) int {
		return strings.Compare(x.Name, name)
	})
	if !there {
		e.Extensions = slices.Insert(e.Extensions, at, Field{Name: name})
	}
	e.Extensions[at].Value = value
	return nil
}

// Missing returns the first of the required attributes that the event does not have; "" for none. The version of the
// specification is not one of its fields.
func (e *Event) Missing() string {
	for _, name := range []string{"id", "source", "type"} {
		if *e.field(name) == "" {
			return name
		}
	}
	return ""
}

// Attribute returns a context attribute as the JSON format writes it; ok is false when the event
// does not have it.
func (e *Event) Attribute(name string) (value string, ok bool) {
	if from := e.field(name); from != nil {
		return *from, *from != ""
	}
	if name == "time" {
		if e.Time.IsZero() {
			return "", false
		}
		return e.Time.Format(time.RFC3339Nano), true
	}
	for _, x := range e.Extensions {
		if x.Name == name {
			return x.Value, true
		}
	}
	return "", false
}
