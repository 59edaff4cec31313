package secret

import (
	"errors"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// Addressee is somebody who is sent what only they can read: by an age recipient, or by an SSH key of theirs (ssh-ed25519, ssh-rsa).
type Addressee struct{ recipient age.Recipient }

// UnmarshalText reads a recipient or a public key.
func (a *Addressee) UnmarshalText(text []byte) (err error) {
	key := strings.TrimSpace(string(text))
	if strings.HasPrefix(key, "ssh-") {
		a.recipient, err = agessh.ParseRecipient(key)
	} else {
		a.recipient, err = age.ParseX25519Recipient(key)
	}
	if err != nil {
		return errors.New("it is neither an age recipient (age1...) nor an SSH public key (ssh-ed25519, ssh-rsa)")
	}
	return nil
}

// Expects describes an addressee.
func (Addressee) Expects() string {
	return "an age recipient (age1...) or an SSH public key (ssh-ed25519, ssh-rsa)"
}

// Seal encrypts a text so that only the addressee can read it, in age's armored form.
func (a Addressee) Seal(text string) (string, error) { return Recipients{a.recipient}.Seal(text) }
