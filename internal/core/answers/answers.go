// Package answers is what a guest is told on its first boot: a set of files
// that its seed carries. The packages below write them for one reader each.
package answers

import "mintbatch/internal/core/machine"

// File is one file of the answers.
type File struct {
	Name    string
	Content []byte
}

// Input is what answers are made of: the machine, and the secrets that were
// made for it.
type Input struct {
	machine.Machine
	// Instance differs whenever the guest has to take itself for a new one.
	Instance string
	Secrets  Secrets
}

// Secrets are a machine's secrets as its guest gets them.
type Secrets struct {
	PasswordHash   string // crypt(5)
	HostKeyPrivate string // OpenSSH PEM
	HostKeyPublic  string
}

// Marker stands for a secret wherever people look at answers.
const Marker = "(sealed)"

// Hidden are the secrets of answers that are only looked at.
func Hidden() Secrets {
	return Secrets{PasswordHash: Marker, HostKeyPrivate: Marker, HostKeyPublic: Marker}
}
