package sheet

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// decode turns a text file into UTF-8: UTF-8 and UTF-16 with or without a
// byte-order mark, else Windows-1252, in which most old CSVs are. What is none of
// these keeps its bytes, which are reported at their cells. It is not ok for what is no
// text at all.
func decode(content []byte) (text string, ok bool) {
	text, ok, _ = decoded(content)
	if !strings.Contains(text, "\n") { // line ends of old
		text = strings.ReplaceAll(text, "\r", "\n")
	}
	return text, ok
}

func inWindows1252(content []byte) bool {
	if utf8.Valid(content) {
		return false
	}
	_, ok, windows := decoded(content)
	return ok && windows
}

// decoded also reports whether the text is taken for Windows-1252.
func decoded(content []byte) (text string, ok, windows bool) {
	switch {
	case bytes.HasPrefix(content, []byte("\xef\xbb\xbf")):
		content = content[3:]
	case bytes.HasPrefix(content, []byte("\xff\xfe")), bytes.HasPrefix(content, []byte("\xfe\xff")):
		text, ok = utf16(content, unicode.LittleEndian)
		return text, ok, false
	case zeros(content, 1) && !zeros(content, 0):
		text, ok = utf16(content, unicode.LittleEndian)
		return text, ok, false
	case zeros(content, 0) && !zeros(content, 1):
		text, ok = utf16(content, unicode.BigEndian)
		return text, ok, false
	}
	if utf8.Valid(content) || !western(content) {
		text = string(content)
		return text, !looksBinary(text), false
	}
	all, err := charmap.Windows1252.NewDecoder().Bytes(content)
	return string(all), err == nil && !looksBinary(string(all)), true
}

// western reports whether bytes that are not UTF-8 read like a text of Western Europe:
// single accented letters within words, signs between them. A text of another
// encoding does not, nor one in which a single byte is broken.
func western(content []byte) bool {
	run := 0
	for i, c := range content {
		if c < utf8.RuneSelf {
			run = 0
			continue
		}
		run++
		if r, size := utf8.DecodeRune(content[i:]); r != utf8.RuneError && size > 1 {
			return false // which is UTF-8 here
		}
		letter := c >= 0xc0 && c != 0xd7 && c != 0xf7 || strings.ContainsRune("\x8a\x8c\x8e\x9a\x9c\x9e\x9f", rune(c))
		within := i > 0 && i < len(content)-1 && isLetter(content[i-1]) && isLetter(content[i+1])
		if run > 2 || !letter && within && c != 0x92 || strings.ContainsRune("\x81\x8d\x8f\x90\x9d", rune(c)) {
			return false
		}
	}
	return true
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

func utf16(content []byte, order unicode.Endianness) (string, bool) {
	decoded, err := unicode.UTF16(order, unicode.UseBOM).NewDecoder().Bytes(content)
	return string(decoded), err == nil && !looksBinary(string(decoded))
}

// zeros reports whether, of the first bytes, most of those at even (0) or odd (1)
// places are zero, as in UTF-16 without a mark.
func zeros(content []byte, parity int) bool {
	n, zero := 0, 0
	for i := parity; i < min(len(content), 512); i += 2 {
		n++
		if content[i] == 0 {
			zero++
		}
	}
	return n > 1 && zero*10 > n*6
}
