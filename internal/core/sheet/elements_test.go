package sheet

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is read of a part is what encoding/xml reads of it.
func FuzzElements(f *testing.F) {
	for _, content := range elementsAndTexts {
		f.Add(content)
	}
	for _, content := range neitherElementsNorTexts {
		f.Add(content)
	}
	f.Fuzz(func(t *testing.T, content string) {
		if said, err := saidByElements(content); err == nil {
			require.Equal(t, saidByXML(t, content), said, "%q", content)
		}
	})
}

var elementsAndTexts = []string{
	`<a b="1" c='"'><d/>x</a>`, "<?xml version=\"1.0\" encoding=\"utf-8\" standalone=\"yes\"?>\r\n<a x:b=\"&lt;&#65;\">R&amp;D\r\nü</a>\n",
}

var neitherElementsNorTexts = []string{
	`<a`, `<a>`, `<a b>`, `<a b=1/>`, `<a b="<"/>`, `<a b="1/>`, `<a><b></a>`, `<a></b>`, `<a>&foo;</a>`, `<a>&</a>`, `<a b="&"/>`, `<a>]]></a>`, "<a>\x01</a>", "<a>\xff</a>", "<a>\uffff</a>",
	`<?xml version="1.0" encoding="UTF-16"?><a/>`, `<?xml version="1.1"?><a/>`, `<!DOCTYPE a><a/>`, `<a><!-- b --></a>`, `<a><![CDATA[b]]></a>`, `<a/ >`, `<a b="1"/ >`, `<1/>`, `<a:b:c/>`, `<a></a b>`, `<a></a`, "<a>\x00</a>",
}

// What is no plain part is left to others, although the lexer reads on.
func TestPartsThatAreNotPlain(t *testing.T) {
	for _, content := range elementsAndTexts {
		_, err := saidByElements(content)
		assert.NoError(t, err, "%q", content)
	}
	for _, content := range neitherElementsNorTexts {
		_, err := saidByElements(content)
		assert.ErrorIs(t, err, errNotPlain, "%q", content)
	}
}

// saidByElements reads a part to its end, whatever its first element is.
func saidByElements(content string) (string, error) {
	r, err := readElements([]byte(content))
	if err != nil {
		return "", err
	}
	var said strings.Builder
	var open []string
	for {
		t, err := r.next()
		if err != nil {
			return "", err
		}
		last := len(open) - 1
		switch {
		case t.start != "":
			open = append(open, t.start)
			fmt.Fprintf(&said, "<%s", t.start)
			for _, g := range r.given {
				fmt.Fprintf(&said, " %s=%q", g.name, r.attribute(g.name))
			}
		case t.end != "":
			if last < 0 || open[last] != t.end {
				return "", errNotPlain
			}
			open = open[:last]
			fmt.Fprintf(&said, ">%s", t.end)
		case t.text != nil:
			text, err := asText(t.text)
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&said, "%q", text)
		default:
			return said.String(), errIf(len(open) > 0)
		}
	}
}

// saidByXML is the same, by the library.
func saidByXML(t *testing.T, content string) string {
	name := func(n xml.Name) string { return strings.TrimPrefix(n.Space+":"+n.Local, ":") }
	var said strings.Builder
	for d := xml.NewDecoder(strings.NewReader(content)); ; {
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			return said.String()
		}
		require.NoError(t, err, "%q", content)
		switch token := token.(type) {
		case xml.StartElement:
			fmt.Fprintf(&said, "<%s", name(token.Name))
			for _, a := range token.Attr {
				first := slices.IndexFunc(token.Attr, func(b xml.Attr) bool { return b.Name == a.Name }) // which counts
				fmt.Fprintf(&said, " %s=%q", name(a.Name), strings.NewReplacer("\t", " ", "\n", " ").Replace(token.Attr[first].Value))
			}
		case xml.EndElement:
			fmt.Fprintf(&said, ">%s", name(token.Name))
		case xml.CharData:
			fmt.Fprintf(&said, "%q", string(token))
		}
	}
}
