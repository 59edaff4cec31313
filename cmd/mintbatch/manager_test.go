package main

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/secret"
	"mintbatch/internal/handover"
	"mintbatch/internal/sandbox"
)

// misbehaving lays out a demo whose sites are a manager in another language, which
// misbehaves.
func misbehaving(t *testing.T, mode, plain string) (dir string) {
	t.Helper()
	dir = t.TempDir()
	_, err := sandbox.Open(sandbox.Options{Dir: filepath.Join(dir, "sandbox"), Plan: sandbox.DemoPlan()}) // makes key and token
	require.NoError(t, err)
	certificate, key := filepath.Join(dir, "sandbox", "certificate.pem"), filepath.Join(dir, "sandbox", "key.pem")
	pair, err := tls.LoadX509KeyPair(certificate, key)
	require.NoError(t, err)
	c := exec.Command("/usr/bin/python3", "testdata/manager.py", mode, certificate, key, plain)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	require.NoError(t, handover.WriteDemo(dir, handover.Demo{URL: "https://127.0.0.1:" + strings.TrimSpace(port), Fingerprint: secret.FingerprintOf(pair.Certificate[0]).String(), DNS: "127.0.0.1:9"}))
	return dir
}

// hostile finds what must not reach a terminal.
func hostile(out string) string {
	for _, r := range out {
		if r != '\n' && !unicode.IsPrint(r) {
			return fmt.Sprintf("%U", r)
		}
	}
	return ""
}

// A manager that misbehaves is reported as that, and gets nothing.
func TestMisbehavingManagers(t *testing.T) {
	t.Parallel()
	var got atomic.Int32
	plain := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got.Add(1) }))
	defer plain.Close()
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(plain.URL, "http://"))
	for mode, says := range map[string]string{"redirect": `it redirects to "http://127.0.0.1:` + port + `/plain", which is not followed`, "bomb": "more than 256 MiB",
		"deep": "nested deeper than 64", "many": "300000 in one list", "refuse": `x\u001b[2J\u001b]0;owned\u0007\u202e\u009b31m mint 300 done`} {
		t.Run(mode, func(t *testing.T) {
			t.Parallel()
			c := exec.Command("mintbatch", "survey")
			c.Dir = misbehaving(t, mode, port)
			out, err := c.CombinedOutput()
			require.Error(t, err)
			assert.Contains(t, string(out), says)
			assert.Empty(t, hostile(string(out)))
			if usage, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
				assert.Less(t, usage.Maxrss, int64(1200<<10), "KiB of memory")
			}
		})
	}
	t.Cleanup(func() { assert.Zero(t, got.Load(), "the redirect was followed") })
}

// One that does not answer is waited for with signs of life, and Ctrl-C ends that.
func TestManagersThatDoNotAnswer(t *testing.T) {
	t.Parallel()
	for _, mode := range []string{"silent", "drip", "later"} {
		t.Run(mode, func(t *testing.T) {
			t.Parallel()
			c := exec.Command("mintbatch", "survey")
			c.Dir = misbehaving(t, mode, "1")
			var said writer
			c.Stdout, c.Stderr = &said, &said
			require.NoError(t, c.Start())
			require.Eventually(t, func() bool { return strings.Contains(said.String(), "site quay has not answered for 10s") }, 20*time.Second, 100*time.Millisecond, said.String())
			began := time.Now()
			require.NoError(t, c.Process.Signal([]os.Signal{syscall.SIGINT, syscall.SIGTERM}[len(mode)%2]))
			_ = c.Wait()
			assert.Less(t, time.Since(began), 2*time.Second)
			assert.Equal(t, 130, c.ProcessState.ExitCode(), said.String())
		})
	}
}

