// Package registrytest runs a registry for tests, where one is installed.
package registrytest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// The login that a registry takes.
const Login, Password = "mint", "pw"

// Registry is one that runs.
type Registry struct {
	Address     string // 127.0.0.1:PORT
	Fingerprint string // of its certificate
	Dir         string // where it keeps its files
	command     *exec.Cmd
}

// ErrNone means that no registry is installed.
var ErrNone = errors.New("there is no docker-registry")

// Start starts a registry with TLS and a password in a folder.
func Start(dir string) (*Registry, error) {
	program, err := exec.LookPath("docker-registry")
	if err != nil {
		return nil, ErrNone
	}
	r := &Registry{Dir: dir}
	if err := r.certify(); err != nil {
		return nil, err
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(Password), bcrypt.MinCost)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(r.at("htpasswd"), []byte(Login+":"+string(hash)+"\n"), 0o600); err != nil {
		return nil, err
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r.Address = free.Addr().String()
	if err := free.Close(); err != nil {
		return nil, err
	}
	setup := fmt.Sprintf("version: 0.1\nlog: {level: error}\nstorage: {filesystem: {rootdirectory: %q}, delete: {enabled: true}}\nhttp: {addr: %q, tls: {certificate: %q, key: %q}}\nauth: {htpasswd: {realm: lab, path: %q}}\n",
		r.at("data"), r.Address, r.at("certificate.pem"), r.at("key.pem"), r.at("htpasswd"))
	if err := os.WriteFile(r.at("registry.yml"), []byte(setup), 0o600); err != nil {
		return nil, err
	}
	r.command = exec.Command(program, "serve", r.at("registry.yml"))
	if err := r.command.Start(); err != nil {
		return nil, err
	}
	for range 200 {
		c, err := net.Dial("tcp", r.Address)
		if err == nil {
			return r, c.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	r.Stop()
	return nil, errors.New("the registry does not start")
}

// Stop ends it.
func (r *Registry) Stop() {
	_ = r.command.Process.Kill()
	_ = r.command.Wait()
}

func (r *Registry) at(name string) string { return filepath.Join(r.Dir, name) }

// certify makes its certificate.
func (r *Registry) certify() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "registry"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	certificate, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	r.Fingerprint = fmt.Sprintf("sha256:%x", sha256.Sum256(certificate))
	return errors.Join(os.WriteFile(r.at("certificate.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate}), 0o600),
		os.WriteFile(r.at("key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
}
