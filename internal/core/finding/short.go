package finding

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// The most letters that a finding repeats of a value, and has in its message and its hint.
const (
	mostValue   = 256
	mostMessage = 1024
)

// shortened is a finding whose texts can be read.
func shortened(f Finding) Finding {
	f.Value, f.Message, f.Hint = short(f.Value, mostValue), short(f.Message, mostMessage), short(f.Hint, mostMessage)
	return f
}

// short leaves out the middle of a text that is longer than so many bytes. Bytes that are no UTF-8 are replaced first, so
// that a letter begins near every place.
func short(s string, most int) string {
	if len(s) > most {
		s = strings.ToValidUTF8(s, string(utf8.RuneError))
	}
	if len(s) <= most {
		return s
	}
	from, to := most*2/3, len(s)-most/3
	for !utf8.RuneStart(s[from]) {
		from--
	}
	for !utf8.RuneStart(s[to]) {
		to++
	}
	return s[:from] + fmt.Sprintf(" ... (%d characters left out) ... ", utf8.RuneCountInString(s[from:to])) + s[to:]
}
