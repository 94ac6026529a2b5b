package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/infer"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/template"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session"
)

func payloadsCommand(dir *string) *cobra.Command {
	c := &cobra.Command{
		Use:   "payloads",
		Short: "List, show, generate, import, infer, validate and shape payloads",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := noArguments(cmd, args); err != nil {
				return err
			}
			return errors.New("missing subcommand: list, show, generate, import, infer, validate or shape")
		},
	}
	c.AddCommand(listPayloads(dir), showPayload(dir), generatePayloads(), importPayloads(dir), inferSchema(dir),
		validatePayloads(dir), shapePayloads(dir))
	return c
}

func listPayloads(dir *string) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the project's payload sets: how many, how large, over which time",
		Args:  noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, err := project.Load(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			for i := range l.Sets {
				s := &l.Sets[i]
				bytes, what := 0, "events"
				for n := range s.Payloads {
					bytes += s.Payloads[n].Size()
					if s.Payloads[n].Request != nil {
						what = "HTTP requests"
					}
				}
				content := fmt.Sprintf("%s  %d %s, %d bytes of data, from %s", s.Name, len(s.Payloads), what, bytes,
					s.Origin)
				if times, _, ok := s.Offsets(); ok && len(times) > 1 {
					var last time.Duration
					for _, t := range times {
						last = max(last, t)
					}
					content += fmt.Sprintf(", recorded over %v", text.Measured(last))
				}
				fmt.Fprintln(cmd.OutOrStdout(), text.Harmless(content))
			}
			if len(l.Sets) == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "The project has no payload sets; add one under payloads: in "+
					project.File)
			}
			return nil
		},
	}
}

