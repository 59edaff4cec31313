package request

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/request"
	"mintbatch/internal/mailbox"
)

// letter writes a letter of a request, to who is to have it.
func (r *round) letter(one request.Request, told request.Told, kind request.Kind, to []string, files ...request.File) (request.Letter, error) {
	l, err := told.Letter(one, kind, to, files...)
	l.Token, l.At = rand.Text(), r.now.UTC()
	return l, err
}

// deliver brings letters to whom they are for. One that cannot be delivered now stays.
func (r *round) deliver(ctx context.Context) (failed error) {
	letters, err := r.desk.Ledger.Letters(ctx)
	if err != nil {
		return err
	}
	for _, l := range letters {
		if ctx.Err() != nil {
			return errors.Join(failed, ctx.Err())
		}
		switch {
		case len(l.To) > 0:
			err = r.post(ctx, l)
		case r.desk.Setup.Requests.Sources[l.Source].IsMail():
			err = r.desk.Ledger.Delivered(ctx, l.ID) // nobody is to have it
		default:
			err = r.putDown(ctx, l)
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("%w: letter %s: %w", ErrSource, l.ID, err))
		}
	}
	return failed
}

// putDown writes a letter into the folder that its request came from.
func (r *round) putDown(ctx context.Context, l request.Letter) error {
	to, err := r.folder(l.Source)
	if err != nil {
		return err
	}
	if err := errors.Join(to.deliver(l), to.Close()); err != nil {
		return err
	}
	return r.desk.Ledger.Delivered(ctx, l.ID)
}

// post sends a letter by mail. That it is being sent is written down before the server can have taken it: if nobody lives to write down
// that it has, a copy of it which comes to a source tells so.
func (r *round) post(ctx context.Context, l request.Letter) error {
	m := r.desk.Setup.Requests.Mail
	if !l.Sending.IsZero() && time.Since(l.Sending) < m.Resends() {
		return nil
	}
	if m.Server.URL == nil {
		return errors.New("the setup has no mail server any more")
	}
	server, err := r.server(m.Server, m.MailAccess)
	if err != nil {
		return err
	}
	raw, err := r.written(l)
	if err != nil {
		return err
	}
	to := l.To
	if r.readsMail() {
		to = append([]string{m.From}, to...)
	}
	sending := l
	err = mailbox.Send(server, m.From, to, raw, func() error {
		sending.Sending = time.Now().UTC()
		mine, err := r.desk.Ledger.ChangeLetter(ctx, l, sending)
		if err == nil && !mine {
			err = errOthers
		}
		return err
	})
	switch {
	case errors.Is(err, errOthers):
		return nil
	case errors.Is(err, mailbox.ErrUnsure):
		return err
	case err != nil:
		_, undone := r.desk.Ledger.ChangeLetter(ctx, sending, l)
		return errors.Join(err, undone)
	}
	return r.desk.Ledger.Delivered(ctx, l.ID)
}

// errOthers means that somebody else sends a letter.
var errOthers = errors.New("somebody else sends it")

// readsMail reports whether a copy of what is sent comes to one of the sources.
func (r *round) readsMail() bool {
	for _, s := range r.desk.Setup.Requests.Sources {
		if s.IsMail() {
			return true
		}
	}
	return false
}

// written is a letter as a message.
func (r *round) written(l request.Letter) ([]byte, error) {
	m := r.desk.Setup.Requests.Mail
	_, domain, _ := strings.Cut(m.From, "@")
	name := m.Name
	if name == "" {
		name = "Mint Batch"
	}
	a := mail.Answer{ID: fmt.Sprintf("%s.%s.%s@%s", l.ID, l.Token, r.desk.Ledger.ID, domain), At: l.At, From: m.From, FromName: name, To: l.To, Subject: l.Subject, References: l.Thread, Text: l.Text, HTML: l.HTML}
	for _, f := range l.Files {
		a.Files = append(a.Files, mail.File{Name: f.Name, Content: f.Content})
	}
	return a.Write()
}