// Text of a site is made visible, wherever it is shown.
func TestHostileTextOfASite(t *testing.T) {
	t.Parallel()
	dir := misbehaving(t, "evil", "1")
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	// One of the two sites is another that cannot be reached.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mintbatch.yaml"), []byte(regexp.MustCompile(`/vessel\b`).ReplaceAllString(string(setup), "/quay")), 0o600))
	for _, args := range [][]string{{"survey"}, {"template", "list"}, {"template", "show", "deb12-base"}, {"proof"}, {"ledger", "rebuild"}, {"list"}, {"list", "--offline"}, {"show", "*"}, {"verify"},
		{"proof"}, {"history"}, {"runs"}, {"runs", "show"}, {"pool", "show", "nodes"}, {"sweep", "--list"}, {"retire", "--strays", "--yes"}, {"accept", "bms-1*", "--yes"}, {"mint", "--yes"}, {"secret", "list"},
		{"ledger", "check"}, {"show", "bms-1*"}, {"report", "--known-hosts", "hosts"}, {"history"}} {
		for _, how := range [][]string{nil, {"--json"}, {"--plain"}, {"--verbose"}} {
			out, _ := command(t, dir, "mintbatch", append(how, args...)...)
			assert.Empty(t, hostile(out), "%v %v: %q", how, args, out)
			for line := range strings.Lines(out) {
				assert.False(t, strings.HasPrefix(line, "mint 300"), "%v %v: %q", how, args, out)
			}
		}
	}
	out, _ := command(t, dir, "mintbatch", "survey")
	assert.Contains(t, out, `x\u001b[2J`)
	odd := "x\x1b[2J\u202e\u009b.csv"
	for _, content := range []string{"", "machine\nbms-1,\x1b]0;x\x07\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, odd), []byte(content), 0o600))
		for _, args := range [][]string{{"check", "--sheet", odd}, {"check", "--json", "--sheet", odd}, {"check", "--sheet", odd + "-not"}, {"show", odd}, {"--setup", odd, "check"}, {odd}, {"check", "--" + odd}} {
			out, err := command(t, dir, "mintbatch", args...)
			require.Error(t, err, args)
			assert.Empty(t, hostile(out), "%v: %q", args, out)
		}
	}
}

// What does not end of itself ends at once when it is told to.
func TestAFileThatDoesNotEnd(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 200)
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	out, err := command(t, dir, "mintbatch", "--setup", pipe, "check")
	require.Error(t, err)
	assert.Contains(t, out, "it is not a regular file")
	out, err = command(t, dir, "mintbatch", "check", "--sheet", "/dev/zero")
	require.Error(t, err)
	assert.Contains(t, out, "it is not a regular file")
	c := exec.Command("mintbatch", "pool", "import", pipe)
	c.Dir = dir
	require.NoError(t, c.Start())
	time.Sleep(300 * time.Millisecond)
	began := time.Now()
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	_ = c.Wait()
	assert.Less(t, time.Since(began), 4*time.Second)
}

// A certificate that has expired, or is another host's, is reported as that.
func TestCertificatesOfAuthorities(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "test authority"}, NotBefore: time.Now().Add(-time.Hour * 9999), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	root, err := x509.CreateCertificate(rand.Reader, authority, authority, key.Public(), key)
	require.NoError(t, err)
	trusted := filepath.Join(dir, "trusted.pem")
	require.NoError(t, os.WriteFile(trusted, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root}), 0o600))
	for says, leaf := range map[string]*x509.Certificate{
		"its certificate has expired, or is not valid yet: valid from ":                         {NotAfter: time.Now().Add(-time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}},
		`its certificate is not for the host "127.0.0.1": it is for gateway.brackwater.example`: {NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"gateway.brackwater.example"}},
	} {
		leaf.SerialNumber, leaf.NotBefore = big.NewInt(2), time.Now().Add(-time.Hour*999)
		made, err := x509.CreateCertificate(rand.Reader, leaf, authority, key.Public(), key)
		require.NoError(t, err)
		server := httptest.NewUnstartedServer(http.NotFoundHandler())
		server.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{made}, PrivateKey: key}}}
		server.Config.ErrorLog = log.New(io.Discard, "", 0)
		server.StartTLS()
		where := t.TempDir()
		require.NoError(t, handover.WriteDemo(where, handover.Demo{URL: server.URL, DNS: "127.0.0.1:9"}))
		require.NoError(t, os.MkdirAll(filepath.Join(where, "sandbox"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(where, "sandbox", "token"), []byte("t"), 0o600))
		c := exec.Command("mintbatch", "survey", "quay")
		c.Dir, c.Env = where, append(os.Environ(), "SSL_CERT_FILE="+trusted)
		out, err := c.CombinedOutput()
		require.Error(t, err)
		assert.Contains(t, string(out), says)
		server.Close()
		require.NoError(t, os.Chmod(filepath.Join(where, "sandbox", "token"), 0o644))
		c = exec.Command("mintbatch", "survey", "quay")
		c.Dir = where
		out, _ = c.CombinedOutput()
		assert.Contains(t, string(out), "other users can read the file", "the token")
	}
}
