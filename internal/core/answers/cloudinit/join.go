package cloudinit

import (
	"encoding/base64"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
)

// partTypes reports what a part of user data is by how it begins (cloud-init:
// "User data formats").
var partTypes = []struct{ begin, kind string }{
	{"#cloud-config-archive", "text/cloud-config-archive"},
	{"#cloud-config", "text/cloud-config"},
	{"#cloud-boothook", "text/cloud-boothook"},
	{"#include-once", "text/x-include-once-url"},
	{"#include", "text/x-include-url"},
	{"#part-handler", "text/part-handler"},
	{"## template: jinja", "text/jinja2"},
	{"#!", "text/x-shellscript"},
}

// PartType returns the MIME type of a part of user data; empty if cloud-init
// knows none that begins so.
func PartType(part string) string {
	for _, t := range partTypes {
		if strings.HasPrefix(part, t.begin) {
			return t.kind
		}
	}
	return ""
}

// mergeRule lays our cloud-config under the user's, and an earlier one of the
// user's under a later one: lists are joined in the order of the parts,
// mappings key by key, and of a single value the latest counts. A part that
// says how it wants to be merged is left to it.
const mergeRule = "list(prepend)+dict(no_replace,recurse_list)+str()"

// joined makes one multi-part document (RFC 2046, section 5.1.3) of our
// cloud-config and the user's parts. cloud-init lays each cloud-config over
// those before it and, by the rule, keeps what is there; so the one that counts
// most comes first.
func joined(own string, parts []string) []byte {
	var configs, others []string
	for _, p := range append([]string{own}, parts...) {
		if PartType(p) == "text/cloud-config" {
			configs = append(configs, p)
		} else {
			others = append(others, p)
		}
	}
	slices.Reverse(configs)
	all := append(configs, others...)
	boundary := fmt.Sprintf("part-%08x", crc32.ChecksumIEEE([]byte(strings.Join(all, "\x00"))))
	var b strings.Builder
	fmt.Fprintf(&b, "Content-Type: multipart/mixed; boundary=%q\nMIME-Version: 1.0\n", boundary)
	for i, p := range all {
		kind := PartType(p)
		encoding, body := "7bit", p
		if !isPlain(p) {
			encoding, body = "base64", folded(base64.StdEncoding.EncodeToString([]byte(p)))
		}
		fmt.Fprintf(&b, "\n--%s\nContent-Type: %s; charset=\"utf-8\"\nMIME-Version: 1.0\nContent-Transfer-Encoding: %s\n"+
			"Content-Disposition: attachment; filename=\"part-%03d\"\n", boundary, kind, encoding, i+1)
		if kind == "text/cloud-config" {
			fmt.Fprintf(&b, "Merge-Type: %s\n", mergeRule)
		}
		b.WriteString("\n" + body)
	}
	fmt.Fprintf(&b, "\n--%s--\n", boundary)
	return []byte(b.String())
}

// isPlain reports whether a part can stand as it is (RFC 2045, section 2.7): ASCII
// in lines, none of them too long. Readers then see what it says.
func isPlain(s string) bool {
	for line := range strings.Lines(s) {
		if len(line) > 998 {
			return false
		}
	}
	return strings.IndexFunc(s, func(r rune) bool { return r != '\n' && r != '\t' && (r < ' ' || r > '~') }) < 0
}

// folded breaks base64 into lines (RFC 2045, section 6.8).
func folded(encoded string) string {
	var b strings.Builder
	for len(encoded) > 76 {
		b.WriteString(encoded[:76] + "\n")
		encoded = encoded[76:]
	}
	return b.String() + encoded + "\n"
}
