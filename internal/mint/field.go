package mint

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
)

// fields are what a machine of a list can be selected, sorted and grouped by, and what its
// columns show.
var fields = map[string]func(*Entry) string{
	"machine": func(e *Entry) string { return e.Name },
	"site":    func(e *Entry) string { return e.Site },
	"folder":  func(e *Entry) string { return e.Spec.Clone.Folder },
	"host":    func(e *Entry) string { return e.Host },
	"store":   func(e *Entry) string { return e.Store },
	"state":   (*Entry).InWords,
	"power":   func(e *Entry) string { return string(e.Power) },
	"sheet":   func(e *Entry) string { return e.Sheet },
	"addresses": func(e *Entry) string {
		return strings.Join(machine.AddressWords(e.Spec.Adapters), " ")
	},
	"mac":        func(e *Entry) string { return words(e.Spec, func(a machine.Adapter) string { return a.MAC }) },
	"networks":   func(e *Entry) string { return words(e.Spec, func(a machine.Adapter) string { return a.Network }) },
	"hostname":   func(e *Entry) string { return e.Spec.Guest.Hostname },
	"domain":     func(e *Entry) string { return e.Spec.Guest.Domain },
	"preset":     func(e *Entry) string { return e.Spec.Preset },
	"template":   func(e *Entry) string { return e.Spec.Template },
	"clone":      func(e *Entry) string { return string(e.Spec.Clone.Kind) },
	"cpus":       func(e *Entry) string { return strings.TrimPrefix(strconv.Itoa(e.Spec.Shape.CPUs), "0") },
	"memory":     func(e *Entry) string { return size(e.Spec.Shape.Memory) },
	"disk":       func(e *Entry) string { return size(e.Spec.Shape.Disk) },
	"used":       func(e *Entry) string { return size(e.Used) },
	"saved":      func(e *Entry) string { return size(e.Saved) },
	"owner":      func(e *Entry) string { return e.Spec.Info.Owner },
	"notes":      func(e *Entry) string { return e.Spec.Info.Notes },
	"until":      func(e *Entry) string { return e.Spec.Info.Until },
	"keep":       func(e *Entry) string { return e.Spec.Info.Keep },
	"labels":     func(e *Entry) string { return Words(e.Spec.Info.Labels) },
	"checkpoint": func(e *Entry) string { return e.Spec.Checkpoint },
	"after":      func(e *Entry) string { return strings.Join(e.Spec.After, " ") },
	"records":    func(e *Entry) string { return Words(e.Records) },
	"changed":    func(e *Entry) string { return e.Changed.Local().Format("2006-01-02 15:04") },
	"run":        func(e *Entry) string { return e.Run },
	"identity":   func(e *Entry) string { return e.Identity },
	"error":      func(e *Entry) string { return e.Error },
}

func size(s machine.Size) string {
	if s == 0 {
		return ""
	}
	return s.String()
}

// Words writes values by name: item=4711 change=12.
func Words(all map[string]string) string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		words = append(words, name+"="+all[name])
	}
	return strings.Join(words, " ")
}

func words(s *machine.Spec, of func(machine.Adapter) string) string {
	all := make([]string, len(s.Adapters))
	for i, a := range s.Adapters {
		all[i] = of(a)
	}
	return strings.Join(all, " ")
}

// InWords says in one or two words how a machine is.
func (e *Entry) InWords() string {
	switch {
	case e.State == Planned:
		return string(Planned)
	case e.AtSite == Gone:
		return Gone
	case e.State == proof.Making:
		return "unfinished"
	case e.AtSite == notListed:
		return notListed
	case e.AtSite == notAsked:
		return "made?"
	}
	return "made"
}

// Field is something that a list knows of each machine, such as `owner` or `label:leg`.
type Field struct {
	Name string
	of   func(*Entry) string
}

// Of returns the field of a machine; empty if it has none.
func (f Field) Of(e *Entry) string { return f.of(e) }

// FieldNames are the names of all fields but labels, by the alphabet.
func FieldNames() []string { return slices.Sorted(maps.Keys(fields)) }

