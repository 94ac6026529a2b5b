package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/forecast"
	"nightdrill.dev/internal/session"
)

// forecastOptions are the flags of forecast.
type forecastOptions struct {
	tries   []string
	traffic []string
	days    float64
	seeds   int
	verify  bool
	setting []string
	even    string
	to      string
}

func forecastCommand(dir *string) *cobra.Command {
	var o forecastOptions
	c := &cobra.Command{
		Use:   "forecast RUN|DRILL... --try FUNCTION.LIMIT=VALUES",
		Short: "Forecast what a run would have been under other limits",
		Long: `Forecast simulates a run under other limits: the same rules, in virtual time, with the
times, the outcomes and the load of the machine that the run measured. It says which
setting is the cheapest that keeps all budgets, and what each of them would do. A
DRILL stands for its last finished run. With several runs of one drill, such as of
other times of the day, the intervals hold what differs between them.

  nightdrill forecast morning --try quote.max=1..8 --try quote.keep_warm=0,2
  nightdrill forecast morning --try quote.max=1..8 --traffic x2 --days 1

What the run cannot tell is refused, with the reason. --verify tries the best setting
(or the one that --setting names) live, and prints what was measured beside it.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := open(cmd.Context(), *dir)
			if err != nil {
				return err
			}
			defer d.Close()
			return makeForecast(cmd, d, *dir, args, &o)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&o.tries, "try", nil, "a limit with the values to try, such as quote.max=1..8 or "+
		"quote.idle_after=1s,10s; may be repeated")
	f.StringSliceVar(&o.traffic, "traffic", nil, "which traffic, in place of that of the run: x2 is twice as much, "+
		"the name of a drill that of its feeds, and both twice as much as the drill's")
	f.Float64Var(&o.days, "days", 0, "repeat the traffic for so many days, such as 1 or 0.25")
	f.IntVar(&o.seeds, "seeds", 0, "simulations of each setting (default 20, and fewer of more than 10 million events)")
	f.BoolVar(&o.verify, "verify", false, "try the best setting live, and print what was measured beside the forecast")
	f.StringArrayVar(&o.setting, "setting", nil, "with --verify: a limit of the setting to try, such as quote.max=3; "+
		"may be repeated")
	f.StringVar(&o.even, "break-even", "", "from which rate of events on one value of a limit costs less than "+
		"another: a function, for an instance of it kept warm against none, or such as quote.idle_after=1s,1m")
	f.StringVar(&o.to, "json", "", "write the forecast as JSON to a file (- for standard output, instead of the text)")
	return c
}

func makeForecast(cmd *cobra.Command, d *session.Workspace, dir string, names []string, o *forecastOptions) error {
	order := forecast.Order{Seeds: o.seeds}
	if o.seeds < 0 || o.seeds > 1000 || o.seeds == 0 && cmd.Flags().Changed("seeds") {
		return wrong(fmt.Errorf("--seeds must be from 1 to 1000, got %d", o.seeds))
	}
	if len(o.setting) > 0 && !o.verify {
		return wrong(errors.New("--setting names what --verify tries; give both"))
	}
	for _, t := range o.tries {
		try, err := forecast.ParseTry(t)
		if err != nil {
			return wrong(fmt.Errorf("--try %w", err))
		}
		order.Tries = append(order.Tries, try)
	}
	words := o.traffic
	if cmd.Flags().Changed("days") {
		words = append(slices.Clone(words), strconv.FormatFloat(o.days, 'f', -1, 64)+"d")
	}
	traffic, err := d.ParseTraffic(words)
	switch {
	case err != nil && len(words) > len(o.traffic) && len(o.traffic) == 0:
		return wrong(fmt.Errorf("--days: %w", err))
	case err != nil:
		return wrong(fmt.Errorf("--traffic: %w", err))
	case o.verify && (traffic.For > 0 || traffic.Times != 0 && traffic.Times != 1):
		return wrong(errors.New("--verify tries a setting with the traffic of a drill; leave --days and factors out"))
	}
	order.Traffic = traffic
	if o.even != "" && (len(order.Tries) > 0 || len(words) > 0 || o.verify) {
		return wrong(errors.New("--break-even varies the rate and keep_warm by itself; leave --try, --traffic and " +
			"--verify out"))
	}
	if len(order.Tries) == 0 && len(words) == 0 && o.even == "" {
		return wrong(errors.New("nothing to try: give --try, such as --try quote.max=1..8, or --traffic x2"))
	}
	x, err := d.ForecastOf(names...)
	if err != nil {
		return wrong(err)
	}
	if o.even != "" {
		x.Order.Seeds = o.seeds
		return breakEven(cmd, x, o)
	}
	err = x.Make(cmd.Context(), order, counted(cmd.ErrOrStderr()))
	if errors.Is(err, context.Canceled) {
		return coded{interrupted, errors.New("interrupted; nothing was forecast")}
	}
	if err != nil {
		return wrong(err)
	}
	f, chosen := x.Made, -1
	if o.verify {
		if chosen, err = choose(f, o.setting); err != nil {
			return wrong(err)
		}
	}
	if o.to != "-" {
		forecastText(cmd.OutOrStdout(), f)
		if trials, err := session.Trials(dir); err == nil {
			if s := session.TrialsSentence(trials); s != "" && !o.verify {
				fmt.Fprintln(cmd.OutOrStdout(), "\n"+s)
			}
		}
	}
	if o.verify {
		if err := verify(cmd, d, x, chosen, o.to != "-"); err != nil {
			return err
		}
	}
	if o.to == "" {
		return nil
	}
	content, err := json.MarshalIndent(f, "", "  ")
	if err != nil {
		return could(err)
	}
	if err := writeFile(cmd, o.to, append(content, '\n')); err != nil {
		return could(err)
	}
	return nil
}

// breakEven prints from which rate on one value of a limit costs less than another.
func breakEven(cmd *cobra.Command, x *session.Forecasting, o *forecastOptions) error {
	of, err := forecast.ParseEven(o.even)
	if err != nil {
		return wrong(fmt.Errorf("--break-even %w", err))
	}
	e, err := x.BreakEven(cmd.Context(), of, counted(cmd.ErrOrStderr()))
	switch {
	case errors.Is(err, context.Canceled):
		return coded{interrupted, errors.New("interrupted; nothing was forecast")}
	case err != nil:
		return wrong(err)
	}
	if o.to != "" {
		content, err := json.MarshalIndent(e, "", "  ")
		if err != nil {
			return could(err)
		}
		if err := writeFile(cmd, o.to, append(content, '\n')); err != nil || o.to == "-" {
			return err
		}
	}
	w := cmd.OutOrStdout()
	fmt.Fprintf(w, "%s\n\n", e.Sentence)
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "deliveries/s\tcold with %[1]s\twith %[2]s\t%[3]s with %[1]s\twith %[2]s\t\n", e.Without, e.With,
		e.Unit)
	for _, p := range e.Curve {
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t\n", figure.Ratio(p.PerSecond), figure.Percent(p.Cold),
			figure.Percent(p.ColdWith), figure.Small(p.Without), figure.Small(p.With))
	}
	return t.Flush()
}

// counted returns what says on a terminal how far a forecast is; nil elsewhere.
func counted(w io.Writer) func(share float64) {
	if f, ok := w.(*os.File); !ok || !term.IsTerminal(f.Fd()) {
		return nil
	}
	last := -1
	return func(share float64) {
		switch percent := int(100 * share); {
		case share >= 1:
			fmt.Fprint(w, "\r\x1b[K")
		case percent != last:
			fmt.Fprintf(w, "\rsimulating: %d %%", percent)
			last = percent
		}
	}
}

// choose returns the place of the setting that is tried live.
func choose(f *forecast.Forecast, setting []string) (int, error) {
	if len(setting) == 0 {
		if f.Best == nil {
			return 0, errors.New("no setting is the best; name the one to try: --setting quote.max=3")
		}
		return *f.Best, nil
	}
	at := -1
	for i := range f.Cells {
		match := true
		for _, s := range setting {
			name, value, _ := strings.Cut(s, "=")
			match = match && string(f.Cells[i].Limits[name]) == value
		}
		if match && at >= 0 {
			return 0, fmt.Errorf("--setting %s is more than one of the settings; name all limits",
				strings.Join(setting, " "))
		}
		if match {
			at = i
		}
	}
	if at < 0 {
		return 0, fmt.Errorf("--setting %s is none of the settings that were tried", strings.Join(setting, " "))
	}
	return at, nil
}

// verify carries a setting out.
func verify(cmd *cobra.Command, d *session.Workspace, x *session.Forecasting, cell int, say bool) error {
	changed, err := x.Live(d.Project, cell)
	if err != nil {
		return wrong(err)
	}
	f := x.Made
	label := f.Cells[cell].Name(f)
	fmt.Fprintf(cmd.ErrOrStderr(), "nightdrill: %s live, with %s\n", changed.Name, label)
	r, err := carryOut(cmd, d, changed, nil)
	if err != nil {
		return err
	}
	_ = d.Runs.Note(r.ID, "forecast from "+f.Run+": "+label) // for whoever reads the list
	if err := x.Measured(cell, r.Snapshot()); err != nil {
		return could(err)
	}
	if say {
		verifiedText(cmd.OutOrStdout(), f)
	}
	return nil
}

func verifiedText(w io.Writer, f *forecast.Forecast) {
	v := f.Verified
	fmt.Fprintf(w, "\nTried live: %s, run %s\n", f.Cells[v.Cell].Name(f), v.Run)
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	fmt.Fprintln(t, "\tforecast\t95 % of simulations\tmeasured\terror")
	for _, x := range v.Each {
		bounds := ""
		if x.Lo != nil && x.Hi != nil {
			bounds = figure.Millis(x.Lo) + " to " + figure.Millis(x.Hi)
		}
		off := "none"
		if x.Measured != x.Forecast {
			off = "all"
			if x.Measured != 0 {
				off = fmt.Sprintf("%+.1f %%", 100*(x.Forecast/x.Measured-1))
			}
		}
		if x.Unit == "" {
			fmt.Fprintf(t, "%s\t%.0f\t\t%.0f\t%s\n", x.What, x.Forecast, x.Measured, off)
			continue
		}
		fmt.Fprintf(t, "%s, %s\t%s\t%s\t%s\t%s\n", x.What, x.Unit, figure.Millis(&x.Forecast), bounds,
			figure.Millis(&x.Measured), off)
	}
	_ = t.Flush()
	fmt.Fprintf(w, "Median error of the latencies: %s.\n", figure.Percent(v.Error))
}

// forecastText prints a forecast.
func forecastText(w io.Writer, f *forecast.Forecast) {
	fmt.Fprintf(w, "%s\n", f.Sentence)
	fmt.Fprintf(w, "%s; if the machine is as it was then.%s\n", f.From(), f.Spread())
	if f.Dropped > 0 {
		fmt.Fprintln(w, f.Left())
	}
	fmt.Fprintln(w)
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	for _, x := range f.Tries {
		fmt.Fprintf(t, "%s\t", x.Name)
	}
	fn := f.Subject()
	fmt.Fprintf(t, "tightest budget\tmargin\twarm p95 of %s, ms\trejected\tstarted\tmemory, GiB s\tcost\t\n", fn)
	for i := range f.Cells {
		c := &f.Cells[i]
		for _, x := range f.Tries {
			fmt.Fprintf(t, "%s\t", c.Limits[x.Name])
		}
		if c.Refused != nil {
			fmt.Fprintf(t, "not forecast\n")
			continue
		}
		budget, margin := "none", ""
		if v, m := c.Tightest(); v != nil {
			budget, margin = v.Text, figure.Signed(m)
		}
		warm, x := "–", c.Functions[fn]
		if l := &x.Latency.Warm; l.P95 != nil {
			warm = figure.Millis(l.P95)
			if l.P95Lo != nil {
				warm += " [" + figure.Millis(l.P95Lo) + ", " + figure.Millis(l.P95Hi) + "]"
			}
		}
		rejected, started, memory, cost := c.Totals()
		mark := ""
		if f.Best != nil && *f.Best == i {
			mark = "cheapest"
		}
		if c.Extrapolated {
			mark = strings.TrimSpace(mark + " beyond what was seen")
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%.0f\t%.0f\t%s\t%s\t%s\n", budget, margin, warm, rejected, started,
			optional(memory), optional(cost), mark)
	}
	_ = t.Flush()
	for _, why := range f.Reasons() {
		fmt.Fprintf(w, "\nNot forecast: %s.", why)
	}
	if len(f.Reasons()) > 0 {
		fmt.Fprintln(w)
	}
}

func optional(v *float64) string {
	if v == nil {
		return "–"
	}
	return figure.Small(*v)
}
