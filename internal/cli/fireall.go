package cli

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightdrill/internal/core/text"
	"nightdrill/internal/session"
)

// fireAll fires every payload that has expectations.
func fireAll(cmd *cobra.Command, d *session.Workspace, o session.Order, junit string) error {
	s, leave, err := quietly(d)
	if err != nil {
		return err
	}
	defer leave()
	out := cmd.OutOrStdout()
	var suites []suite
	n, bad := 0, 0
	enter := func(source string, c testCase) {
		if len(suites) == 0 || suites[len(suites)-1].Name != source {
			suites = append(suites, suite{Name: source})
		}
		last := &suites[len(suites)-1]
		last.Cases = append(last.Cases, c)
		last.Tests++
		n++
		if c.Failure != nil {
			last.Failures++
			bad++
		}
	}
	astray := astraySets(d)
	for _, set := range sortedNames(astray) {
		fmt.Fprintf(out, "%s: %s\n", set, astray[set])
		enter(set, testCase{Name: set, Class: set, Seconds: "0", Failure: &failure{Message: clean(astray[set]),
			Text: clean(astray[set])}})
	}
	for _, item := range s.List() {
		if item.Expect == nil || astray[item.Set] != "" {
			continue
		}
		o.Item = item
		v, err := shoot(cmd, s, o)
		if err != nil {
			return err
		}
		x := describe(s, &v)
		var broken []string
		if len(x.Unexpected) > 0 {
			broken = x.Unexpected
		} else if x.Outcome != "done" && x.Status == 0 {
			broken = []string{strings.TrimSpace(x.Outcome + " " + oneLine(x.Why))}
		}
		c := testCase{Name: x.Payload, Class: x.Source, Seconds: fmt.Sprintf("%.6f", x.Ms/1000)}
		if broken != nil {
			c.Failure = &failure{Message: clean(broken[0]), Text: clean(strings.Join(broken, "\n"))}
			for _, b := range broken {
				fmt.Fprintf(out, "%s %s: %s\n", x.Source, x.Payload, text.Harmless(b))
			}
		}
		enter(x.Source, c)
	}
	if n == 0 {
		return wrong(errors.New("no payload of the project has expectations; add expect: to a set, such as expect: " +
			"{status: 200}"))
	}
	fmt.Fprintf(out, "%d of %s as expected\n", n-bad, text.Plural(n, "reply"))
	if junit != "" {
		err := output(cmd, junit, func(w *bufio.Writer) error {
			if _, err := w.WriteString(xml.Header); err != nil {
				return err
			}
			e := xml.NewEncoder(w)
			e.Indent("", "  ")
			if err := e.Encode(&suitesOf{Name: d.Name, Tests: n, Failures: bad,
				Time: time.Now().UTC().Format(time.RFC3339), Suites: suites}); err != nil {
				return err
			}
			return w.WriteByte('\n')
		})
		if err != nil {
			return err
		}
	}
	if bad > 0 {
		return errMissed
	}
	return nil
}

// astraySets returns the sets whose expectations cannot be fired, since it is not clear to
// which source, with what to do.
func astraySets(d *session.Workspace) map[string]string {
	out := map[string]string{}
	for i := range d.Sets {
		set := &d.Sets[i]
		expects := false
		for n := range set.Payloads {
			expects = expects || set.ExpectOf(n) != nil
		}
		to, said := d.Reach(i)
		switch {
		case !expects || said && len(to) > 0:
		case len(to) == 0:
			out[set.Name] = fmt.Sprintf("its expectations reach no source; name one in payloads.%s.reaches, such as "+
				"reaches: [SOURCE]",
				set.Name)
		case len(to) > 1:
			var names []string
			for _, k := range to {
				names = append(names, d.Sources[k].Name)
			}
			out[set.Name] = fmt.Sprintf("its expectations could be meant for %s; name the source in "+
				"payloads.%s.reaches, such as reaches: [%s]",
				strings.Join(names, " or "), set.Name, names[0])
		}
	}
	return out
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
