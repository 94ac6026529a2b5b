package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/live/publish"
	"nightdrill.dev/internal/project"
)

func publishCommand() *cobra.Command {
	var to, kind, token, letters string
	c := &cobra.Command{
		Use:   "publish SOURCE FILE|- | publish --dead-letters QUEUE",
		Short: "Publish events to a queue or a stream of the program that is open",
		Long: `Publish sends the events of a file to the address at which the program that is open (or a
drill) takes them, as any other program could: CloudEvents as JSON, one, a list or a line each.
With --type, the file is one event's plain data of that media type. With --dead-letters,
the events of a queue that failed since the program was opened are sent again, each once.
QUEUE is the queue, or the one that has its dead letters.`,
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case letters != "" && len(args) > 0:
				return errors.New("--dead-letters QUEUE takes no file")
			case letters == "" && len(args) != 2:
				return errors.New("expected SOURCE and FILE (- for standard input), or --dead-letters QUEUE")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if letters != "" {
				n, err := send(cmd.Context(), strings.TrimSuffix(to, "/")+"/"+url.PathEscape(letters)+"?"+
					publish.DeadLetters, "", token, nil)
				if err != nil {
					return could(err)
				}
				fmt.Fprintf(cmd.OutOrStdout(), "sent again to %s: %s\n", letters, strings.TrimSpace(n))
				return nil
			}
			content, err := readInput(cmd.InOrStdin(), args[1], payload.LargestPublished)
			if err != nil {
				return wrong(err)
			}
			body, media, n := content, kind, 1
			if kind == "" {
				if body, n, err = batchOf(content); err != nil {
					return wrong(fmt.Errorf("%s: %w", args[1], err))
				}
				media = event.BatchType
			}
			if _, err := send(cmd.Context(), strings.TrimSuffix(to, "/")+"/"+args[0], media, token, body); err != nil {
				return could(err)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "published to %s: %d\n", args[0], n)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "http://"+publish.Usual, "the address for publishing, as the program shows it")
	c.Flags().StringVar(&kind, "type", "", "the media type of plain data, such as text/plain")
	c.Flags().StringVar(&letters, "dead-letters", "", "send the failed events of a queue again")
	c.Flags().StringVar(&token, "token", "", "the source's token")
	return c
}

// readInput reads a file, or standard input where it is called -, of at most so many bytes.
func readInput(in io.Reader, file string, most int64) ([]byte, error) {
	if file != "-" {
		return project.ReadFile(file, most)
	}
	content, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(content)) > most {
		err = fmt.Errorf("standard input has more than %d bytes", most)
	}
	return content, err
}

// batchOf returns the events of a file as a batch.
func batchOf(content []byte) (batch []byte, n int, err error) {
	all, err := payload.Events(content)
	if err != nil {
		return nil, 0, err
	}
	events := make([]*event.Event, len(all))
	for i := range all {
		events[i] = all[i].Event
	}
	return event.AppendBatch(nil, events), len(events), nil
}

// send posts a request, and returns what it is answered.
func send(ctx context.Context, to, media, token string, body []byte) (string, error) {
	ctx, end := context.WithTimeout(ctx, 30*time.Second)
	defer end()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	if media != "" {
		r.Header.Set("Content-Type", media)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", fmt.Errorf(
			"no program takes events at %s: %w; open the project with nightdrill, or name its address with "+
				"--to",
			to,
			err,
		)
	}
	defer reply.Body.Close()
	const most = 4 << 10
	words, _ := io.ReadAll(io.LimitReader(reply.Body, most)) // the status says enough without
	if reply.StatusCode/100 != 2 {
		return "", fmt.Errorf("status %d: %s", reply.StatusCode, strings.TrimPrefix(strings.TrimSpace(string(words)),
			"Night Drill: "))
	}
	return string(words), nil
}
