// Package finding says what is wrong, or worth knowing, at a position of a
// sheet or a setup file.
package finding

import (
	"fmt"
	"slices"
	"strings"
)

// Severity orders findings by what they stop: an Error stops the batch, a
// Warning does not, a Note only informs. The zero value is Error, so that a
// finding whose severity was forgotten is never overlooked.
type Severity int

// The severities, the gravest first.
const (
	Error Severity = iota
	Warning
	Note
)

var severityWords = [...]string{"error", "warning", "note"}

// String gives the word that docs and JSON use.
func (s Severity) String() string { return severityWords[s] }

// MarshalText writes the severity as its word.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Finding is a problem or a remark at a position. Like encoding/csv's
// ParseError it carries the place and reads as one line.
type Finding struct {
	Severity Severity `json:"severity"`
	// Code is a stable name from docs/findings.md.
	Code string   `json:"code"`
	At   Position `json:"at"`
	// Value is what stands there. It is left empty for whatever may be secret.
	Value   string `json:"value,omitempty"`
	Message string `json:"message"`
	// Hint says what would be right.
	Hint string `json:"hint,omitempty"`
	// More is how many findings this one stands for, where they are only counted.
	More int `json:"more,omitempty"`
}

// Error makes a Finding an error of one line: position, message and hint.
func (f Finding) Error() string {
	var b strings.Builder
	if at := f.At.String(); at != "" {
		b.WriteString(at + ": ")
	}
	b.WriteString(f.Message)
	if f.Hint != "" {
		fmt.Fprintf(&b, " (%s)", f.Hint)
	}
	return b.String()
}

// List gathers findings, so that all of them are reported at once.
type List []Finding

// Add appends a finding. A value that looks like a secret is not kept in it, and of a long
// one only how it begins and ends.
func (l *List) Add(f Finding) { *l = append(*l, shortened(masked(f))) }

// Count reports how many findings have the severity.
func (l List) Count(s Severity) int {
	n := 0
	for _, f := range l {
		if f.Severity == s {
			n += max(f.More, 1)
		}
	}
	return n
}

// Failed reports whether any finding is an error.
func (l List) Failed() bool { return l.Count(Error) > 0 }

// Sorted returns the findings by severity, then in the order of the files read,
// rows and columns; of each code the first Most, and how many more there are.
func (l List) Sorted() List {
	files := map[string]int{}
	for _, f := range l {
		if _, ok := files[f.At.File]; !ok {
			files[f.At.File] = len(files)
		}
	}
	return l.inOrder(files).limited().inOrder(files)
}

// limited counts those findings of a code that come behind the first Most.
func (l List) limited() (out List) {
	type kind struct {
		code     string
		severity Severity
	}
	told, over := map[kind]int{}, map[kind]int{} // where in out it is told that there are more
	for _, f := range l {
		k := kind{f.Code, f.Severity}
		if f.More == 0 {
			if told[k]++; told[k] <= Most {
				out = append(out, f)
				continue
			}
		}
		if i, is := over[k]; is {
			out[i] = more(f, out[i].More+max(f.More, 1))
			continue
		}
		over[k] = len(out)
		out = append(out, more(f, max(f.More, 1)))
	}
	return out
}

// more tells that there are so many findings like one.
func more(f Finding, n int) Finding {
	return Finding{Severity: f.Severity, Code: f.Code, At: Position{File: f.At.File, Worksheet: f.At.Worksheet}, More: n,
		Message: fmt.Sprintf("%d more findings of this kind, not shown after the first %d", n, Most)}
}

func (l List) inOrder(files map[string]int) List {
	out := slices.Clone(l)
	slices.SortStableFunc(out, func(a, b Finding) int {
		if a.Severity != b.Severity {
			return int(a.Severity) - int(b.Severity)
		}
		if a.At.File != b.At.File {
			return files[a.At.File] - files[b.At.File]
		}
		if a.At.Row != b.At.Row {
			return a.At.Row - b.At.Row
		}
		return a.At.Column - b.At.Column
	})
	return out
}
