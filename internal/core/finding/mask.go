package finding

import (
	"strings"

	"mintbatch/internal/core/pattern"
)

var (
	licenceKey = pattern.Lazy(`\b[A-Z0-9]{5}(-[A-Z0-9]{5}){4}\b`)
	// `secret:NAME` only refers to one.
	credential = pattern.Lazy(`(?i)\b((pass(word|wd|phrase)?|pwd|token|api[ _-]?key)\s*[:=]\s*\S|secret(\s*=\s*|\s*:\s+)\S)`)
)

// LooksLikeLicence reports whether a text holds a product key.
func LooksLikeLicence(s string) bool {
	return strings.Count(s, "-") >= 4 && licenceKey().MatchString(s)
}

// LooksLikeSecret reports whether a text holds what nobody should read over a
// shoulder: a private key, a credential, a product key.
func LooksLikeSecret(s string) bool {
	if len(s) < 6 {
		return false
	}
	return strings.Contains(s, "PRIVATE KEY") || strings.ContainsAny(s, ":=") && credential().MatchString(s) || LooksLikeLicence(s)
}

// Hidden stands for a value that looks like a secret.
const Hidden = "(hidden)"

// masked takes a value that looks like a secret out of a finding.
func masked(f Finding) Finding {
	if LooksLikeSecret(f.Value) {
		f.Message = strings.ReplaceAll(f.Message, f.Value, Hidden)
		f.Value = Hidden
	}
	if LooksLikeSecret(f.Message) { // a part of the value
		f.Message = "invalid value (not shown: it looks like a secret)"
	}
	return f
}