func showPayload(dir *string) *cobra.Command {
	return &cobra.Command{
		Use:   "show SET[#N]",
		Short: "Describe a set, and print a payload as it is sent",
		Long: `Show prints a payload as it is sent: the request, or the event as JSON. Without #N it
first describes the set: how many, how large, when they came, and what was redacted
where.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := project.Load(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			p, err := l.Payload(args[0])
			if err != nil {
				return wrong(err)
			}
			if set, _, err := l.InSet(args[0]); err == nil && !strings.Contains(args[0], "#") {
				showSet(cmd.OutOrStdout(), set)
			}
			shown := *p
			if shown.Request != nil { // secrets are for the function alone
				shown.Request = payload.Shown(p.Request)
			}
			content := bytes.ReplaceAll(shown.Text(), []byte(`{{"{{"}}`), []byte("{{"))
			if !text.IsText(content) {
				fmt.Fprintf(cmd.OutOrStdout(), "%s\n(%d bytes of binary data)\n", text.Harmless(p.Label()), p.Size())
				return nil
			}
			for line := range strings.Lines(string(content)) {
				fmt.Fprintln(cmd.OutOrStdout(), text.Harmless(strings.TrimRight(line, "\r\n")))
			}
			return nil
		},
	}
}

func generatePayloads() *cobra.Command {
	var schema, to, mode, size, api, operation, body string
	var count int
	var seed uint64
	var asEvents, extras bool
	c := &cobra.Command{
		Use:   "generate --schema FILE | --openapi FILE",
		Short: "Generate payloads from a JSON Schema (2020-12), or HTTP requests from an OpenAPI file",
		Long: `Generate makes payloads from a JSON Schema, one JSON value a line. The same seed makes
the same bytes on every machine. A schema that cannot be satisfied is refused, with the
place in it and the reason.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (schema == "") == (api == "") {
				return errors.New("generate needs --schema FILE or --openapi FILE")
			}
			if count < 0 {
				return wrong(fmt.Errorf("--count must not be negative, got %d", count))
			}
			if !slices.Contains(payload.Bodies, body) {
				return wrong(fmt.Errorf("unknown --body %q; available: %s", body, strings.Join(payload.Bodies, ", ")))
			}
			if body != "json" && !asEvents {
				return errors.New("a body in another form than JSON needs --events")
			}
			if api != "" {
				return generateRequests(cmd, api, operation, mode, to, count, seed)
			}
			if !slices.Contains(payload.Modes, mode) {
				return wrong(fmt.Errorf("unknown --mode %q; available: %s", mode, strings.Join(payload.Modes, ", ")))
			}
			g, _, err := project.Generator(cmd.Context(), schema, folder(schema))
			if _, refused := errors.AsType[*generate.Refused](err); err != nil && !refused {
				return wrong(fmt.Errorf("the schema cannot be read: %w", err))
			} else if err != nil {
				return wrong(fmt.Errorf("%s: %w", schema, err))
			}
			bytes, err := project.Bytes(size)
			if err != nil {
				return wrong(fmt.Errorf("--size: %w", err))
			}
			g.Size(bytes)
			g.Extras(extras)
			name := strings.TrimSuffix(filepath.Base(schema), filepath.Ext(schema))
			as := payload.Made{Set: name, Type: name + ".made", Mode: mode, Body: body}
			return output(cmd, to, func(w *bufio.Writer) error {
				for n := range uint64(count) {
					tellFar(fmt.Sprintf("payload %d of %d was being made", n+1, count))
					made, breaks, err := as.Make(g, seed, n)
					if cmd.Context().Err() != nil {
						return coded{interrupted, errors.New(interruption())}
					}
					if err != nil {
						return wrong(fmt.Errorf("%s: %w", schema, err))
					}
					if breaks != "" && !asEvents {
						fmt.Fprintf(cmd.ErrOrStderr(), "line %d violates %s\n", n+1, breaks)
					}
					if asEvents {
						p, err := as.Payload(seed, n, made, breaks)
						if err != nil {
							return wrong(fmt.Errorf("%s: %w", schema, err))
						}
						made = p.Event.AppendJSON(nil)
					}
					if _, err := w.Write(append(made, '\n')); err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&schema, "schema", "", "the JSON Schema's file")
	f.IntVar(&count, "count", 10, "how many")
	f.Uint64Var(&seed, "seed", 1, "the same seed gives the same payloads")
	f.StringVar(&mode, "mode", "valid", "valid; edges: bounds, the empty and the longest, unusual characters; "+
		"broken: one keyword violated each, named on standard error")
	f.StringVar(&size, "size", "", "approximate size of each, such as 200kB")
	f.BoolVar(&extras, "extras", false, "now and then, add members that the schema does not name but leaves open")
	f.StringVar(&to, "out", "", "write to a file instead of standard output")
	f.StringVar(&api, "openapi", "", "an OpenAPI 3.0 or 3.1 file: whole HTTP requests, written as a HAR archive")
	f.StringVar(&operation, "operation", "", "with --openapi: one operation, by its operationId or as METHOD PATH "+
		"(default: all in turn)")
	f.StringVar(&body, "body", "json", "with --events, the form of the data: "+strings.Join(payload.Bodies, ", "))
	f.BoolVar(&asEvents, "events", false, "wrap each as a CloudEvent, so that the file can be used as a payload set")
	return c
}

// generateRequests writes requests for an API's operations as a HAR archive.
func generateRequests(cmd *cobra.Command, file, operation, mode, to string, count int, seed uint64) error {
	if !slices.Contains(payload.Modes, mode) {
		return wrong(fmt.Errorf("unknown --mode %q; available: %s", mode, strings.Join(payload.Modes, ", ")))
	}
	a, err := project.LoadAPI(cmd.Context(), file, folder(file))
	if err != nil {
		return wrong(fmt.Errorf("%s: %w", file, project.Cause(err)))
	}
	operations, err := a.Find(operation)
	if err != nil {
		return wrong(fmt.Errorf("%s: %w", file, err))
	}
	operations, left := project.Usable(operations)
	for _, err := range left {
		fmt.Fprintln(cmd.ErrOrStderr(), "skipped: "+text.Harmless(err.Error()))
	}
	if len(operations) == 0 {
		return wrong(fmt.Errorf("%s: no requests can be made from it", file))
	}
	return output(cmd, to, func(w *bufio.Writer) error {
		if _, err := w.WriteString(payload.HARBegin); err != nil {
			return err
		}
		var line []byte
		for i := range count {
			tellFar(fmt.Sprintf("request %d of %d was being made", i+1, count))
			p, breaks, err := operations[i%len(operations)].Make(mode, seed, uint64(i/len(operations)))
			if cmd.Context().Err() != nil {
				return coded{interrupted, errors.New(interruption())}
			}
			if err != nil {
				return wrong(fmt.Errorf("%s: %w", file, err))
			}
			if line = line[:0]; i > 0 {
				line = append(line, ",\n"...)
			}
			comment := ""
			if breaks != "" {
				comment = "violates " + breaks
			}
			if _, err := w.Write(p.AppendHAR(line, "http://made.invalid", 0, 0, comment)); err != nil {
				return err
			}
		}
		_, err := w.WriteString(payload.HAREnd)
		return err
	})
}

// folder is the one below which a schema may refer to other files: the current
// one, or the schema's own where it is elsewhere.
func folder(schema string) string {
	if filepath.IsLocal(schema) {
		return "."
	}
	return filepath.Dir(schema)
}

// output writes to a file or to standard output. A file is there whole or not at all.
func output(cmd *cobra.Command, to string, write func(*bufio.Writer) error) error {
	if to == "" {
		w := bufio.NewWriter(cmd.OutOrStdout())
		if err := write(w); err != nil {
			_ = w.Flush() // what there is of it
			return err
		}
		return w.Flush()
	}
	err := project.WriteWith(to, write)
	if path, ok := errors.AsType[*fs.PathError](err); ok {
		return could(fmt.Errorf("%s cannot be written: %w", to, path.Err))
	}
	return err
}

func validatePayloads(dir *string) *cobra.Command {
	var schema string
	c := &cobra.Command{
		Use:   "validate SET|FILE --schema FILE",
		Short: "Check the data of payloads against a JSON Schema",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if schema == "" {
				return errors.New("validate needs --schema FILE")
			}
			s, err := project.Schema(schema, folder(schema))
			if err != nil {
				return wrong(fmt.Errorf("%s: %w", schema, err))
			}
			if content, err := os.ReadFile(args[0]); err == nil {
				return validateLines(cmd.OutOrStdout(), args[0], content, s)
			}
			l, err := project.Load(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			set, _, err := l.InSet(args[0])
			if err != nil || set == nil {
				return wrong(fmt.Errorf("no payload set or file %q", args[0]))
			}
			list := set.Payloads
			bad := 0
			for n := range list {
				if why := invalid(s, list[n].Data()); why != "" {
					bad++
					fmt.Fprintf(cmd.OutOrStdout(), "%s#%d: %s\n", args[0], n+1, text.Harmless(why))
				}
			}
			return verdict(cmd.OutOrStdout(), len(list), bad)
		},
	}
	c.Flags().StringVar(&schema, "schema", "", "the JSON Schema's file")
	return c
}

// validateLines checks a file of JSON values, one a line; of an event, its data.
func validateLines(w io.Writer, name string, content []byte, s *jsonschema.Schema) error {
	n, bad := 0, 0
	for at, line := range bytes.Split(content, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		n++
		if e, err := event.Parse(line); err == nil {
			line = e.Data
		}
		if why := invalid(s, line); why != "" {
			bad++
			fmt.Fprintf(w, "%s:%d: %s\n", name, at+1, text.Harmless(why))
		}
	}
	return verdict(w, n, bad)
}

func verdict(w io.Writer, n, bad int) error {
	fmt.Fprintf(w, "%d of %s valid\n", n-bad, text.Plural(n, "payload"))
	if bad > 0 {
		return errMissed
	}
	return nil
}

// invalid returns why a value does not fit, or "".
func invalid(s *jsonschema.Schema, data []byte) string {
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return "not valid JSON: " + err.Error()
	}
	return generate.Why(s.Validate(v))
}

// showSet prints what is in a set.
func showSet(w io.Writer, s *payload.Set) {
	o := s.Overview(arrivalColumns)
	what := "events"
	if s.Payloads[0].Request != nil {
		what = "HTTP requests"
	}
	fmt.Fprintf(w, "%s  %d %s from %s\n", s.Name, len(s.Payloads), what, text.Harmless(s.Origin))
	fmt.Fprintf(w, "sizes    %d to %d bytes, median %d\n", o.Least, o.Most, o.Median)
	if o.Arrivals != nil {
		fmt.Fprintf(w, "times    %s, over %v, at most %d in %v\n", o.First.Format(time.RFC3339),
			text.Measured(o.Span), slices.Max(o.Arrivals),
			text.Measured(o.Span/arrivalColumns))
		fmt.Fprintf(w, "arrivals |%s|\n", draw.Bars(o.Arrivals))
	}
	for _, r := range o.Redacted {
		fmt.Fprintf(w, "redacted %s, in %d\n", text.Harmless(r.Where), r.N)
	}
	fmt.Fprintln(w, "\npayload 1")
}

// arrivalColumns is how wide the arrivals of a set are drawn.
const arrivalColumns = 64

func inferSchema(dir *string) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use:   "infer SET|FILE",
		Short: "Learn a JSON Schema from the payloads of a set or a recording",
		Long: `Infer reads payloads (the data of events, the bodies of requests) and prints a JSON
Schema that all of them satisfy: types, required members, formats, enums and bounds,
with how often each was seen. nightdrill payloads generate makes more of the same kind
from it.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return errors.New("infer needs one payload set or file")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			var learned infer.Learner
			skipped := 0
			learn := func(p *payload.Payload) {
				if err := learned.Add(p.Data()); err != nil {
					skipped++
				}
			}
			if f, err := os.Open(args[0]); err == nil {
				defer f.Close()
				_, err := payload.Scan(f, payload.Form{}, func(p payload.Payload, _ payload.Mistake) error {
					learn(&p)
					return cmd.Context().Err()
				}, func(m payload.Mistake) error {
					return fmt.Errorf("line %d: %s", m.Line, m.Text)
				})
				if err != nil {
					return wrong(fmt.Errorf("%s: %w", args[0], err))
				}
			} else {
				l, err := project.Load(cmd.Context(), *dir)
				if err != nil {
					return err
				}
				set, _, err := l.InSet(args[0])
				if err != nil || set == nil {
					return wrong(fmt.Errorf("no payload set or file %q", args[0]))
				}
				for i := range set.Payloads {
					learn(&set.Payloads[i])
				}
			}
			if learned.N() == 0 {
				return wrong(fmt.Errorf("nothing in %s is valid JSON, so there is nothing to learn from", args[0]))
			}
			if skipped > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s skipped: not valid JSON\n", text.Plural(skipped, "payload"))
			}
			return output(cmd, to, func(w *bufio.Writer) error {
				_, err := w.Write(learned.Schema())
				return err
			})
		},
	}
	c.Flags().StringVar(&to, "out", "", "write to a file instead of standard output")
	return c
}

func shapePayloads(dir *string) *cobra.Command {
	var like, source, to string
	c := &cobra.Command{
		Use:   "shape --like FILE --source SOURCE",
		Short: "Learn a shape from an example of what a function's platform sends it",
		Long: `Shape reads an example, as JSON, of what a function gets on the platform that it was written
for, and makes a template of it for the events of a source: what corresponds to an
event's id, time, key, data, headers and so on is filled in from each event, ids and
times are made anew, the rest stays as it is. What was found is listed, and the template
is applied to the event that the example is of: both must be the same.`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if like == "" || source == "" {
				return wrong(errors.New("shape needs an example and a source, such as --like sample.json " +
					"--source cargo"))
			}
			l, err := project.Load(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			s := l.SourceNamed(source)
			if s < 0 {
				return wrong(unknownSource(l.Project, source))
			}
			example, err := readInput(cmd.InOrStdin(), like, session.LargestExample)
			if err != nil {
				return wrong(err)
			}
			x, err := session.LearnShape(example, l.Sources[s].Kind)
			if x == nil {
				return wrong(fmt.Errorf("%s: %w", like, err))
			}
			printLearned(cmd.ErrOrStderr(), x)
			if err != nil {
				return coded{failed, fmt.Errorf("%s: %w", like, err)}
			}
			if err := output(cmd, to, func(w *bufio.Writer) error {
				_, err := w.WriteString(x.Template)
				return err
			}); err != nil {
				return err
			}
			if to != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "written to %s; a function uses it with deliver: shaped, a "+
					"handler with "+
					"takes: shaped, and shape: {template: %s}\n", to, to)
			}
			return nil
		},
	}
	c.Flags().StringVar(&like, "like", "", "the example, a file with JSON, or - for standard input")
	c.Flags().StringVar(&source, "source", "", "the source whose events are to have this shape")
	c.Flags().StringVar(&to, "out", "", "write the template to a file instead of standard output")
	return c
}

// printLearned lists what of an example corresponds to what of an event.
func printLearned(w io.Writer, x *template.Learned) {
	const most = 40
	wide := 0
	for _, f := range x.Found[:min(len(x.Found), most)] {
		wide = max(wide, len(f.At))
	}
	for i, f := range x.Found {
		if i == most {
			fmt.Fprintf(w, "and %d more\n", len(x.Found)-most)
			break
		}
		part := f.Part
		if f.Anew {
			part += ", made anew"
		}
		fmt.Fprintf(w, "%-*s  %-22s %s\n", wide, text.Harmless(f.At), part,
			text.Harmless(payload.Line([]byte(f.Value), 60)))
	}
	fmt.Fprintf(w, "from each event: %s; as in the example: %s\n", text.Plural(len(x.Found), "place"),
		text.Plural(x.Constant, "value"))
}
