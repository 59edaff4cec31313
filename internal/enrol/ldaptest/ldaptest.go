// Package ldaptest runs a real directory server on loopback for tests, where one is installed.
package ldaptest

import (
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mintbatch/internal/core/secret"
)

// What a server has: Base with the organizational unit hosts, in which others have entered the device theirs.
const (
	Base     = "dc=brackwater,dc=example"
	Login    = "cn=mint," + Base
	Password = "pw"
	Theirs   = "cn=theirs,ou=hosts," + Base
)

// Server is one that runs.
type Server struct {
	Address     string // 127.0.0.1:PORT, for StartTLS
	Fingerprint string // of its certificate
	command     *exec.Cmd
}

// ErrNone means that no such server is installed.
var ErrNone = errors.New("there is no slapd")

// Start starts a server in a folder.
func Start(dir string) (*Server, error) {
	program, err := exec.LookPath("slapd")
	if err != nil {
		return nil, ErrNone
	}
	at := func(name string) string { return filepath.Join(dir, name) }
	lender := httptest.NewTLSServer(nil) // of a certificate
	pair := lender.TLS.Certificates[0]
	lender.Close()
	key, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	if err != nil {
		return nil, err
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{Address: free.Addr().String(), Fingerprint: secret.FingerprintOf(pair.Certificate[0]).String()}
	conf := fmt.Sprintf("include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\ninclude /etc/ldap/schema/nis.schema\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\nTLSCertificateFile %s\nTLSCertificateKeyFile %s\ndatabase mdb\nsuffix %q\nrootdn %q\nrootpw %s\ndirectory %s\n",
		at("certificate"), at("key"), Base, Login, Password, at("data"))
	err = errors.Join(free.Close(), os.MkdirAll(at("data"), 0o700), os.WriteFile(at("conf"), []byte(conf), 0o600),
		os.WriteFile(at("certificate"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.Certificate[0]}), 0o600),
		os.WriteFile(at("key"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), 0o600))
	if err != nil {
		return nil, err
	}
	s.command = exec.Command(program, "-f", at("conf"), "-h", "ldap://"+s.Address+"/", "-d", "0")
	if err := s.command.Start(); err != nil {
		return nil, err
	}
	for range 200 {
		var link *ldap.Conn
		if link, err = ldap.DialURL("ldap://" + s.Address); err == nil {
			return s, errors.Join(fill(link), link.Close())
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.Stop()
	return nil, err
}

// Stop ends it.
func (s *Server) Stop() {
	_ = s.command.Process.Kill()
	_ = s.command.Wait()
}

func fill(link *ldap.Conn) error {
	err := link.Bind(Login, Password)
	for _, e := range []struct{ dn, class, attribute, value string }{{Base, "domain", "dc", "brackwater"}, {"ou=hosts," + Base, "organizationalUnit", "ou", "hosts"}, {Theirs, "device", "cn", "theirs"}} {
		add := ldap.NewAddRequest(e.dn, nil)
		add.Attribute("objectClass", []string{e.class})
		add.Attribute(e.attribute, []string{e.value})
		err = errors.Join(err, link.Add(add))
	}
	return err
}

// Search returns an entry as ldapsearch writes it.
func (s *Server) Search(dn string) string {
	out, _ := exec.Command("ldapsearch", "-x", "-LLL", "-o", "ldif-wrap=no", "-H", "ldap://"+s.Address, "-D", Login, "-w", Password, "-b", dn).CombinedOutput()
	return string(out)
}
