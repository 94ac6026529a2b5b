package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/export"
	"nightdrill.dev/internal/session/kept"
	"nightdrill.dev/internal/store"
)

func exportCommand(dir *string) *cobra.Command {
	var x kept.Exporting
	var against string
	wanted := make([]bool, len(kept.Formats))
	c := &cobra.Command{Use: "export RUN", Short: "Write a run as pictures, tables and archives",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 2 && (strings.Contains(args[0], "://") != strings.Contains(args[1], "://")) {
				return nil
			}
			return cobra.ExactArgs(1)(nil, args)
		},
		Long: `Export writes a run to files in a folder: pictures (lanes, ladder, distribution, warm-up,
timeline) as SVG and PDF, all invocations as CSV, latencies as an HdrHistogram log,
figures as OpenMetrics text, budgets as JUnit XML, requests and replies as HAR 1.2, events
as CloudEvents JSON lines, failed and dead-lettered events as a payload set, the summary
as JSON, the log as text, all of it as traces in the JSON of OTLP, and everything as one
HTML page. Without a format it writes all of them. With --otlp and the URL of a collector,
the traces are sent there: runs export last --otlp http://127.0.0.1:4318.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			for i, on := range wanted {
				if on {
					x.Formats = append(x.Formats, kept.Formats[i])
				}
			}
			for _, name := range x.Charts {
				if known := chartNames(); !slices.Contains(known, name) {
					return wrong(fmt.Errorf("unknown picture %q; available: %s", name, strings.Join(known, ", ")))
				}
			}
			if x.Size.Width < 0 || x.Size.Width > mostPoints || x.Size.Height < 0 || x.Size.Height > mostPoints {
				return wrong(fmt.Errorf("--width and --height are in points and must be at most %d", mostPoints))
			}
			to := ""
			if len(args) == 2 {
				if strings.Contains(args[0], "://") {
					args[0], args[1] = args[1], args[0]
				}
				if to = args[1]; !slices.Equal(x.Formats, []string{"otlp"}) {
					return wrong(errors.New("a URL is the address of a collector, for --otlp alone"))
				}
			}
			return withRuns(cmd.Context(), *dir, func(s *store.Store) error {
				if to != "" {
					return sendRun(cmd, s, args[0], to)
				}
				return exportRun(cmd, s, args[0], against, x)
			})
		}}
	f := c.Flags()
	for i, name := range kept.Formats {
		f.BoolVar(&wanted[i], name, false, formatWords[name])
	}
	f.StringVar(&x.Dir, "out", ".", "the folder to write to")
	f.BoolVar(&x.Over, "force", false, "overwrite existing files")
	f.StringSliceVar(&x.Charts, "chart", nil, "pictures to write, such as lanes,timeline")
	f.StringVar(&against, "against", "", "a run to draw a comparison with")
	f.Float64Var(&x.Size.Width, "width", 0, "width of pictures, in points (default 720)")
	f.Float64Var(&x.Size.Height, "height", 0, "height of pictures, in points (default: as high as needed)")
	return c
}

// mostPoints bounds the size of a picture.
const mostPoints = 14_400

var formatWords = map[string]string{"svg": "pictures as SVG", "pdf": "pictures as PDF", "csv": "all invocations as CSV",
	"hdr":         "latencies as an HdrHistogram log",
	"openmetrics": "figures as OpenMetrics text", "junit": "budgets as JUnit XML",
	"har": "requests and replies as HAR 1.2", "events": "events as CloudEvents JSON lines",
	"failed": "failed and dead-lettered events as a payload set", "html": "everything as one HTML page",
	"json": "the summary as JSON", "log": "what the functions wrote, as text",
	"otlp": "the run as traces, in the JSON of OTLP; sent to a collector where its URL follows"}

func chartNames() (out []string) {
	for _, c := range export.Charts {
		out = append(out, c.Name)
	}
	return append(out, "comparison")
}

// sendRun sends a run to a collector.
func sendRun(cmd *cobra.Command, s *store.Store, name, to string) error {
	info, err := s.Find(name)
	if err != nil {
		return wrong(err)
	}
	source, err := kept.SourceOf(s, info)
	if err != nil {
		return could(err)
	}
	n, err := export.SendOTLP(cmd.Context(), to, source)
	if err != nil {
		return could(err)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "%d spans of run %s sent\n", n, info.ID)
	return nil
}

func exportRun(cmd *cobra.Command, s *store.Store, name, against string, x kept.Exporting) error {
	info, err := s.Find(name)
	if err != nil {
		return wrong(err)
	}
	source, err := kept.SourceOf(s, info)
	if err != nil {
		return could(err)
	}
	comparisons := kept.CompareVariants(source.Run)
	if against != "" {
		other, err := s.Find(against)
		if err != nil {
			return wrong(fmt.Errorf("--against: %w", err))
		}
		if comparisons, err = kept.Compared(s, other, info); err != nil {
			return wrong(err)
		}
	}
	files, err := kept.Export(source, comparisons, x)
	for _, f := range files {
		fmt.Fprintln(cmd.OutOrStdout(), f)
	}
	if err != nil {
		return could(err)
	}
	return nil
}
