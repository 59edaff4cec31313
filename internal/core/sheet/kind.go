package sheet

import (
	"archive/zip"
	"bytes"
	"strings"
	"unicode/utf8"
)

// Kind is the form of a sheet's file.
type Kind string

// The kinds of sheet that are read.
const (
	CSV  Kind = "csv" // values separated by commas, semicolons or tabs
	XLSX Kind = "xlsx"
	ODS  Kind = "ods"
	JSON Kind = "json" // a list, or JSON Lines
	YAML Kind = "yaml"

	locked  Kind = "locked"
	damaged Kind = "damaged"
	archive Kind = "archive"
	binary  Kind = "binary"
)

var readers = map[Kind]func(Source) ([]grid, *broken){
	CSV: readCSV, XLSX: readXLSX, ODS: readODS, JSON: readJSON, YAML: readYAML,
}

// ParseKind reads the name of a kind; tsv is a CSV whose separator is a tab.
func ParseKind(s string) (Kind, bool) {
	k := Kind(strings.ToLower(s))
	switch k {
	case "tsv":
		return CSV, true
	case "jsonl":
		return JSON, true
	}
	_, ok := readers[k]
	return k, ok
}

func (k Kind) refusal() string {
	switch k {
	case locked:
		return "the workbook has a password, or is of the old binary form"
	case damaged:
		return "the workbook is damaged, perhaps cut short"
	case archive:
		return "the file is an archive, but not a workbook that this program reads"
	}
	return "the file is not a sheet"
}

// KindOf tells a sheet's kind by its content: names lie.
func KindOf(content []byte) Kind {
	switch {
	case bytes.HasPrefix(content, []byte("PK\x03\x04")):
		return zipKind(content)
	case bytes.HasPrefix(content, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")):
		return locked // the container of encrypted workbooks and of old binary ones
	}
	text, ok := decode(content)
	if !ok {
		return binary
	}
	head := strings.TrimLeft(text[:min(len(text), 4096)], " \t\r\n")
	first, _, _ := strings.Cut(head, "\n")
	switch {
	case strings.HasPrefix(head, "{") || strings.HasPrefix(head, "[") && strings.ContainsAny(head, "{]") && !strings.ContainsAny(first, ",;\t"):
		return JSON
	case strings.HasPrefix(head, "[{"), strings.HasPrefix(head, "[ {"):
		return JSON
	case strings.HasPrefix(head, "---"), strings.HasPrefix(head, "- ") && strings.Contains(head, ":"), strings.HasPrefix(head, "machines:"):
		return YAML
	}
	return CSV
}

func zipKind(content []byte) Kind {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return damaged
	}
	for _, f := range z.File {
		switch {
		case strings.HasPrefix(f.Name, "xl/"):
			return XLSX
		case f.Name == "content.xml":
			return ODS
		}
	}
	return archive
}

// looksBinary tells whether text holds what no sheet does.
func looksBinary(text string) bool {
	head := text[:min(len(text), 4096)]
	odd := 0
	for _, r := range head {
		if r == 0 || r == utf8.RuneError || r < ' ' && !strings.ContainsRune("\t\n\r\f\x1b\x1a", r) {
			odd++
		}
	}
	return odd*20 > len(head)
}
