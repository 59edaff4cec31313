package report

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1" //nolint:gosec // what the format of hashed host names is made of
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mintbatch/internal/core/pattern"
)

// Host is a machine as SSH clients know it.
type Host struct {
	Names []string // host names and addresses
	Key   string   // the public host key, as authorized_keys has it
}

// namesALine is how many names stand in one line of an authority.
const namesALine = 100

// ErrNotKnownHosts means that a file is not one of known hosts.
var ErrNotKnownHosts = errors.New("it is not a known_hosts file and is left unchanged")

// knownHost is the form of a line: perhaps a marker, names, the kind of a key and the
// key.
var knownHost = pattern.Lazy(`^(@[a-z-]+\s+)?\S+\s+(ssh|ecdsa|sk)-\S+\s+[A-Za-z0-9+/=]+(\s|$)`)

// CheckKnownHosts refuses a file in which a line is neither empty, a comment nor a
// known host's key.
func CheckKnownHosts(old []byte) error {
	n := 0
	for line := range bytes.Lines(old) {
		n++
		if line = bytes.TrimSpace(line); len(line) == 0 || line[0] == '#' {
			continue
		}
		if !knownHost().Match(line) {
			return fmt.Errorf("%w (line %d)", ErrNotKnownHosts, n)
		}
	}
	return nil
}

// KnownHosts brings a known_hosts file (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT")
// up to date: entries for the names of the hosts go, hashed ones too, and new
// ones are added. All else in the file stays as it is. With the public key of
// an authority, its lines stand for the hosts.
func KnownHosts(old []byte, hosts []Host, authority string) []byte {
	ours := map[string]bool{}
	var names []string
	for _, h := range hosts {
		for _, name := range h.Names {
			if !ours[name] {
				ours[name] = true
				names = append(names, name)
			}
		}
	}
	var b bytes.Buffer
	for line := range bytes.Lines(old) {
		b.WriteString(without(string(line), ours, names))
	}
	if b.Len() > 0 && !bytes.HasSuffix(b.Bytes(), []byte("\n")) {
		b.WriteByte('\n')
	}
	if authority == "" {
		for _, h := range hosts {
			b.WriteString(strings.Join(h.Names, ",") + " " + key(h.Key) + "\n")
		}
		return b.Bytes()
	}
	for some := range slices.Chunk(names, namesALine) {
		b.WriteString("@cert-authority " + strings.Join(some, ",") + " " + key(authority) + "\n")
	}
	return b.Bytes()
}

// key is a public key without its comment.
func key(line string) string {
	return strings.Join(strings.Fields(line)[:2], " ")
}

// without takes the names that are ours out of a line; empty if none are left.
func without(line string, ours map[string]bool, names []string) string {
	trimmed := strings.TrimSpace(line)
	if trimmed == "" || strings.HasPrefix(trimmed, "#") {
		return line
	}
	fields := strings.Fields(trimmed)
	at := 0
	if strings.HasPrefix(fields[0], "@") {
		at = 1
	}
	if fields[0] == "@revoked" || len(fields) < at+3 {
		return line
	}
	if strings.HasPrefix(fields[at], "|1|") {
		if slices.ContainsFunc(names, func(name string) bool { return hashes(fields[at], name) }) {
			return ""
		}
		return line
	}
	all := strings.Split(fields[at], ",")
	left := slices.DeleteFunc(slices.Clone(all), func(name string) bool { return ours[strings.ToLower(name)] })
	switch len(left) {
	case len(all):
		return line
	case 0:
		return ""
	}
	fields[at] = strings.Join(left, ",")
	return strings.Join(fields, " ") + "\n"
}

// hashes reports whether a hashed host name (|1|salt|hash) is that of a name.
func hashes(hashed, name string) bool {
	parts := strings.Split(hashed, "|")
	if len(parts) != 4 {
		return false
	}
	salt, err := base64.StdEncoding.DecodeString(parts[2])
	sum, err2 := base64.StdEncoding.DecodeString(parts[3])
	if err != nil || err2 != nil {
		return false
	}
	mac := hmac.New(sha1.New, salt)
	mac.Write([]byte(name))
	return hmac.Equal(mac.Sum(nil), sum)
}
