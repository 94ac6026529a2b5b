package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

// printRoute prints where an event would go: at every source that could receive it, or at one.
func printRoute(in io.Reader, w io.Writer, l *project.Loaded, file, source, key string) error {
	only := -1
	if source != "" {
		if only = l.SourceNamed(source); only < 0 {
			return wrong(fmt.Errorf("unknown source %q", source))
		}
	}
	p, err := eventIn(in, l, file, only, key)
	if err != nil {
		return wrong(err)
	}
	fed := fedBy(l, file)
	_, isObject := objectOf(p)
	taken, tried := false, false
	for i := range l.Sources {
		src := &l.Sources[i]
		if only >= 0 && i != only || only < 0 && (len(src.Wires) == 0 ||
			(p.Request != nil) != (src.Kind == plan.HTTP) || isObject && src.Kind != plan.Storage || fed != nil &&
			!slices.Contains(fed, i)) {
			continue
		}
		tried = true
		taken = explainAt(w, l.Project, i, catalog.AsObject(src, p)) || taken
	}
	if !tried {
		return wrong(errors.New("the project has no source that could receive it"))
	}
	if !taken {
		return errMissed
	}
	return nil
}

// fedBy returns the sources to which drills send a payload set; nil where there are
// none.
func fedBy(l *project.Loaded, name string) (sources []int) {
	name, _, _ = strings.Cut(name, "#")
	for i := range l.Drills {
		for _, f := range l.Drills[i].Feeds {
			if f.Set >= 0 && l.Sets[f.Set].Name == name && !slices.Contains(sources, f.Source) {
				sources = append(sources, f.Source)
			}
		}
	}
	return sources
}

func objectOf(p *payload.Payload) (event.Object, bool) {
	if p.Event == nil {
		return event.Object{}, false
	}
	o, _ := event.ObjectOf(p.Event)
	return o, o.Key != ""
}

// eventIn reads the event that is asked about.
func eventIn(in io.Reader, l *project.Loaded, file string, source int, key string) (*payload.Payload, error) {
	if set, n, err := l.InSet(file); err != nil {
		return nil, err
	} else if set != nil {
		return &set.Payloads[n-1], nil
	}
	var content []byte
	var err error
	if file == "-" {
		content, err = io.ReadAll(in)
	} else {
		content, err = os.ReadFile(file)
	}
	if err != nil {
		return nil, fmt.Errorf("no payload set or file %q", file)
	}
	http := source < 0 || l.Sources[source].Kind == plan.HTTP
	if key == "" {
		if source < 0 || !http {
			if p, err := payload.ParseText(content, false); err == nil {
				return &p, nil
			}
		}
		if http {
			if p, err := payload.ParseText(content, true); err == nil {
				return &p, nil
			}
		}
		if all, mistakes := payload.Read(content); len(all) > 0 && len(mistakes) == 0 &&
			(all[0].Request != nil) == http {
			return &all[0], nil
		}
	}
	for i := range l.Sources {
		if l.Sources[i].Kind == plan.Storage && (source < 0 || source == i) {
			if key == "" {
				key = filepath.Base(file)
			}
			o := event.Object{Key: key, Action: event.Created, Size: int64(len(content))}
			return &payload.Payload{Event: o.Event("upload", time.Time{})}, nil
		}
	}
	return nil, errors.New(file + " is not an event as CloudEvents JSON, a raw HTTP request or a recording")
}

// explainAt prints what the wires of a source make of an event, and reports whether
// one takes it.
func explainAt(w io.Writer, p *plan.Project, source int, pl *payload.Payload) bool {
	src := &p.Sources[source]
	miss := p.NearestMiss(source, pl)
	verdict := "taken"
	if miss != "" {
		verdict = "no wire takes it"
	}
	fmt.Fprintf(w, "%s (%v): %s\n", src.Name, src.Kind, verdict)
	for _, t := range p.Explain(source, pl) {
		wire := &src.Wires[t.Wire]
		state := "no"
		switch {
		case t.Takes:
			state = "yes"
		case t.Late:
			state = "no, an earlier wire takes it"
		}
		fmt.Fprintf(w, "  → %s: %s\n", p.Functions[wire.To].Name, state)
		for _, c := range t.Conditions {
			if c.Held {
				fmt.Fprintf(w, "      met    %s %s\n", c.Condition, text.Harmless(c.Want))
			} else {
				fmt.Fprintf(w, "      fails  %s\n", text.Harmless(c.Words()))
			}
		}
		if len(t.Conditions) == 0 {
			fmt.Fprintln(w, "      no conditions")
		}
	}
	if miss != "" {
		fmt.Fprintf(w, "  %s\n", text.Harmless(strings.ReplaceAll(miss, "\n", " ")))
	}
	return miss == ""
}
