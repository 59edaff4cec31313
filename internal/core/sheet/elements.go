package sheet

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	input "github.com/tdewolff/parse/v2"
	lexer "github.com/tdewolff/parse/v2/xml"
)

// elements reads a part that has nothing but elements and texts. Whatever is otherwise is errNotPlain, and so is
// what is no XML: the lexer by itself lets much pass.
type elements struct {
	tokens *lexer.Lexer
	names  map[string]string
	given  []given // the attributes of the element that was begun last
	empty  string  // an element that ends where it begins, and whose end is next
	begun  bool
}

// mostNames is how many names of elements and attributes there may be, and how many attributes an element may have.
const mostNames = 1000

// given is an attribute; its value is in its quotes.
type given struct {
	name  string
	value []byte
}

// readElements takes the bytes for its own.
func readElements(content []byte) (*elements, error) {
	if bytes.HasPrefix(content, []byte("<?")) {
		declaration := xml.NewDecoder(bytes.NewReader(content))
		if _, err := declaration.RawToken(); err != nil { // another encoding than UTF-8
			return nil, errNotPlain
		}
		content = content[declaration.InputOffset():]
	}
	plain := utf8.Valid(content)
	for _, never := range []string{"]]>", "\uFFFE", "\uFFFF"} {
		plain = plain && !bytes.Contains(content, []byte(never))
	}
	for _, c := range content {
		plain = plain && (c >= ' ' || isBlank(c))
	}
	return &elements{tokens: lexer.NewLexer(input.NewInputBytes(content)), names: map[string]string{}}, errIf(!plain)
}

// token is what is read next: exactly one of start, end and text, or none where the part ends.
type token struct {
	start, end string // the name of an element
	text       []byte
}

func (r *elements) next() (t token, err error) {
	if t.end, r.empty = r.empty, ""; t.end != "" {
		return t, nil
	}
	switch kind, whole := r.tokens.Next(); kind {
	case lexer.StartTagToken:
		if t.start, err = r.name(r.tokens.Text()); err == nil {
			err = r.attributes(t.start)
		}
	case lexer.EndTagToken:
		t.end, err = r.name(r.tokens.Text())
		if !bytes.HasSuffix(whole, []byte(">")) {
			err = errNotPlain
		}
	case lexer.TextToken:
		if t.text = r.tokens.Text(); bytes.IndexByte(t.text, '&') >= 0 {
			_, err = asText(t.text)
		}
	case lexer.ErrorToken:
		err = errIf(!errors.Is(r.tokens.Err(), io.EOF))
	default:
		err = errNotPlain
	}
	return t, err
}

// attributes reads those of an element.
func (r *elements) attributes(of string) error {
	r.given = r.given[:0]
	for {
		switch kind, _ := r.tokens.Next(); kind {
		case lexer.AttributeToken:
			value := r.tokens.AttrVal()
			name, err := r.name(r.tokens.Text())
			n := len(value)
			if err != nil || len(r.given) == mostNames || n < 2 || value[0] != '"' && value[0] != '\'' || value[n-1] != value[0] || bytes.IndexByte(value, '<') >= 0 {
				return errNotPlain
			}
			if bytes.IndexByte(value, '&') >= 0 {
				if _, err := asText(value); err != nil {
					return err
				}
			}
			r.given = append(r.given, given{name, value})
		case lexer.StartTagCloseToken:
			return nil
		case lexer.StartTagCloseVoidToken:
			r.empty = of
			return nil
		default:
			return errNotPlain
		}
	}
}

// name reads a name of plain letters, which may have a prefix.
func (r *elements) name(b []byte) (string, error) {
	if name, known := r.names[string(b)]; known {
		return name, nil
	}
	prefix, local, prefixed := bytes.Cut(b, []byte(":"))
	if len(r.names) == mostNames || !plainName(prefix) || prefixed && !plainName(local) {
		return "", errNotPlain
	}
	r.names[string(b)] = string(b)
	return r.names[string(b)], nil
}

func plainName(b []byte) bool {
	for i, c := range b {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (i == 0 || c != '-' && c != '.' && (c < '0' || c > '9')) {
			return false
		}
	}
	return len(b) > 0
}

func isBlank(c byte) bool { return c == '\t' || c == '\n' || c == '\r' || c == ' ' }

// asText is the text that stands for itself, but for entities and the ends of lines.
func asText(b []byte) (string, error) {
	if bytes.IndexByte(b, '&') < 0 && bytes.IndexByte(b, '\r') < 0 {
		return string(b), nil
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	t, err := d.RawToken()
	if text, is := t.(xml.CharData); is && err == nil {
		return string(text), nil
	}
	return "", errNotPlain
}

// attribute is the value of one of the element that was begun last; empty if it has none.
func (r *elements) attribute(name string) string {
	for _, g := range r.given {
		if g.name == name {
			value, _ := asText(g.value[1 : len(g.value)-1]) // which was read before
			return value
		}
	}
	return ""
}

// children reads the elements in an element whose start was read, or, if nothing was read yet, which is the first. do
// reads the rest of each. Those with a prefix are passed over.
func (r *elements) children(of string, do func(element string) error) error {
	if !r.begun {
		if err := r.root(of); err != nil {
			return err
		}
	}
	for {
		t, err := r.next()
		switch {
		case err != nil:
			return err
		case strings.Contains(t.start, ":"):
			err = r.skip(t.start)
		case t.start != "":
			err = do(t.start)
		case t.text == nil:
			return errIf(t.end != of)
		}
		if err != nil {
			return err
		}
	}
}

// each is children that all have one name.
func (r *elements) each(of, name string, do func() error) error {
	return r.children(of, func(element string) error {
		if element != name {
			return errNotPlain
		}
		return do()
	})
}

// root reads up to the start of the first element.
func (r *elements) root(name string) error {
	r.begun = true
	for {
		t, err := r.next()
		if err != nil || t.text == nil {
			return errIf(err != nil || t.start != name)
		}
	}
}

// end reads on behind the root.
func (r *elements) end() error {
	for {
		t, err := r.next()
		if err != nil || t.text == nil {
			return errIf(err != nil || t.start != "" || t.end != "")
		}
	}
}

// skip reads the rest of an element.
func (r *elements) skip(element string) error {
	open := []string{element}
	for len(open) > 0 {
		t, err := r.next()
		switch last := len(open) - 1; {
		case err != nil:
			return err
		case t.start != "":
			open = append(open, t.start)
		case t.text == nil && t.end != open[last]:
			return errNotPlain
		case t.text == nil:
			open = open[:last]
		}
	}
	return nil
}

// text reads the text in an element, which has nothing else.
func (r *elements) text(of string) (string, error) {
	text := ""
	for {
		t, err := r.next()
		if err != nil || t.text == nil {
			return text, errIf(err != nil || t.end != of)
		}
		more, err := asText(t.text)
		if err != nil {
			return "", err
		}
		text += more
	}
}

// rich reads a text with or without runs; what says how to pronounce it is no text.
func (r *elements) rich(of string) (string, error) {
	var plain, runs string
	has := false
	err := r.children(of, func(element string) (err error) {
		switch element {
		case "t":
			plain, err = r.text("t")
		case "r":
			has = true
			err = r.children("r", func(element string) error {
				if element != "t" {
					return r.skip(element)
				}
				run, err := r.text("t")
				runs += run
				return err
			})
		default:
			err = r.skip(element)
		}
		return err
	})
	if has {
		return runs, err
	}
	return plain, err
}
