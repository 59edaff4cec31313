// Package secret makes, hashes and seals the secrets of machines. Randomness
// comes in as a reader, so that the package itself keeps none.
package secret

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/go-crypt/crypt/algorithm/shacrypt"
	"github.com/go-crypt/x/yescrypt"

	"mintbatch/internal/core/machine"
)

// alphabet leaves out what is easily misread: 0 O o, 1 l I.
var alphabet = map[Class]string{
	"lower":  "abcdefghijkmnpqrstuvwxyz",
	"upper":  "ABCDEFGHJKLMNPQRSTUVWXYZ",
	"digit":  "23456789",
	"symbol": "+-=_.:%@",
}

// Class is a class of characters.
type Class string

// Words lists the classes.
func (Class) Words() []string { return []string{"lower", "upper", "digit", "symbol"} }

// Policy is rules for generated passwords. Its zero value is the usual
// one: 20 characters of all classes, which is 120 bits.
type Policy struct {
	Length  int     `key:"length" doc:"characters (default 20)"`
	Classes []Class `key:"classes" doc:"a password contains each of these classes: lower, upper, digit, symbol (default: all)"`
}

// The bounds of a password's length. The shortest has 50 bits or more.
const (
	usualLength    = 20
	shortestLength = 12
	longestLength  = 127 // what Windows takes
)

// ErrPolicy is what every failure of Validate unwraps to.
var ErrPolicy = errors.New("invalid password policy")

// Validate refuses a policy whose passwords could be guessed, or that no guest takes.
func (p Policy) Validate() error {
	switch {
	case p.length() < shortestLength || p.length() > longestLength:
		return fmt.Errorf("%w: %d characters; from %d to %d are allowed", ErrPolicy, p.Length, shortestLength, longestLength)
	case len(p.classes()) == 1 && p.classes()[0] == "digit":
		return fmt.Errorf("%w: digits alone are too easy to guess", ErrPolicy)
	}
	return nil
}

func (p Policy) length() int { return cmp.Or(p.Length, usualLength) }

// classes are the policy's, each once.
func (p Policy) classes() []Class {
	if len(p.Classes) == 0 {
		return []Class{"lower", "upper", "digit", "symbol"}
	}
	return slices.Compact(slices.Sorted(slices.Values(p.Classes)))
}

// Complex reports whether Windows' own rule is met: characters of three classes.
func (p Policy) Complex() bool { return len(p.classes()) >= 3 }

// NewPassword draws a password that has a character of each class.
func (p Policy) NewPassword(random io.Reader) (string, error) {
	all := ""
	for _, class := range p.classes() {
		all += alphabet[class]
	}
	for {
		word := make([]byte, p.length())
		for i := range word {
			n, err := draw(random, len(all))
			if err != nil {
				return "", err
			}
			word[i] = all[n]
		}
		if p.complete(string(word)) {
			return string(word), nil
		}
	}
}

func (p Policy) complete(word string) bool {
	for _, class := range p.classes() {
		if !strings.ContainsAny(word, alphabet[class]) {
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
			return 0, fmt.Errorf("read random bytes: %w", err)
		}
		if int(b[0]) < limit {
			return int(b[0]) % n, nil
		}
	}
}

// saltAlphabet is what crypt(3) allows in a salt.
const saltAlphabet = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// Hash makes the crypt(5) form of a password: SHA-512-crypt (`$6$`), or
// yescrypt (`$y$`).
func Hash(random io.Reader, how machine.Hash, password string) (string, error) {
	salt := make([]byte, 16)
	for i := range salt {
		n, err := draw(random, len(saltAlphabet))
		if err != nil {
			return "", err
		}
		salt[i] = saltAlphabet[n]
	}
	if how.Method == "yescrypt" {
		// j9T is what crypt(5) makes of its default cost: N = 4096, r = 32. The
		// last character of 16 stands for fewer bits than the others.
		salt[15] = saltAlphabet[strings.IndexByte(saltAlphabet, salt[15])%4]
		hashed, err := yescrypt.Hash([]byte(password), []byte("$y$j9T$"+string(salt)))
		return string(hashed), err
	}
	hasher, err := shacrypt.New(shacrypt.WithVariant(shacrypt.VariantSHA512), shacrypt.WithIterations(cmp.Or(how.Rounds, 5000)))
	if err != nil {
		return "", err
	}
	digest, err := hasher.HashWithSalt(password, salt)
	if err != nil {
		return "", err
	}
	return digest.Encode(), nil
}
