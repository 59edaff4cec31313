package answers

import (
	"encoding/xml"
	"errors"
	"fmt"
	"strings"
)

// These elements are written here because encoding/xml writes no namespace prefixes of the
// caller's choice, which OVF readers look for, and etree replaces characters that XML forbids without an error.

// Element is an XML element with its attributes, written name="value" after
// name, and either text or children.
type Element struct {
	Name       string
	Attributes []string // name, value, name, value, ...
	Text       string
	Children   []*Element
}

// El makes an element of children; those that are nil are left out.
func El(name string, children ...*Element) *Element {
	e := &Element{Name: name}
	e.Add(children...)
	return e
}

// Leaf makes an element of text; without any it is nil.
func Leaf(name string, value any) *Element {
	text := fmt.Sprint(value)
	if text == "" {
		return nil
	}
	return &Element{Name: name, Text: text}
}

// Add appends children; those that are nil are left out.
func (e *Element) Add(children ...*Element) {
	for _, c := range children {
		if c != nil {
			e.Children = append(e.Children, c)
		}
	}
}

// With adds attributes.
func (e *Element) With(attributes ...string) *Element {
	e.Attributes = append(e.Attributes, attributes...)
	return e
}

// IfAny is the element, or nil where it would be empty.
func (e *Element) IfAny() *Element {
	if len(e.Children) == 0 && e.Text == "" {
		return nil
	}
	return e
}

// ErrText is text that cannot stand in XML.
var ErrText = errors.New("XML cannot hold this text")

// Document writes an XML document (XML 1.0, fifth edition). Text that has a
// character that XML cannot hold (section 2.2) is an ErrText.
func (e *Element) Document() ([]byte, error) {
	var b strings.Builder
	b.WriteString(xml.Header)
	err := e.write(&b, 0)
	return []byte(b.String()), err
}

func (e *Element) write(b *strings.Builder, depth int) error {
	indent := strings.Repeat("  ", depth)
	b.WriteString(indent + "<" + e.Name)
	for i := 0; i < len(e.Attributes); i += 2 {
		b.WriteString(" " + e.Attributes[i] + `="`)
		if err := escape(b, e.Attributes[i+1]); err != nil {
			return fmt.Errorf("%w: %s", err, e.Attributes[i])
		}
		b.WriteString(`"`)
	}
	if len(e.Children) == 0 {
		b.WriteString(">")
		if err := escape(b, e.Text); err != nil {
			return fmt.Errorf("%w: %s", err, e.Name)
		}
		b.WriteString("</" + e.Name + ">\n")
		return nil
	}
	b.WriteString(">\n")
	for _, c := range e.Children {
		if err := c.write(b, depth+1); err != nil {
			return err
		}
	}
	b.WriteString(indent + "</" + e.Name + ">\n")
	return nil
}

func escape(b *strings.Builder, text string) error {
	for _, r := range text {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff {
			return ErrText
		}
	}
	return xml.EscapeText(b, []byte(text))
}
