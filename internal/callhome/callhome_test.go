package callhome

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/run"
)

const whole = `{"hostname": "bms-tide-01", "fqdn": "bms-tide-01.brackwater.example", "addresses": {"02:00:00:00:00:01": ["198.51.100.7/24"]}, "logins": ["survey"], "host_key": "ssh-ed25519 AAAA", "errors": ["x"], "finished": false, "partial": "nothing"}`

// Only a guest that is waited for is heard, with whatever it says of itself, and its first word
// counts.
func TestListener(t *testing.T) {
	var kept []*contract.Report
	var broken error
	take := func(_ context.Context, digest string, report *contract.Report) (bool, error) {
		if digest != run.TokenDigest("c0ffee") || broken != nil {
			return false, broken
		}
		kept = append(kept, report)
		return true, nil
	}
	l, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"), take, nil)
	require.NoError(t, err)
	defer l.Close()
	_, err = Listen(l.Address, take, nil)
	assert.ErrorContains(t, err, "cannot listen at "+l.Address.String()+" for guests that call home")
	send := func(method, path, kind, body string) int {
		req, err := http.NewRequest(method, fmt.Sprintf("http://%s%s", l.Address, path), strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", kind)
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	for _, c := range []struct {
		method, path, kind, body string
		status                   int
	}{
		{"POST", "/v1/home/beef", "application/json", whole, 403},
		{"POST", "/v1/home/", "application/json", whole, 404},
		{"POST", "/", "application/json", whole, 404},
		{"GET", "/v1/home/c0ffee", "", "", 405},
		{"POST", "/v1/home/c0ffee", "application/json", "{", 400},
		{"POST", "/v1/home/c0ffee", "application/json", `{"fqdn": "x"}`, 400},
		{"POST", "/v1/home/c0ffee", "text/plain", whole, 400},
		{"POST", "/v1/home/c0ffee", "", whole, 400},
		{"POST", "/v1/home/c0ffee", "application/json", strings.Repeat(" ", mostReport+1), 413},
	} {
		assert.Equal(t, c.status, send(c.method, c.path, c.kind, c.body), "%s %s %.20s", c.method, c.path, c.body)
	}
	assert.Empty(t, kept)
	broken = errors.New("the ledger is away")
	assert.Equal(t, 503, send("POST", "/v1/home/c0ffee", "application/json", whole), "it calls again")
	broken = nil
	assert.Equal(t, 204, send("POST", "/v1/home/c0ffee", "application/json", whole))
	assert.Equal(t, 204, send("POST", "/v1/home/c0ffee", "application/x-www-form-urlencoded; charset=utf-8",
		"pub_key_ed25519=ssh-ed25519+AAAA+root%40x&instance_id=i-1&hostname=bms-tide-01.brackwater.example&fqdn=bms-tide-01.brackwater.example"))
	require.Len(t, kept, 2)
	assert.Equal(t, &contract.Report{Hostname: "bms-tide-01", FQDN: "bms-tide-01.brackwater.example", Addresses: map[string][]string{"02:00:00:00:00:01": {"198.51.100.7/24"}},
		Logins: []string{"survey"}, HostKey: "ssh-ed25519 AAAA", Errors: []string{"x"}, Finished: true}, kept[0])
	assert.Equal(t, &contract.Report{Hostname: "bms-tide-01", FQDN: "bms-tide-01.brackwater.example", Instance: "i-1", HostKey: "ssh-ed25519 AAAA", Finished: true,
		Partial: "it has told its names and host key only"}, kept[1], "as cloud-init's own module writes it")
}

func FuzzParse(f *testing.F) {
	f.Add("application/json", []byte(whole))
	f.Add("application/x-www-form-urlencoded", []byte("hostname=x&pub_key_ed25519=a"))
	f.Fuzz(func(t *testing.T, kind string, body []byte) {
		report, err := Parse(kind, bytes.Clone(body))
		if (err == nil) != (report != nil && report.Hostname != "" && report.Finished) {
			t.Fatalf("%v %v", report, err)
		}
	})
}