// ParseField finds a field.
func ParseField(name string) (Field, error) {
	if label, is := strings.CutPrefix(name, "label:"); is {
		return Field{name, func(e *Entry) string { return e.Spec.Info.Labels[label] }}, nil
	}
	of, ok := fields[strings.ToLower(name)]
	if !ok {
		return Field{}, fmt.Errorf("unknown field %q (%s)", name, finding.DidYouMean(name, append(FieldNames(), "label:NAME")))
	}
	return Field{strings.ToLower(name), of}, nil
}

// Condition is what the machines of a list have to fulfil, such as `owner=sonar*`.
type Condition struct {
	field    Field
	operator string
	value    string
}

// operators are those of a condition, the longer ones first.
var operators = []string{"!=", "<=", ">=", "=", "<", ">"}

// ParseCondition reads a field, an operator and a value. The value of = and != may be a glob.
func ParseCondition(text string) (Condition, error) {
	at := strings.IndexAny(text, "=!<>")
	if at < 0 {
		return Condition{}, fmt.Errorf("the condition %q has no operator; write for example owner=sonar* or until<2027-01-01", text)
	}
	field, err := ParseField(strings.TrimSpace(text[:at]))
	if err != nil {
		return Condition{}, err
	}
	for _, operator := range operators {
		if value, ok := strings.CutPrefix(text[at:], operator); ok {
			return Condition{field, operator, strings.TrimSpace(value)}, nil
		}
	}
	return Condition{}, fmt.Errorf("the condition %q has no operator (known: %s)", text, strings.Join(operators, " "))
}

// Holds reports whether a machine fulfils the condition. A machine without a value is
// neither before nor after any.
func (c Condition) Holds(e *Entry) bool {
	has := c.field.Of(e)
	switch c.operator {
	case "=":
		return matches(c.value, has)
	case "!=":
		return !matches(c.value, has)
	}
	if has == "" {
		return false
	}
	order := compare(has, c.value)
	switch c.operator {
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	}
	return order >= 0
}

// matches holds a value against a glob, and against each of its words, without regard to
// letter case.
func matches(pattern, value string) bool {
	pattern, value = strings.ToLower(pattern), strings.ToLower(value)
	return glob.Match([]string{pattern}, value) || slices.ContainsFunc(strings.Fields(value), func(word string) bool { return glob.Match([]string{pattern}, word) })
}

// compare orders two values: sizes and numbers by what they come to, others as text. So
// dates are ordered by time.
func compare(a, b string) int {
	if m, err := machine.ParseSize(a); err == nil {
		if n, err := machine.ParseSize(b); err == nil {
			return int(max(-1, min(1, m-n)))
		}
	}
	if m, err := strconv.Atoi(a); err == nil {
		if n, err := strconv.Atoi(b); err == nil {
			return m - n
		}
	}
	return strings.Compare(a, b)
}

// Select keeps the machines that fulfil all conditions.
func Select(entries []Entry, all []Condition) []Entry {
	return slices.DeleteFunc(entries, func(e Entry) bool {
		return slices.ContainsFunc(all, func(c Condition) bool { return !c.Holds(&e) })
	})
}

// Sort orders machines by a field; those without a value come last.
func Sort(entries []Entry, by Field) {
	slices.SortStableFunc(entries, func(a, b Entry) int {
		has, other := by.Of(&a), by.Of(&b)
		if (has == "") != (other == "") {
			return strings.Compare(other, has)
		}
		return compare(has, other)
	})
}

// Parts divides machines by the values of a field, in the order of the values.
func Parts(entries []Entry, by Field) [][]Entry {
	sorted := slices.Clone(entries)
	Sort(sorted, by)
	var all [][]Entry
	for i := range sorted {
		if n := len(all); n > 0 && by.Of(&all[n-1][0]) == by.Of(&sorted[i]) {
			all[n-1] = append(all[n-1], sorted[i])
			continue
		}
		all = append(all, []Entry{sorted[i]})
	}
	return all
}
