package mail

import (
	"bytes"
	"errors"
	"fmt"
	"mime"
	"path"
	"strings"
	"time"

	"github.com/emersion/go-message/mail"
)

// Answer is a message that is written by itself.
type Answer struct {
	ID         string // without angle brackets; the same each time that it is written
	At         time.Time
	From       string
	FromName   string
	To         []string
	Subject    string
	References []string // the messages that it answers, the last of them the nearest
	Text, HTML string
	Files      []File
}

// Write writes the message: its text, the same as a page, and its files. It says of itself that nobody has sent it (RFC 3834).
func (a Answer) Write() ([]byte, error) {
	var h mail.Header
	h.SetDate(a.At)
	h.SetMessageID(a.ID)
	h.SetAddressList("From", []*mail.Address{{Name: a.FromName, Address: a.From}})
	to := make([]*mail.Address, len(a.To))
	for i, address := range a.To {
		to[i] = &mail.Address{Address: address}
	}
	h.SetAddressList("To", to)
	h.SetSubject(strings.Join(strings.Fields(a.Subject), " "))
	if n := len(a.References); n > 0 {
		h.SetMsgIDList("In-Reply-To", a.References[n-1:])
		h.SetMsgIDList("References", a.References[max(0, n-20):])
	}
	h.Set("Auto-Submitted", "auto-replied")
	var b bytes.Buffer
	w, err := mail.CreateWriter(&b, h)
	if err != nil {
		return nil, err
	}
	alternatives, err := w.CreateInline()
	if err != nil {
		return nil, err
	}
	for _, part := range [][2]string{{"text/plain", a.Text}, {"text/html", a.HTML}} {
		var of mail.InlineHeader
		of.SetContentType(part[0], map[string]string{"charset": "utf-8"})
		if err := put(alternatives.CreatePart(of))([]byte(part[1])); err != nil {
			return nil, err
		}
	}
	if err := alternatives.Close(); err != nil {
		return nil, err
	}
	for _, f := range a.Files {
		var of mail.AttachmentHeader
		kind := mime.TypeByExtension(path.Ext(f.Name))
		if kind == "" {
			kind = "application/octet-stream"
		}
		of.Set("Content-Type", kind)
		of.SetFilename(f.Name)
		if err := put(w.CreateAttachment(of))(f.Content); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// put writes the content of a part and closes it.
func put(w interface {
	Write([]byte) (int, error)
	Close() error
}, err error) func([]byte) error {
	return func(content []byte) error {
		if err != nil {
			return fmt.Errorf("write a part: %w", err)
		}
		_, err := w.Write(content)
		return errors.Join(err, w.Close())
	}
}
