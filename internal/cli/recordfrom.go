package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/live/broker"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/ingest"
)

// fromBroker are the flags of a recording from a broker.
type fromBroker struct {
	broker   string
	at       plan.BrokerPlace
	password string // name of an environment variable
	ca       string
	length   time.Duration
	count    int
}

func (b *fromBroker) flags(f *pflag.FlagSet) {
	f.StringVar(&b.broker, "from", "", "a broker of the project file, or its URL")
	f.StringVar(&b.at.Topic, "topic", "", "with --from: the topic, for MQTT a filter such as quay/+/scans")
	f.StringVar(&b.at.Exchange, "exchange", "", "with --from amqp: the exchange, and")
	f.StringVar(&b.at.Key, "key", "", "the binding key, such as order.*")
	f.StringVar(&b.at.Queue, "queue", "", "")
	_ = f.MarkHidden("queue") // for the sentence that says what to do instead
	f.StringVar(&b.at.Stream, "stream", "", "with --from redis or nats: the stream")
	f.StringVar(&b.at.Subject, "subject", "", "with --from nats: the subject, such as orders.>")
	f.StringVar(&b.password, "password-env", "", "with --from URL: the environment variable that has the password")
	f.StringVar(&b.ca, "ca", "", "with --from URL: a file with the authority that is trusted, in PEM")
	f.DurationVar(&b.length, "for", 0, "with --from: how long, such as 10m")
	f.IntVar(&b.count, "count", 0, "with --from: end after so many messages")
}

// server returns the broker of a URL, or of the project in a folder, which is not read for a URL.
func (b *fromBroker) server(cmd *cobra.Command, dir string) (*broker.Server, error) {
	p := &plan.Project{}
	if isURL := strings.Contains(b.broker, "://"); !isURL {
		if b.password != "" || b.ca != "" {
			return nil, errors.New("--password-env and --ca are for a URL; a broker of the project file has its own")
		}
		l, err := project.Load(cmd.Context(), dir)
		if err != nil {
			return nil, err
		}
		p = l.Project
	}
	x, err := project.Broker(p, b.broker)
	if err != nil {
		return nil, fmt.Errorf("--from: %w", err)
	}
	if b.password != "" || b.ca != "" {
		x.PasswordEnv, x.CA = b.password, b.ca
	}
	return broker.New(x)
}

// recordFrom copies messages from a broker.
func recordFrom(cmd *cobra.Command, dir, name string, b *fromBroker, pointers []string, suspects bool) error {
	switch {
	case b.length < 0:
		return wrong(errors.New("--for must be positive, such as 10m"))
	case b.count < 0:
		return wrong(errors.New("--count must be positive"))
	}
	s, err := b.server(cmd, dir)
	if err != nil {
		return wrong(err)
	}
	if why := b.at.CheckCopy(s.Kind, "--"); why != "" {
		return wrong(errors.New(why))
	}
	out := cmd.OutOrStdout()
	var came atomic.Int64
	begun := false
	c := ingest.Copy{Server: s, At: b.at, Name: name, Redact: pointers, Suspects: suspects, For: b.length,
		Count: b.count,
		Ready: func() {
			begun = true
			fmt.Fprintf(out, "copying from %s, %s; Ctrl+C ends it\n", text.Harmless(s.Name),
				text.Harmless(broker.PlaceText(&b.at)))
		},
		Came: func(*broker.Message) { came.Add(1) },
		Note: func(note string) { fmt.Fprintln(cmd.ErrOrStderr(), "nightdrill: "+text.Harmless(note)) }}
	ended := make(chan struct{})
	defer close(ended)
	go sayCount(cmd.ErrOrStderr(), &came, ended)
	x, err := c.Run(cmd.Context(), dir)
	if x == nil || err != nil && !begun {
		return could(err)
	}
	if x.Repaired > 0 {
		fmt.Fprintf(out, "the recording had been interrupted: %d bytes of its last event were dropped\n", x.Repaired)
	}
	fmt.Fprintf(out, "%s recorded as %s (%s)\n", text.Plural(x.Count, "message"), name, x.File)
	switch {
	case x.Gaps > 0:
		fmt.Fprintf(out, "some are missing at %s, marked in the recording (attribute missing)\n",
			text.Plural(x.Gaps, "place"))
	case x.Missing > 0:
		fmt.Fprintf(out, "%s missing, marked in the recording (attribute missing)\n", text.Plural(x.Missing, "message"))
	}
	reportSecrets(out, x.Tally)
	for _, n := range x.Notes {
		fmt.Fprintln(out, "note: "+text.Harmless(n))
	}
	if x.Added {
		fmt.Fprintf(out, "added to payloads in %s\n", project.File)
	}
	if err != nil {
		return could(err)
	}
	return nil
}

// sayCount shows on a terminal now and then how many messages came.
func sayCount(to io.Writer, came *atomic.Int64, ended <-chan struct{}) {
	f, ok := to.(*os.File)
	if !ok || !term.IsTerminal(f.Fd()) {
		return
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	last := int64(0)
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
			if n := came.Load(); n != last {
				last = n
				fmt.Fprintf(to, "\r%s copied\x1b[K\r", text.Plural(int(n), "message"))
			}
		}
	}
}
