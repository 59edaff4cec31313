package inspect

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-crypt/crypt/algorithm/shacrypt"
	"github.com/go-crypt/x/yescrypt"

	"mintbatch/internal/core/pattern"
)

// mostLogins bounds for how many logins passwords are tried.
const mostLogins = 20

// logins looks at the passwords of logins (shadow(5)).
func (i *Inspection) logins(g *guest) {
	tried := 0
	for _, line := range lines(g.text("/etc/shadow")) {
		fields := strings.Split(line, ":")
		if len(fields) < 2 {
			continue
		}
		name, hash := fields[0], fields[1]
		if strings.HasPrefix(hash, "$") {
			tried++
		}
		switch {
		case hash == "":
			i.add("left-empty-password", name)
		case hash[0] != '$': // locked, or of a kind that no system takes any more
		case tried <= mostLogins && guessed(name, hash):
			i.add("left-known-password", name)
		default:
			i.add("left-passwords", name)
		}
	}
}

var rounds = pattern.Lazy(`^\$[56]\$rounds=(\d+)\$`)

// guessed reports whether a hash is that of a password that everybody tries first. A hash that
// takes long to try is not tried.
func guessed(name, hash string) bool {
	tried := []string{name, "password", "passw0rd", "changeme", "admin", "root", "toor", "secret", "welcome", "123456", "letmein"}
	matches := func(string) bool { return false }
	switch {
	case strings.HasPrefix(hash, "$y$j9T$"):
		matches = func(password string) bool {
			setting := hash[:strings.LastIndexByte(hash, '$')]
			again, err := yescrypt.Hash([]byte(password), []byte(setting))
			return err == nil && string(again) == hash
		}
	case strings.HasPrefix(hash, "$5$") || strings.HasPrefix(hash, "$6$"):
		if m := rounds().FindStringSubmatch(hash); m != nil {
			if n, err := strconv.Atoi(m[1]); err != nil || n > 20_000 {
				return false
			}
		}
		digest, err := shacrypt.Decode(hash)
		if err != nil {
			return false
		}
		matches = digest.Match
	}
	return slices.ContainsFunc(tried, matches)
}
