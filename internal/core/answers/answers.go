// Package answers is what a guest is told on its first boot: a set of files
// that its seed carries. The packages below write them for one reader each.
package answers

import (
	"fmt"
	"strings"

	"mintbatch/internal/core/machine"
)

// File is one file of the answers.
type File struct {
	Name    string
	Content []byte
}

// Input is what answers are made of: the machine, with the sealed values that
// it refers to, and the secrets that were made for it.
type Input struct {
	machine.Machine
	// Instance differs whenever the guest has to take itself for a new one.
	Instance string
	Secrets  Secrets
	// Home is the address, with its token, to which the guest reports once; empty if it
	// does not.
	Home string
}

// Secrets are a machine's secrets as its guest gets them.
type Secrets struct {
	Hashes          map[string]string // crypt(5), by login
	Clear           map[string]string // passwords by login, for guests that take no hash
	HostKeyPrivate  string            // OpenSSH PEM
	HostKeyPublic   string
	HostCertificate string // of the setup's authority, if it has one
	Account         string // the password of the machine's account in the domain that it joins
}

// Words writes each of a list as text.
func Words[T fmt.Stringer](all []T) []string {
	words := make([]string, len(all))
	for i, v := range all {
		words[i] = v.String()
	}
	return words
}

// ShellQuoted is a word of a POSIX shell that stands for just this text.
func ShellQuoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Marker stands for a secret wherever people look at answers.
const Marker = "(sealed)"

// Hidden are the secrets of answers that are only looked at, and the machine
// with every sealed value hidden that it refers to.
func Hidden(m machine.Machine, instance string) Input {
	in := Input{Machine: m, Instance: instance}
	in.Guest, _ = m.Guest.Unsealed(func(string) (string, error) { return Marker, nil })
	in.Secrets = Secrets{Hashes: map[string]string{}, Clear: map[string]string{}, HostKeyPrivate: Marker, HostKeyPublic: Marker}
	if m.Guest.Joins != "" {
		in.Secrets.Account = Marker
	}
	if m.Guest.Confirm == machine.CallHome {
		in.Home = Marker
	}
	for _, a := range m.Guest.Accounts() {
		if a.Password != machine.NoPassword {
			in.Secrets.Hashes[a.User], in.Secrets.Clear[a.User] = Marker, Marker
		}
	}
	return in
}
