//go:build unix

package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"database/sql"
	"encoding/pem"
	"math/big"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the database driver
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/ledger/servertest"
)

// withTLS has the server of a database offer TLS, with a certificate that it returns.
func withTLS(t *testing.T, db *sql.DB) (certificate []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "db"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	certificate = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	var data string
	require.NoError(t, db.QueryRow(`SHOW data_directory`).Scan(&data))
	owner, err := os.Stat(data)
	require.NoError(t, err)
	for name, content := range map[string][]byte{"server.crt": certificate, "server.key": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})} {
		path := filepath.Join(data, name)
		require.NoError(t, os.WriteFile(path, content, 0o600))
		id := owner.Sys().(*syscall.Stat_t)
		require.NoError(t, os.Chown(path, int(id.Uid), int(id.Gid)))
	}
	for _, q := range []string{`ALTER SYSTEM SET ssl = on`, `SELECT pg_reload_conf()`} {
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
	return certificate
}

// docs/ledger.md, "From a file to a server": the numbered commands, with TLS, a role of few
// rights, and a backup that is restored.
func TestFromAFileToAServer(t *testing.T) {
	t.Parallel()
	at, err := url.Parse(servertest.Database(t))
	require.NoError(t, err)
	admin, err := sql.Open("pgx", at.String())
	require.NoError(t, err)
	defer admin.Close()
	dir, _ := served(t, 1000)
	write(t, dir, "server.crt", string(withTLS(t, admin)))
	write(t, dir, "other.crt", "-----BEGIN CERTIFICATE-----\n-----END CERTIFICATE-----\n")
	ok := func(name string, args ...string) string {
		t.Helper()
		out, err := command(t, dir, name, args...)
		require.NoError(t, err, out)
		return out
	}
	ok("mintbatch", "mint", "--yes", "bms-tide-01", "bms-chart-01")
	password := ok("mintbatch", "secret", "show", "bms-chart-01")

	for _, q := range []string{`CREATE ROLE mint_office LOGIN PASSWORD 'quay'`, `CREATE DATABASE office OWNER mint_office`, `REVOKE CONNECT ON DATABASE office FROM PUBLIC`} {
		_, err := admin.Exec(q)
		require.NoError(t, err)
	}
	to := *at
	to.User, to.Path, to.RawQuery = url.UserPassword("mint_office", "quay"), "/office", "sslmode=verify-full&sslrootcert="+filepath.Join(dir, "server.crt")
	write(t, dir, "ledger.jsonl", ok("mintbatch", "ledger", "export"))
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "ledger: mintbatch.ledger", "ledger: file:ledger.url", 1))
	write(t, dir, "ledger.url", to.String()+"\n")
	works := func() {
		t.Helper()
		assert.Contains(t, ok("mintbatch", "ledger", "check"), "no findings")
		assert.Contains(t, ok("mintbatch", "proof"), "24 machines: new 22, same 2")
		assert.Equal(t, password, ok("mintbatch", "secret", "show", "bms-chart-01"))
	}
	assert.Contains(t, ok("mintbatch", "ledger", "import", "ledger.jsonl"), "imported into ledger")
	works()
	var encrypted int
	require.NoError(t, admin.QueryRow(`SELECT count(*) FROM pg_settings WHERE name = 'ssl' AND setting = 'on'`).Scan(&encrypted))
	assert.Equal(t, 1, encrypted)
	out, err := command(t, dir, "mintbatch", "ledger", "backup", "copy")
	require.Error(t, err)
	assert.Contains(t, out, "back it up there")

	// Another server's certificate is not trusted.
	write(t, dir, "ledger.url", strings.Replace(to.String(), "server.crt", "other.crt", 1))
	out, err = command(t, dir, "mintbatch", "list", "--offline")
	require.Error(t, err)
	assert.NotContains(t, out, "quay@")
	write(t, dir, "ledger.url", to.String()+"\n")

	// The server's own backup.
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/pg_dump")
	require.NoError(t, err)
	bin := filepath.Dir(found[len(found)-1])
	dump := exec.Command(filepath.Join(bin, "pg_dump"), "--format=custom", "--file="+filepath.Join(dir, "office.dump"), to.String())
	said, err := dump.CombinedOutput()
	require.NoError(t, err, string(said))
	for _, q := range []string{`DROP DATABASE office WITH (FORCE)`, `CREATE DATABASE office OWNER mint_office`} {
		_, err := admin.Exec(q)
		require.NoError(t, err)
	}
	said, err = exec.Command(filepath.Join(bin, "pg_restore"), "--dbname="+to.String(), "--no-owner", filepath.Join(dir, "office.dump")).CombinedOutput()
	require.NoError(t, err, string(said))
	works()
}
