package report

import (
	"encoding/xml"
	"io"
	"strings"
)

// Case is one machine in a report for a pipeline.
type Case struct {
	Name    string
	Class   string // its site
	Failure string // why it is not as it should be; empty if it is
}

// JUnit writes the results as JUnit XML, which build servers read: one suite,
// and a case for each machine.
func JUnit(to io.Writer, suite string, cases []Case) error {
	type failure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
	type testcase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Failure *failure `xml:"failure,omitempty"`
	}
	type testsuite struct {
		XMLName  xml.Name   `xml:"testsuite"`
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	s := testsuite{Name: suite, Tests: len(cases)}
	for _, c := range cases {
		one := testcase{Name: c.Name, Class: c.Class}
		if c.Failure != "" {
			s.Failures++
			first, _, _ := strings.Cut(c.Failure, "; ")
			one.Failure = &failure{first, c.Failure}
		}
		s.Cases = append(s.Cases, one)
	}
	if _, err := io.WriteString(to, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(to)
	e.Indent("", "  ")
	if err := e.Encode(s); err != nil {
		return err
	}
	_, err := io.WriteString(to, "\n")
	return err
}
