package request

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/mail"
	"mintbatch/internal/core/request"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/ledger"
	"mintbatch/internal/mailbox"
)

// box is a mailbox.
type box interface {
	Messages(ctx context.Context, each mailbox.Each) error
	Close() error
}

// openBox opens the mailbox of a source.
func (r *round) openBox(s setup.RequestSource) (box, error) {
	if s.Maildir != "" {
		return mailbox.OpenMaildir(r.desk.Path(s.Maildir))
	}
	server, err := r.server(s.IMAP, s.MailAccess)
	if err != nil {
		return nil, err
	}
	name := s.Mailbox
	if name == "" {
		name = "INBOX"
	}
	return mailbox.OpenIMAP(server, name)
}

// server is a mail server with the password of its login.
func (r *round) server(url setup.URL, by setup.MailAccess) (s mailbox.Server, err error) {
	s = mailbox.Server{URL: url.URL, Login: by.Login, Fingerprint: by.Fingerprint}
	if !by.Password.IsZero() {
		s.Password, err = r.desk.Vault.Resolve(by.Password)
	}
	return s, err
}

// takeMail takes messages out of a mailbox: sheets, decisions, and copies of our own letters. All others are left where they are.
func (r *round) takeMail(ctx context.Context, name string, s setup.RequestSource) error {
	b, err := r.openBox(s)
	if err != nil {
		return err
	}
	defer b.Close()
	return b.Messages(ctx, func(id string, read func() ([]byte, error)) (bool, error) {
		key := name + "\x00" + id
		if r.left[key] {
			return false, nil
		}
		raw, err := read()
		if err != nil {
			return false, err
		}
		take, err := r.takeMessage(ctx, name, s, raw)
		if errors.Is(err, errLater) {
			return false, nil
		}
		if err == nil && !take {
			if r.left == nil {
				r.left = map[string]bool{}
			}
			r.left[key] = true
		}
		return take, err
	})
}

func (r *round) takeMessage(ctx context.Context, name string, s setup.RequestSource, raw []byte) (take bool, err error) {
	m, err := mail.Read(bytes.NewReader(raw))
	if err != nil {
		return false, nil //nolint:nilerr // it is none of ours
	}
	if own, err := r.ownCopy(ctx, m); own || err != nil {
		return own, err
	}
	if m.Automatic {
		return false, nil
	}
	known, err := verified(ctx, s, m, raw)
	if err != nil || !known {
		return false, err
	}
	if decided, err := r.decideByMail(ctx, m); decided || err != nil {
		return decided, err
	}
	if extended, err := r.extendByMail(ctx, m); extended || err != nil {
		return extended, err
	}
	rule, found := r.desk.Setup.RequestRuleFor(name, m.From, m.Subject)
	sheets := slices.DeleteFunc(slices.Clone(m.Files), func(f mail.File) bool { return !r.desk.Setup.Requests.Rules[rule].Takes(f.Name) })
	if len(sheets) == 0 || !found && r.desk.Setup.Requests.Others == "" {
		return false, nil
	}
	if err := r.tooMany(ctx, m.From); err != nil {
		return false, err
	}
	a := arrival{origin: m.ID, sender: m.From, name: sheets[0].Name, content: append([]byte{}, sheets[0].Content...)}
	if a.origin == "" { // which RFC 5322 has as a should
		sum := sha256.Sum256(raw)
		a.origin = hex.EncodeToString(sum[:])
	}
	switch {
	case len(sheets) > 1:
		a.wrong = fmt.Sprintf("the mail has %s, and it is not clear which one is meant", finding.Plural(len(sheets), "sheet"))
	case sheets[0].TooLong:
		a.wrong = tooLarge
	}
	one := r.received(name, rule, a)
	one.Subject = m.Subject
	if m.ID != "" {
		one.Thread = append(m.References, m.ID)
	}
	return found, r.desk.Ledger.AddRequest(ctx, one, a.content)
}

// mostHourly is how many sheets of one sender are taken in within an hour: two programs that answer each other come to an end by it.
const mostHourly = 30

// errLater means that a message is looked at again by a later round.
var errLater = errors.New("later")

// tooMany reports, as errLater, that a sender has sent so many sheets that the next one has to wait.
func (r *round) tooMany(ctx context.Context, sender string) error {
	all, err := r.desk.Ledger.Requests(ctx)
	n := 0
	for _, one := range all {
		if one.Sender == sender && one.Source != warnings && r.now.Sub(one.Received) < time.Hour {
			n++
		}
	}
	if err == nil && n >= mostHourly {
		err = errLater
	}
	return err
}

// ownCopy reports whether a message is a copy of a letter of ours, which is known to have been sent then.
func (r *round) ownCopy(ctx context.Context, m *mail.Message) (bool, error) {
	local, _, _ := strings.Cut(m.ID, "@")
	letter, is := strings.CutSuffix(local, "."+r.desk.Ledger.ID.String())
	if !is || !strings.EqualFold(m.From, r.desk.Setup.Requests.Mail.From) {
		return false, nil
	}
	id, token, _ := strings.Cut(letter, ".")
	letters, err := r.desk.Ledger.Letters(ctx)
	if err != nil {
		return false, err
	}
	for _, l := range letters {
		if l.ID == id && l.Token == token {
			return true, r.desk.Ledger.Delivered(ctx, id)
		}
	}
	return true, nil // it was known before
}

// decideByMail takes the word of an approver: the first line of a mail is the code of a request, or no, the code and perhaps why.
func (r *round) decideByMail(ctx context.Context, m *mail.Message) (decided bool, err error) {
	words := strings.Fields(m.FirstLine())
	no := len(words) > 1 && strings.EqualFold(strings.TrimRight(words[0], ",:"), "no")
	if no {
		words = words[1:]
	}
	if len(words) == 0 || !no && len(words) > 1 {
		return false, nil
	}
	code := request.CodeDigest(words[0])
	all, err := r.desk.Ledger.Requests(ctx)
	if err != nil {
		return false, err
	}
	for _, one := range all {
		rule, known := r.rule(one)
		if !known || one.State != request.Waiting || one.Code == "" || one.Code != code || !rule.Approves(m.From) {
			continue
		}
		if no {
			_, err = r.say(ctx, one, strings.Join(words[1:], " "), m.From)
		} else {
			_, err = r.approve(ctx, one, one.Proof, m.From)
		}
		if errors.Is(err, ErrDecide) || errors.Is(err, ledger.ErrRequestChanged) {
			err = nil // whoever needs to know is asked again
		}
		return err == nil, err
	}
	return false, nil
}
