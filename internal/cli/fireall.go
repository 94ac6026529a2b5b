package cli

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
)

// fireAll fires every payload that has expectations, and with watch again after each change,
// until it is interrupted.
func fireAll(cmd *cobra.Command, d *session.Workspace, o session.Order, junit string, watch bool) error {
	s, leave, err := quietly(d)
	if err != nil {
		return err
	}
	defer leave()
	out := cmd.OutOrStdout()
	if watch {
		return fireOnChange(cmd, s, junit)
	}
	var all []session.Checked
	_, err = s.CheckAll(cmd.Context(), o, nil, func(_ int, x *session.Checked) {
		printChecked(out, x)
		all = append(all, *x)
	})
	if err != nil {
		return coded{interrupted, errors.New("interrupted")}
	}
	if len(all) == 0 {
		return wrong(errNoExpectations)
	}
	bad, err := sumUp(cmd, d.Name, all, junit)
	if err == nil && bad > 0 {
		err = errMissed
	}
	return err
}

var errNoExpectations = errors.New("no payload of the project has expectations; add expect: to a set, such as " +
	"expect: {status: 200}")

// fireOnChange checks all expectations, and again after each change of a file. When it is
// interrupted, the last round decides how it ends.
func fireOnChange(cmd *cobra.Command, s *session.Session, junit string) error {
	out := cmd.OutOrStdout()
	s.Watch()
	if why := s.Trouble(); why != "" {
		return could(errors.New(why))
	}
	s.SetChecking(true)
	printed, bad, mistake := 0, 0, ""
	for {
		select {
		case <-cmd.Context().Done():
			if bad > 0 {
				return errMissed
			}
			return nil
		case <-s.Changes():
		}
		if err := s.Wrong(); err == nil {
			mistake = ""
		} else if err.Error() != mistake {
			mistake = err.Error()
			fmt.Fprintf(out, "%s\nthe project as it was before stays in use\n", harmlessLines(mistake))
		}
		c := s.Checks()
		if c.Going || c.At.IsZero() || c.Round == printed {
			continue
		}
		if printed > 0 {
			fmt.Fprintln(out)
		}
		printed = c.Round
		if len(c.Results) == 0 {
			fmt.Fprintln(out, errNoExpectations)
			continue
		}
		for i := range c.Results {
			printChecked(out, &c.Results[i])
		}
		fmt.Fprint(out, c.At.Format("15:04:05  "))
		var err error
		if bad, err = sumUp(cmd, s.Name, c.Results, junit); err != nil {
			return err
		}
	}
}

// printChecked lists what is not as expected.
func printChecked(w io.Writer, x *session.Checked) {
	for _, b := range x.Broken {
		fmt.Fprintf(w, "%s: %s\n", x.Name(), text.Harmless(b))
	}
}

// sumUp prints how many replies were as expected, writes them as JUnit XML where that is wanted,
// and returns how many were not.
func sumUp(cmd *cobra.Command, name string, all []session.Checked, junit string) (bad int, err error) {
	var suites []suite
	at := map[string]int{}
	for _, x := range all {
		if _, ok := at[x.Source]; !ok {
			at[x.Source] = len(suites)
			suites = append(suites, suite{Name: x.Source})
		}
		c := testCase{Name: x.Title, Class: x.Source, Seconds: fmt.Sprintf("%.6f", x.Took.Seconds())}
		in := &suites[at[x.Source]]
		if in.Tests++; x.Broken != nil {
			c.Failure = &failure{Message: clean(x.Broken[0]), Text: clean(strings.Join(x.Broken, "\n"))}
			in.Failures++
			bad++
		}
		in.Cases = append(in.Cases, c)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "%d of %s as expected\n", len(all)-bad, text.Plural(len(all), "reply"))
	if junit == "" {
		return bad, nil
	}
	return bad, output(cmd, junit, func(w *bufio.Writer) error {
		if _, err := w.WriteString(xml.Header); err != nil {
			return err
		}
		e := xml.NewEncoder(w)
		e.Indent("", "  ")
		if err := e.Encode(&suitesOf{Name: name, Tests: len(all), Failures: bad,
			Time: time.Now().UTC().Format(time.RFC3339), Suites: suites}); err != nil {
			return err
		}
		return w.WriteByte('\n')
	})
}

// clean leaves out what XML 1.0 cannot hold (§2.2).
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' || r == 0xfffe || r == 0xffff {
			return '·'
		}
		return r
	}, s)
}

// JUnit XML, as the tools that read it have it.
type suitesOf struct {
	XMLName  xml.Name `xml:"testsuites"`
	Name     string   `xml:"name,attr"`
	Tests    int      `xml:"tests,attr"`
	Failures int      `xml:"failures,attr"`
	Time     string   `xml:"timestamp,attr"`
	Suites   []suite  `xml:"testsuite"`
}

type suite struct {
	Name     string     `xml:"name,attr"`
	Tests    int        `xml:"tests,attr"`
	Failures int        `xml:"failures,attr"`
	Cases    []testCase `xml:"testcase"`
}

type testCase struct {
	Name    string   `xml:"name,attr"`
	Class   string   `xml:"classname,attr"`
	Seconds string   `xml:"time,attr"`
	Failure *failure `xml:"failure,omitempty"`
}

type failure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}
