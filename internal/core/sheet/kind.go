package sheet

import (
	"archive/zip"
	"bytes"
	"strings"
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
	oldForm Kind = "old form"
	damaged Kind = "damaged"
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
		return "the workbook has a password"
	case oldForm:
		return "the workbook has a password, or is in the old binary format"
	case damaged:
		return "the workbook is damaged, perhaps cut short"
	case binary:
		return "the file is not a sheet"
	}
	return "the file is not a sheet, but " + string(k)
}

// KindOf determines a sheet's kind from its content, since names may be wrong.
func KindOf(content []byte) Kind {
	if bytes.HasPrefix(content, []byte("PK\x03\x04")) {
		return zipKind(content)
	}
	if k := other(content); k != "" {
		return k
	}
	text, ok := decode(content)
	if !ok {
		return binary
	}
	head := strings.TrimLeft(text[:min(len(text), 4096)], " \t\r\n")
	first, _, _ := strings.Cut(head, "\n")
	switch {
	case markup(head) != "":
		return markup(head)
	case strings.HasPrefix(head, "{\\rtf"):
		return "a document in RTF"
	case strings.HasPrefix(head, "{") || strings.HasPrefix(head, "[") && strings.ContainsAny(head, "{]") && !strings.ContainsAny(first, ",;\t"):
		return JSON
	case strings.HasPrefix(head, "[{"), strings.HasPrefix(head, "[ {"):
		return JSON
	case strings.HasPrefix(head, "---"), strings.HasPrefix(head, "- ") && strings.Contains(head, ":"), strings.HasPrefix(head, "machines:"):
		return YAML
	}
	return CSV
}

// others are kinds of file that somebody may take for a sheet, and how they begin.
var others = []struct {
	begins string
	kind   Kind
}{
	{"%PDF", "a PDF document"}, {"\x7fELF", "a program"}, {"MZ", "a program"}, {"SQLite format 3\x00", "a SQLite database"}, {"\x1f\x8b", "a compressed file (gzip)"},
	{"BZh", "a compressed file (bzip2)"}, {"\xfd7zXZ", "a compressed file (xz)"}, {"(\xb5/\xfd", "a compressed file (zstd)"}, {"7z\xbc\xaf'", "an archive (7z)"}, {"Rar!", "an archive (RAR)"},
	{"\x89PNG", "a picture"}, {"\xff\xd8\xff", "a picture"}, {"GIF8", "a picture"}, {"PAR1", "a Parquet file"}, {"age-encryption.org/", "an encrypted file (age)"},
	{"-----BEGIN AGE ENCRYPTED", "an encrypted file (age)"}, {"-----BEGIN PGP", "an encrypted file (PGP)"}, {"QFI\xfb", "a disk image"},
}

func other(content []byte) Kind {
	for _, o := range others {
		if bytes.HasPrefix(content, []byte(o.begins)) && (o.begins != "MZ" || bytes.IndexByte(content, 0) >= 0) {
			return o.kind
		}
	}
	if !bytes.HasPrefix(content, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")) {
		return ""
	}
	// The container of many forms; which one it is stands in its folder, in UTF-16.
	for _, o := range []struct {
		stream string
		kind   Kind
	}{{"EncryptedPackage", locked}, {"Workbook", "a workbook in the old binary format (XLS)"}, {"Book", "a workbook in the old binary format (XLS)"},
		{"WordDocument", "a text document (DOC)"}, {"PowerPoint Document", "a presentation (PPT)"}, {"__nameid_version1.0", "a mail (MSG)"}} {
		var name []byte
		for _, c := range []byte(o.stream) {
			name = append(name, c, 0)
		}
		if bytes.Contains(content, name) {
			return o.kind
		}
	}
	return oldForm
}

// markup names a text that is of some markup language; empty for any other.
func markup(head string) Kind {
	lower := strings.ToLower(head)
	switch {
	case !strings.HasPrefix(head, "<"):
		return ""
	case strings.Contains(head, "urn:schemas-microsoft-com:office:spreadsheet"):
		return "a workbook in the old XML format (SpreadsheetML)"
	case strings.Contains(head, "urn:oasis:names:tc:opendocument:xmlns:office"):
		return "a flat OpenDocument file"
	case strings.HasPrefix(lower, "<!doctype html"), strings.Contains(lower, "<html"), strings.HasPrefix(lower, "<table"):
		return "a web page (HTML)"
	}
	return "an XML document"
}

func zipKind(content []byte) Kind {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return damaged
	}
	has := map[string]bool{}
	for _, f := range z.File {
		folder, _, _ := strings.Cut(f.Name, "/")
		has[f.Name], has[folder+"/"] = true, true
	}
	mime, _ := part(z, "mimetype")
	switch text := strings.TrimSpace(string(mime)); {
	case has["xl/workbook.bin"]:
		return "a binary workbook (XLSB)"
	case has["xl/"]:
		return XLSX
	case has["content.xml"] && (text == "" || strings.Contains(text, "opendocument.spreadsheet")):
		return ODS
	case has["content.xml"]:
		return "an OpenDocument file, but not a spreadsheet"
	case has["word/"]:
		return "a text document (DOCX)"
	case has["ppt/"]:
		return "a presentation (PPTX)"
	case has["Index/"] || has["Index.zip"]:
		return "a workbook of Numbers"
	}
	return "an archive (ZIP), and not a workbook"
}

// looksBinary reports whether text holds what no sheet does.
func looksBinary(text string) bool {
	head := text[:min(len(text), 4096)]
	odd := 0
	for _, r := range head {
		if r < ' ' && !strings.ContainsRune("\t\n\r\f\x1b\x1a", r) {
			odd++
		}
	}
	return odd*20 > len(head)
}
