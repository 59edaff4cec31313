// Package secret makes, hashes and seals the secrets of machines. Randomness
// comes in as a reader, so that the package itself keeps none.
package secret

import (
	"fmt"
	"io"
	"strings"

	"github.com/go-crypt/crypt/algorithm/shacrypt"
)

// alphabet leaves out what is easily misread: 0 O o, 1 l I.
var alphabet = [...]string{
	"abcdefghijkmnpqrstuvwxyz",
	"ABCDEFGHJKLMNPQRSTUVWXYZ",
	"23456789",
	"+-=_.:%@",
}

// passwordLength gives, with 64 characters to choose from, 120 bits.
const passwordLength = 20

// NewPassword draws a password that has a character of each class.
func NewPassword(random io.Reader) (string, error) {
	all := strings.Join(alphabet[:], "")
	for {
		word := make([]byte, passwordLength)
		for i := range word {
			n, err := draw(random, len(all))
			if err != nil {
				return "", err
			}
			word[i] = all[n]
		}
		if complete(string(word)) {
			return string(word), nil
		}
	}
}

func complete(word string) bool {
	for _, class := range alphabet {
		if !strings.ContainsAny(word, class) {
			return false
		}
	}
	return true
}

// draw picks a number below n, n at most 256, without favouring any.
func draw(random io.Reader, n int) (int, error) {
	limit := 256 - 256%n
	var b [1]byte
	for {
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return 0, fmt.Errorf("draw randomness: %w", err)
		}
		if int(b[0]) < limit {
			return int(b[0]) % n, nil
		}
	}
}

// saltAlphabet is what crypt(3) allows in a salt.
const saltAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// Hash makes the SHA-512-crypt form of a password (crypt(5), `$6$`).
func Hash(random io.Reader, password string) (string, error) {
	salt := make([]byte, 16)
	for i := range salt {
		n, err := draw(random, len(saltAlphabet))
		if err != nil {
			return "", err
		}
		salt[i] = saltAlphabet[n]
	}
	hasher, err := shacrypt.New(shacrypt.WithVariant(shacrypt.VariantSHA512), shacrypt.WithIterations(5000))
	if err != nil {
		return "", err
	}
	digest, err := hasher.HashWithSalt(password, salt)
	if err != nil {
		return "", err
	}
	return digest.Encode(), nil
}
