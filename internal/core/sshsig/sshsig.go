// Package sshsig signs with SSH keys, in the form of OpenSSH's `ssh-keygen -Y` (OpenSSH: PROTOCOL.sshsig).
package sshsig

import (
	"crypto/sha512"
	"encoding/pem"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
)

const (
	magic    = "SSHSIG"
	pemType  = "SSH SIGNATURE"
	hashName = "sha512"
)

// ErrSignature is what every failure of Verify unwraps to.
var ErrSignature = errors.New("the signature is not valid")

// envelope is a signature as it is written, without its magic.
type envelope struct {
	Version   uint32
	PublicKey string
	Namespace string
	Reserved  string
	Hash      string
	Signature string
}

// signed is what is signed.
func signed(namespace string, message []byte) []byte {
	sum := sha512.Sum512(message)
	return append([]byte(magic), ssh.Marshal(struct{ Namespace, Reserved, Hash, Sum string }{namespace, "", hashName, string(sum[:])})...)
}

// Sign signs a message for a namespace, which says what signatures are for.
func Sign(random io.Reader, key ssh.Signer, namespace string, message []byte) ([]byte, error) {
	var made *ssh.Signature
	var err error
	if with, can := key.(ssh.AlgorithmSigner); can && key.PublicKey().Type() == ssh.KeyAlgoRSA {
		made, err = with.SignWithAlgorithm(random, signed(namespace, message), ssh.KeyAlgoRSASHA512)
	} else {
		made, err = key.Sign(random, signed(namespace, message))
	}
	if err != nil {
		return nil, err
	}
	blob := append([]byte(magic), ssh.Marshal(envelope{1, string(key.PublicKey().Marshal()), namespace, "", hashName, string(ssh.Marshal(made))})...)
	return pem.EncodeToMemory(&pem.Block{Type: pemType, Bytes: blob}), nil
}

// Verify returns the key that has signed a message for a namespace. Whether that key is to be trusted is up to its
// caller.
func Verify(namespace string, message, signature []byte) (ssh.PublicKey, error) {
	block, _ := pem.Decode(signature)
	if block == nil || block.Type != pemType || len(block.Bytes) < len(magic) || string(block.Bytes[:len(magic)]) != magic {
		return nil, fmt.Errorf("%w: it is no SSH signature", ErrSignature)
	}
	var e envelope
	if err := ssh.Unmarshal(block.Bytes[len(magic):], &e); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	switch {
	case e.Version != 1:
		return nil, fmt.Errorf("%w: it is of version %d", ErrSignature, e.Version)
	case e.Namespace != namespace:
		return nil, fmt.Errorf("%w: it is for %q", ErrSignature, e.Namespace)
	case e.Hash != hashName:
		return nil, fmt.Errorf("%w: it is of the hash %q, and not %s", ErrSignature, e.Hash, hashName)
	}
	key, err := ssh.ParsePublicKey([]byte(e.PublicKey))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	var made ssh.Signature
	if err := ssh.Unmarshal([]byte(e.Signature), &made); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	if made.Format == ssh.KeyAlgoRSA { // SHA-1
		return nil, fmt.Errorf("%w: it is of the algorithm %s, which is too weak", ErrSignature, made.Format)
	}
	if err := key.Verify(signed(namespace, message), &made); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSignature, err)
	}
	return key, nil
}
