package libvirt

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A URI does not switch off the check of who is at the other end, and names no
// parameter that nobody heeds.
func TestParametersOfURIs(t *testing.T) {
	for uri, says := range map[string]string{
		"qemu+ssh://h/system?no_verify=1":                "disables host key checking",
		"qemu+ssh://h/system?known_hosts_verify=ignore":  "disables host key checking",
		"qemu+ssh://h/system?known_hosts_verify=auto":    "disables host key checking",
		"qemu+tls://h/system?no_verify=1":                "disables host key checking",
		"qemu+ssh://h/system?keyfile=/not/there":         "names keyfile /not/there, which cannot be read: no such file",
		"qemu+ssh://h/system?known_hosts=/not/there":     "names known_hosts /not/there, which cannot be read: no such file",
		"qemu:///system?sockt=/run/x":                    `unknown parameter "sockt" (known: socket)`,
		"qemu+ssh://h/system?keyfile=/dev/null&mode=any": `unknown parameter "mode"`,
	} {
		parsed, err := url.Parse(uri)
		require.NoError(t, err)
		_, err = newHost("quay-1", Address{URL: parsed}, nil)
		assert.ErrorContains(t, err, says, uri)
	}
	parsed, err := url.Parse("qemu+ssh://h/system?known_hosts_verify=normal&socket=/run/x")
	require.NoError(t, err)
	_, err = newHost("quay-1", Address{URL: parsed}, nil)
	assert.NoError(t, err)
}
