package sheet

import (
	"encoding/xml"
	"strconv"
	"strings"
	"time"

	"mintbatch/internal/core/pattern"
)

// odsCell is what a cell shows.
type odsCell struct {
	text string
	day  string // of a date, however it is displayed
	// bare is set for a formula whose value is not stored; the text is the formula.
	bare bool
}

func (c odsCell) put(l *line, i int) {
	l.set(i, c.text)
	l.isDay(i, c.day)
	l.bare.set(i, c.bare)
}

var exponent = pattern.Lazy(`[0-9]E[-+]?[0-9]`)

// cell reads a cell to its end: the paragraphs that it shows, else its value.
func (o *ods) cell(e xml.StartElement) (c odsCell, err error) {
	p := paragraphs{d: o.d}
	if err := p.read(false, 0); err != nil {
		return c, err
	}
	c.text = p.b.String()
	kind := attribute(e, odfOffice, "value-type")
	if p.count == 0 {
		c.text = typed(e, kind)
	}
	if formula := attribute(e, odfTable, "formula"); formula != "" && kind == "" && c.text == "" {
		_, written, _ := strings.Cut(formula, ":") // without the prefix of its grammar
		return odsCell{text: written, bare: true}, nil
	}
	switch kind {
	case "date":
		if d := attribute(e, odfOffice, "date-value"); len(d) >= 10 {
			c.day = d[:10]
		}
	case "float":
		value := wholeNumber(attribute(e, odfOffice, "value"))
		if exponent().MatchString(c.text) || decimals().MatchString(c.text) || c.text != "" && ungrouped(c.text) == strings.TrimPrefix(value, "-") {
			c.text = value
		}
	}
	return c, nil
}

// typed is the value of a cell whose text its writer left out.
func typed(e xml.StartElement, kind string) string {
	value := attribute(e, odfOffice, "value")
	switch kind {
	case "float", "currency":
		return wholeNumber(value)
	case "percentage":
		if f, err := strconv.ParseFloat(value, 64); err == nil {
			return strconv.FormatFloat(f*100, 'f', -1, 64) + "%"
		}
		return value
	case "date":
		return attribute(e, odfOffice, "date-value")
	case "time": // a duration, such as PT08H30M00S
		text := attribute(e, odfOffice, "time-value")
		if d, err := time.ParseDuration(strings.ToLower(strings.TrimPrefix(text, "PT"))); err == nil {
			return time.Time{}.Add(d).Format(time.TimeOnly)
		}
		return text
	case "boolean":
		return strings.ToUpper(attribute(e, odfOffice, "boolean-value"))
	case "string":
		return attribute(e, odfOffice, "string-value")
	}
	return ""
}

// paragraphs gathers the text of a cell. Only text counts: not what is drawn into
// it, nor its annotation.
type paragraphs struct {
	d     *xml.Decoder
	count int
	b     strings.Builder
	blank bool // a run of blanks is one, and none at a paragraph's beginning (section 6.1.2)
}

// read reads to the end of the element that was begun last.
func (p *paragraphs) read(inside bool, depth int) error {
	for depth < deepest {
		t, err := p.d.Token()
		if err != nil {
			return err
		}
		switch t := t.(type) {
		case xml.EndElement:
			return nil
		case xml.CharData:
			if inside {
				p.write(string(t))
			}
		case xml.StartElement:
			if t.Name.Space != odfText || t.Name.Local == "note" || t.Name.Local == "ruby-text" {
				err = p.d.Skip()
			} else {
				err = p.read(p.begin(t) || inside, depth+1)
			}
			if err != nil {
				return err
			}
		}
	}
	return errDeep
}

// begin writes what an element itself stands for, and reports whether it is a paragraph.
func (p *paragraphs) begin(e xml.StartElement) bool {
	switch e.Name.Local {
	case "p", "h":
		if p.count++; p.count > 1 {
			p.b.WriteByte('\n')
		}
		p.blank = true
		return true
	case "s":
		n, err := strconv.Atoi(attribute(e, odfText, "c"))
		if err != nil {
			n = 1
		}
		p.b.WriteString(strings.Repeat(" ", min(max(n, 1), 1000)))
	case "tab":
		p.b.WriteByte('\t')
	case "line-break":
		p.b.WriteByte('\n')
	}
	return false
}

func (p *paragraphs) write(s string) {
	for _, r := range s {
		blank := r == ' ' || r == '\t' || r == '\n' || r == '\r'
		switch {
		case blank && !p.blank:
			p.b.WriteByte(' ')
		case !blank:
			p.b.WriteRune(r)
		}
		p.blank = blank
	}
}
