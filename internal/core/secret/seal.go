package secret

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"
)

// ErrSealed is what every failure of Open unwraps to.
var ErrSealed = errors.New("cannot open the sealed value")

// Recipients are those who can read what is sealed.
type Recipients []age.Recipient

// AppendText adds the age recipients (age1...) of a text.
func (r *Recipients) AppendText(text string) error {
	some, err := age.ParseRecipients(strings.NewReader(text))
	if err != nil {
		return errors.New("create one with `mintbatch secret keygen FILE`")
	}
	*r = append(*r, some...)
	return nil
}

// Expects describes a recipient.
func (Recipients) Expects() string { return "an age recipient (age1...)" }

// Seal encrypts a value to all recipients, in age's armored text form.
func (r Recipients) Seal(value string) (string, error) {
	var b bytes.Buffer
	text := armor.NewWriter(&b)
	w, err := age.Encrypt(text, r...)
	if err != nil {
		return "", fmt.Errorf("seal: %w", err)
	}
	if _, err := io.WriteString(w, value); err != nil {
		return "", fmt.Errorf("seal: %w", err)
	}
	if err := errors.Join(w.Close(), text.Close()); err != nil {
		return "", fmt.Errorf("seal: %w", err)
	}
	return b.String(), nil
}

// Open decrypts a sealed value with the identities of an age identity file.
func Open(identityFile, sealed string) (string, error) {
	ids, err := age.ParseIdentities(strings.NewReader(identityFile))
	if err != nil {
		return "", fmt.Errorf("%w: the identity file holds no age identity", ErrSealed)
	}
	r, err := age.Decrypt(armor.NewReader(strings.NewReader(sealed)), ids...)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrSealed, err)
	}
	b, err := io.ReadAll(r)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrSealed, err)
	}
	return string(b), nil
}

// NewIdentity makes a key pair: the text of an identity file, and the
// recipient to name in the setup.
func NewIdentity() (file, recipient string, err error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	recipient = id.Recipient().String()
	return fmt.Sprintf("# recipient: %s\n%s\n", recipient, id), recipient, nil
}
