// Package mail reads messages (RFC 5322, RFC 2045) as far as requests need them: whom they are from, what files they bring, and
// what their first lines say. It writes the answers.
package mail

import (
	"errors"
	"fmt"
	"io"
	"mime"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // what others write is not always UTF-8
	"github.com/emersion/go-message/mail"

	"mintbatch/internal/core/finding"
)

// The limits of a message.
const (
	MostBytes = 25 << 20
	mostParts = 200
	mostDepth = 12
	mostText  = 64 << 10
	MostFile  = 8 << 20 // of what a file brings

	// MostExpanded is what a workbook that a file brings may expand to.
	MostExpanded = 256 << 20
)

// ErrMail means that something is no message, or one beyond the limits.
var ErrMail = errors.New("it cannot be read as a message")

// File is a file that a message brings.
type File struct {
	Name    string
	Content []byte
	TooLong bool // its content is not read then
}

// Message is a message that somebody has sent.
type Message struct {
	ID         string // without its angle brackets
	From       string // the address, in lower case
	Subject    string
	References []string // the ids of the messages that it is about, the oldest first
	// Automatic is set for what no person has sent: bounces, automatic replies, lists (RFC 3834, section 2).
	Automatic bool
	Text      string // the first plain text in it
	Files     []File
	Header    message.Header
}

// Read reads a message.
func Read(from io.Reader) (*Message, error) {
	limited := &io.LimitedReader{R: from, N: MostBytes + 1}
	e, err := message.ReadWithOptions(limited, &message.ReadOptions{MaxHeaderBytes: 256 << 10})
	if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
		return nil, fmt.Errorf("%w: %w", ErrMail, err)
	}
	m := &Message{Header: e.Header}
	h := mail.Header{Header: e.Header}
	all, err := h.AddressList("From")
	if err != nil || len(all) != 1 || len(e.Header.Values("From")) != 1 {
		return nil, fmt.Errorf("%w: it does not say of one person alone that it is from them", ErrMail)
	}
	m.From = strings.ToLower(all[0].Address)
	if !strings.Contains(m.From, "@") || strings.ContainsFunc(m.From, func(r rune) bool { return r <= ' ' || r == 0x7f || r == utf8.RuneError }) || len(m.From) > 254 {
		return nil, fmt.Errorf("%w: %q is no address", ErrMail, m.From)
	}
	m.Subject, _ = h.Subject()
	m.ID, _ = h.MessageID()
	for _, key := range []string{"References", "In-Reply-To"} {
		ids, _ := h.MsgIDList(key)
		m.References = append(m.References, ids...)
	}
	m.Automatic = automatic(e.Header)
	r := reader{message: m}
	if err := r.part(e, 0); err != nil {
		return nil, err
	}
	if _, err := io.Copy(io.Discard, limited); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMail, err)
	}
	if limited.N <= 0 {
		return nil, fmt.Errorf("%w: it is larger than %d MiB", ErrMail, MostBytes>>20)
	}
	return m, nil
}

// automatic reports whether no person has sent a message.
func automatic(h message.Header) bool {
	value := func(key string) string { return strings.ToLower(strings.TrimSpace(h.Get(key))) }
	if auto := value("Auto-Submitted"); auto != "" && auto != "no" {
		return true
	}
	switch value("Precedence") {
	case "bulk", "junk", "list", "auto_reply":
		return true
	}
	for _, key := range []string{"List-Id", "List-Unsubscribe", "X-Auto-Response-Suppress", "X-Autoreply", "X-Failed-Recipients"} {
		if h.Has(key) {
			return true
		}
	}
	if kind, _, _ := mime.ParseMediaType(h.Get("Content-Type")); kind == "multipart/report" {
		return true
	}
	from := value("From")
	return h.Has("Return-Path") && value("Return-Path") == "<>" || strings.Contains(from, "mailer-daemon@") || strings.Contains(from, "postmaster@")
}

type reader struct {
	message *Message
	parts   int
}

// part reads a part with those inside of it.
func (r *reader) part(e *message.Entity, depth int) error {
	if r.parts++; r.parts > mostParts || depth > mostDepth {
		return fmt.Errorf("%w: it has more than %d parts, or parts in parts in parts", ErrMail, mostParts)
	}
	if parts := e.MultipartReader(); parts != nil {
		for {
			inner, err := parts.NextPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil && !message.IsUnknownCharset(err) && !message.IsUnknownEncoding(err) {
				return fmt.Errorf("%w: %w", ErrMail, err)
			}
			if err := r.part(inner, depth+1); err != nil {
				return err
			}
		}
	}
	kind, params, _ := e.Header.ContentType()
	name := fileName(e.Header, params)
	switch {
	case name != "":
		return r.file(e, name)
	case kind == "text/plain" && r.message.Text == "":
		text, err := io.ReadAll(io.LimitReader(e.Body, mostText))
		if err != nil {
			return fmt.Errorf("%w: %w", ErrMail, err)
		}
		r.message.Text = strings.ToValidUTF8(string(text), "?")
	}
	return nil
}

func (r *reader) file(e *message.Entity, name string) error {
	content, err := io.ReadAll(io.LimitReader(e.Body, MostFile+1))
	if err != nil {
		return fmt.Errorf("%w: %s: %w", ErrMail, name, err)
	}
	f := File{Name: name, Content: content, TooLong: len(content) > MostFile}
	if f.TooLong {
		f.Content = nil
	}
	r.message.Files = append(r.message.Files, f)
	return nil
}

// fileName is the name of a file as it may stand in a folder of ours; empty if a part is no file. RFC 2231 names are read, and
// those of programs that write them as RFC 2047 has it for text.
func fileName(h message.Header, ofType map[string]string) string {
	_, params, _ := h.ContentDisposition()
	name := params["filename"]
	if name == "" {
		name = ofType["name"]
	}
	if decoded, err := new(mime.WordDecoder).DecodeHeader(name); err == nil {
		name = decoded
	}
	name = path.Base(strings.ReplaceAll(strings.ToValidUTF8(name, "_"), `\`, "/"))
	name = strings.Map(func(r rune) rune {
		if finding.Controls(r) || strings.ContainsRune(`<>:"|?*`, r) {
			return '_'
		}
		return r
	}, name)
	name = strings.TrimLeft(strings.TrimSpace(name), ".-~")
	if runes := []rune(name); len(runes) > 80 {
		ending := path.Ext(name)
		if len(ending) > 10 {
			ending = ""
		}
		name = string(runes[:70]) + ending
	}
	if name == "/" {
		return ""
	}
	return name
}

// FirstLine is the first line that its writer has written; quoted lines are others'.
func (m *Message) FirstLine() string {
	for line := range strings.Lines(m.Text) {
		line = strings.TrimSpace(line)
		if line != "" && !strings.HasPrefix(line, ">") {
			return line
		}
	}
	return ""
}
