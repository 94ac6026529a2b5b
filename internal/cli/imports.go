package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/ingest"
)

func importPayloads(dir *string) *cobra.Command {
	var i ingest.Import
	c := &cobra.Command{
		Use:   "import FILE --as NAME",
		Short: "Import a recording as a payload set of the project",
		Long: `Import reads a recording and keeps it as a payload set of the project. The kind is
recognised from the content: a HAR 1.2 archive, CloudEvents (one a line, a JSON
batch, or HTTP-binding requests in a HAR), bare JSON (one value a line, or an
array), an access log in the Common or Combined Log Format, or a folder, whose
files become storage events.

Secrets are redacted on the way in: authorization, cookies, key and token headers
and parameters, and what --redact names. Equal secrets get equal stand-ins.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return errors.New("import needs one file or folder, such as nightdrill payloads import access.log " +
					"--as evening")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if i.Name == "" {
				return errors.New("missing --as NAME, the name of the payload set")
			}
			if i.Form.Kind != "" && !slices.Contains(payload.Kinds, i.Form.Kind) {
				return wrong(fmt.Errorf("unknown --kind %q; available: %s", i.Form.Kind,
					strings.Join(payload.Kinds, ", ")))
			}
			i.From = args[0]
			out, err := i.Import(cmd.Context(), *dir)
			var mistakes project.Mistakes
			switch {
			case errors.Is(err, context.Canceled):
				return coded{interrupted, errors.New("interrupted; nothing was kept")}
			case errors.As(err, &mistakes):
				return coded{wrongUse, fmt.Errorf("nothing was imported; --skip-broken skips what cannot be read\n%w",
					mistakes)}
			case err != nil:
				return wrong(err)
			}
			reportImport(cmd.OutOrStdout(), i.Name, out)
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&i.Name, "as", "", "the name of the payload set")
	f.StringVar(&i.Form.Kind, "kind", "", "read it as this kind: "+strings.Join(payload.Kinds, ", "))
	f.StringVar(&i.Form.Time, "time", "", "bare JSON: a JSON Pointer to each payload's time, such as /sent_at")
	f.StringVar(&i.Form.ID, "id", "", "bare JSON: a JSON Pointer to its id")
	f.StringVar(&i.Form.Key, "key", "", "bare JSON: a JSON Pointer to its partition key")
	f.StringVar(&i.Form.Type, "type", "", "bare JSON: the type of the events (default NAME.recorded)")
	f.StringArrayVar(&i.Redact, "redact", nil, "a JSON Pointer into data and bodies whose values are redacted, * for "+
		"any member; may be repeated")
	f.BoolVar(&i.Suspects, "redact-suspects", false, "also redact what only looks like a secret: keys, tokens, "+
		"e-mail addresses, card numbers")
	f.BoolVar(&i.Skip, "skip-broken", false, "skip records that cannot be read")
	f.BoolVar(&i.Replace, "replace", false, "replace an existing recording of that name")
	return c
}

func reportImport(w io.Writer, name string, out *ingest.Imported) {
	fmt.Fprintf(w, "%s: %s from a recording of kind %s, %d bytes in %s\n", name, text.Plural(out.Count, "payload"),
		out.Kind, out.Bytes, out.File)
	reportSecrets(w, out.Tally)
	for _, m := range out.Broken {
		fmt.Fprintln(w, "skipped: "+text.Harmless(m.Error()))
	}
	for _, n := range out.Notes {
		fmt.Fprintln(w, "note: "+text.Harmless(n))
	}
	if out.Added {
		fmt.Fprintf(w, "added to payloads in %s; show it with nightdrill payloads show %s\n", project.File, name)
	}
}

// reportSecrets prints what was redacted, and what was left although it looks like a secret.
func reportSecrets(w io.Writer, found payload.Tally) {
	for _, place := range slices.Sorted(maps.Keys(found.Redacted)) {
		fmt.Fprintf(w, "redacted: %s, %s\n", text.Harmless(place), text.Plural(found.Redacted[place], "time"))
	}
	for _, place := range slices.Sorted(maps.Keys(found.Suspects)) {
		fmt.Fprintf(w, "looks like a secret and was kept: %s, %s\n", text.Harmless(place),
			text.Plural(found.Suspects[place], "time"))
	}
	if len(found.Suspects) > 0 {
		fmt.Fprintln(w, "(--redact-suspects redacts these, --redact POINTER one place)")
	}
}

func recordCommand(dir *string) *cobra.Command {
	var to, listen, name string
	var pointers []string
	var suspects bool
	var from fromBroker
	c := &cobra.Command{
		Use:   "record --to URL | --from BROKER --as NAME",
		Short: "Record what passes in front of a running service, or through a message broker",
		Long: `Record listens, passes every request on to a service and its reply back, and keeps
both as a payload set (HAR 1.2) with secrets redacted. Bodies are streamed. The
recording is a valid file at any time. Ctrl+C ends it.

With --from, it copies the messages that pass a broker, without taking them from who
consumes them: a broker of the project file, or a URL (mqtt, mqtts, amqp, amqps, redis,
rediss, nats, nats+tls, kafka, kafka+tls). Each becomes an event with the time of its
arrival, its key and its headers.

  nightdrill record --from mqtt://127.0.0.1 --topic 'quay/+/scans' --as scans --for 10m
  nightdrill record --from harbour --exchange orders --key 'order.*' --as orders
`,
		Args: noArguments,
		RunE: func(cmd *cobra.Command, _ []string) error {
			switch {
			case to != "" && from.broker != "":
				return wrong(errors.New("--to records requests to a service, --from messages of a broker; give one " +
					"of them"))
			case to == "" && from.broker == "":
				return errors.New("missing --to URL, the service to stand in front of, such as --to " +
					"http://127.0.0.1:8080, or --from, the broker to copy from")
			case name == "":
				return errors.New("missing --as NAME, the name of the payload set")
			}
			if from.broker != "" {
				return recordFrom(cmd, *dir, name, &from, pointers, suspects)
			}
			return recordTo(cmd, *dir, name, to, listen, pointers, suspects)
		},
	}
	f := c.Flags()
	f.StringVar(&to, "to", "", "the service's URL")
	f.StringVar(&listen, "listen", "127.0.0.1:8430", "where to listen")
	f.StringVar(&name, "as", "", "the name of the payload set; an existing recording is appended to")
	f.StringArrayVar(&pointers, "redact", nil, "a JSON Pointer into bodies whose values are redacted, * for any "+
		"member; may be repeated")
	f.BoolVar(&suspects, "redact-suspects", false, "also redact what only looks like a secret")
	from.flags(f)
	return c
}

func recordTo(cmd *cobra.Command, dir, name, to, listen string, pointers []string, suspects bool) error {
	out := cmd.OutOrStdout()
	r, err := ingest.Recording(dir, name, pointers, suspects)
	if err != nil {
		return wrong(err)
	}
	defer r.Close()
	r.Passed = func(line string) { fmt.Fprintln(out, text.Harmless(line)) }
	if err := r.Start(listen, to); err != nil {
		return could(err)
	}
	file := filepath.Join(dir, catalog.SavedDir, name+".har")
	fmt.Fprintf(out, "listening at http://%s, passing on to %s, recording to %s; Ctrl+C ends it\n", r.Address, to, file)
	if r.Archive.Repaired > 0 {
		fmt.Fprintf(out, "the recording had been interrupted: %d bytes of its last exchange were dropped, %d "+
			"are kept\n", r.Archive.Repaired, r.Archive.Entries)
	}
	<-cmd.Context().Done()
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	r.Stop(ctx)
	found, failed := r.Report()
	fmt.Fprintf(out, "%s recorded as %s\n", text.Plural(r.Archive.Entries, "exchange"), name)
	if n := r.Skipped.Load(); n > 0 {
		fmt.Fprintf(out, "%s passed on without being recorded: they switched to another protocol\n",
			text.Plural(int(n), "connection"))
	}
	reportSecrets(out, found)
	if failed != nil {
		return could(fmt.Errorf("the recording is incomplete: %w", failed))
	}
	if r.Archive.Entries == 0 {
		return nil
	}
	added, err := project.AddRecording(dir, name, catalog.SavedDir+"/"+name+".har")
	if err != nil {
		fmt.Fprintln(out, "note: "+text.Harmless(err.Error()))
	} else if added {
		fmt.Fprintf(out, "added to payloads in %s\n", project.File)
	}
	return nil
}
