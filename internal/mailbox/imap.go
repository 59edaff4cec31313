package mailbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/emersion/go-imap"
	"github.com/emersion/go-imap/client"

	"mintbatch/internal/core/mail"
)

// IMAP is a mailbox at a server (RFC 3501).
type IMAP struct {
	client  *client.Client
	mailbox string
}

// patience is how long a server may take for an answer.
const patience = time.Minute

// OpenIMAP connects, logs in and opens a mailbox.
func OpenIMAP(s Server, mailbox string) (*IMAP, error) {
	var c *client.Client
	var err error
	if s.URL.Scheme == "imaps" {
		c, err = client.DialTLS(s.address(), s.tls())
	} else if c, err = client.Dial(s.address()); err == nil && !s.bare() {
		err = c.StartTLS(s.tls())
	}
	if err != nil {
		return nil, err
	}
	c.Timeout = patience
	if err := c.Login(s.Login, s.Password); err != nil {
		return nil, errors.Join(fmt.Errorf("log in as %s: %w", s.Login, err), c.Terminate())
	}
	return &IMAP{c, mailbox}, nil
}

// Close ends the connection.
func (m *IMAP) Close() error {
	_ = m.client.Logout() // it is over, whatever the server says to that
	return nil
}

// Messages hands over each message, the oldest first. One that cannot be read does not keep others from being.
func (m *IMAP) Messages(ctx context.Context, each Each) (failed error) {
	status, err := m.client.Select(m.mailbox, false)
	if err != nil {
		return err
	}
	if status.Messages == 0 {
		return nil
	}
	uids, err := m.client.UidSearch(imap.NewSearchCriteria())
	if err != nil {
		return err
	}
	for _, uid := range uids {
		if ctx.Err() != nil {
			return errors.Join(failed, ctx.Err())
		}
		take, err := each(fmt.Sprintf("%d/%d", status.UidValidity, uid), func() ([]byte, error) { return m.read(uid) })
		if err == nil && take {
			err = m.put(uid)
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// only is a set of one message.
func only(uid uint32) *imap.SeqSet {
	set := &imap.SeqSet{}
	set.AddNum(uid)
	return set
}

func (m *IMAP) fetch(uid uint32, items ...imap.FetchItem) (*imap.Message, error) {
	messages := make(chan *imap.Message, 8)
	if err := m.client.UidFetch(only(uid), append(items, imap.FetchUid), messages); err != nil {
		return nil, err
	}
	for message := range messages {
		if message.Uid == uid {
			return message, nil
		}
	}
	return nil, fmt.Errorf("the server does not give message %d", uid)
}

// read reads a message, and does not mark it as seen. Of one that is too large only so much comes that this is noticed.
func (m *IMAP) read(uid uint32) ([]byte, error) {
	section := &imap.BodySectionName{Peek: true, Partial: []int{0, mail.MostBytes + 1}}
	message, err := m.fetch(uid, section.FetchItem())
	if err != nil {
		return nil, err
	}
	body := message.GetBody(section)
	if body == nil {
		return nil, fmt.Errorf("the server does not give the text of message %d", uid)
	}
	return io.ReadAll(io.LimitReader(body, mail.MostBytes+1))
}

// put moves a message into the mailbox of those that were taken, as seen.
func (m *IMAP) put(uid uint32) error {
	_ = m.client.Create(taken) // which may be there
	if err := m.client.UidStore(only(uid), imap.FormatFlagsOp(imap.AddFlags, true), []any{imap.SeenFlag}, nil); err != nil {
		return err
	}
	return m.client.UidMove(only(uid), taken)
}

// Await waits until something changes in the mailbox (IDLE, RFC 2177), a time is over, or the context ends.
func (m *IMAP) Await(ctx context.Context, limit time.Duration) error {
	if _, err := m.client.Select(m.mailbox, true); err != nil {
		return err
	}
	updates := make(chan client.Update, 64)
	m.client.Updates = updates
	m.client.Timeout = 0
	stop, done := make(chan struct{}), make(chan error, 1)
	go func() { done <- m.client.Idle(stop, nil) }()
	ended := time.After(limit)
	for {
		select {
		case update := <-updates:
			if _, is := update.(*client.MailboxUpdate); !is {
				continue
			}
		case <-ctx.Done():
		case <-ended:
		case err := <-done:
			return err
		}
		close(stop)
		select {
		case err := <-done:
			return err
		case <-time.After(patience):
			return errors.New("the server does not answer")
		}
	}
}
