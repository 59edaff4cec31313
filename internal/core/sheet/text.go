package sheet

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// decode turns a text file into UTF-8: UTF-8 and UTF-16 with or without a
// byte-order mark, else Windows-1252, in which every old CSV is. It is not ok
// for what is no text at all.
func decode(content []byte) (text string, ok bool) {
	switch {
	case bytes.HasPrefix(content, []byte("\xef\xbb\xbf")):
		content = content[3:]
	case bytes.HasPrefix(content, []byte("\xff\xfe")), bytes.HasPrefix(content, []byte("\xfe\xff")):
		return utf16(content, unicode.LittleEndian)
	case zeros(content, 1) && !zeros(content, 0):
		return utf16(content, unicode.LittleEndian)
	case zeros(content, 0) && !zeros(content, 1):
		return utf16(content, unicode.BigEndian)
	}
	if utf8.Valid(content) {
		return string(content), !looksBinary(string(content))
	}
	decoded, err := charmap.Windows1252.NewDecoder().Bytes(content)
	if err != nil || looksBinary(string(decoded)) || strings.ContainsRune(string(decoded[:min(len(decoded), 4096)]), 0) {
		return "", false
	}
	return string(decoded), true
}

func utf16(content []byte, order unicode.Endianness) (string, bool) {
	decoded, err := unicode.UTF16(order, unicode.UseBOM).NewDecoder().Bytes(content)
	return string(decoded), err == nil && !looksBinary(string(decoded))
}

// zeros tells whether, of the first bytes, most of those at even (0) or odd (1)
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
