// Package dnstest runs real DNS servers on loopback for tests, where they are installed.
package dnstest

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"mintbatch/internal/sandbox/names"
)

// Key is the name of the key that may update, and Secret what it signs with.
const (
	Key       = "mint"
	Algorithm = "hmac-sha256"
	Secret    = "c3VydmV5IG9mZmljZSBrZXkgZm9yIHRoZSB0ZXN0cw=="
)

// Zones are those of every server.
var Zones = []string{"brackwater.example", "100.51.198.in-addr.arpa", "7.a.0.b.8.b.d.0.1.0.0.2.ip6.arpa", "0/26.113.0.203.in-addr.arpa", "113.0.203.in-addr.arpa"}

// StandIn starts the server that the sandbox has, with the same zones.
func StandIn(dir string, lines ...string) (*Server, error) {
	s := &Server{Dir: dir, Address: netip.MustParseAddrPort("127.0.0.1:0")}
	for _, z := range Zones {
		lines := lines
		if z != Zones[0] {
			lines = nil
		}
		text := zoneText(z, lines)
		f, err := os.OpenFile(s.at("records"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, err
		}
		_, err = f.WriteString(text)
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, err
		}
	}
	return s, s.Start()
}

// Server is one that runs.
type Server struct {
	Address netip.AddrPort
	Dir     string
	start   func(s *Server) *exec.Cmd
	command *exec.Cmd
	inside  *names.Server // the stand-in
}

// ErrNone means that no such server is installed.
var ErrNone = errors.New("there is no such server")

// BIND starts named in a folder. Lines are added to the first zone.
func BIND(dir string, lines ...string) (*Server, error) {
	return start(dir, "named", lines, func(s *Server) string {
		text := fmt.Sprintf("key %q { algorithm %s; secret %q; };\noptions { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; pid-file none; recursion no; dnssec-validation no; session-keyfile none; };\ncontrols { };\n",
			Key, Algorithm, Secret, dir, s.Address.Port())
		for _, z := range Zones {
			text += fmt.Sprintf("zone %q { type primary; file %q; update-policy { grant %s zonesub ANY; }; };\n", z, s.zoneFile(z), Key)
		}
		return text
	}, func(s *Server) *exec.Cmd { return exec.Command("named", "-g", "-c", s.at("server.conf")) })
}

// Knot starts knotd in a folder.
func Knot(dir string, lines ...string) (*Server, error) {
	return start(dir, "knotd", lines, func(s *Server) string {
		text := fmt.Sprintf("server:\n  rundir: %q\n  listen: 127.0.0.1@%d\nkey:\n- id: %s\n  algorithm: %s\n  secret: %s\nacl:\n- id: update\n  key: %s\n  action: update\n- id: look\n  address: 127.0.0.1\n  action: transfer\ndatabase:\n  storage: %q\ntemplate:\n- id: default\n  storage: %q\n  zonefile-sync: 0\n  acl: [update, look]\nzone:\n",
			dir, s.Address.Port(), Key, Algorithm, Secret, Key, dir, dir)
		for _, z := range Zones {
			text += fmt.Sprintf("- domain: %s\n  file: %q\n", z, s.zoneFile(z))
		}
		return text
	}, func(s *Server) *exec.Cmd { return exec.Command("knotd", "-c", s.at("server.conf")) })
}

func start(dir, program string, lines []string, conf func(*Server) string, command func(*Server) *exec.Cmd) (*Server, error) {
	if _, err := exec.LookPath(program); err != nil {
		return nil, ErrNone
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{Address: netip.MustParseAddrPort(free.Addr().String()), Dir: dir, start: command}
	_ = free.Close()
	for i, z := range Zones {
		if i > 0 {
			lines = nil
		}
		if err := os.WriteFile(s.zoneFile(z), []byte(zoneText(z, lines)), 0o644); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(s.at("server.conf"), []byte(conf(s)), 0o644); err != nil {
		return nil, err
	}
	return s, s.Start()
}

func zoneText(z string, lines []string) string {
	text := fmt.Sprintf("$ORIGIN %s.\n$TTL 300\n@ IN SOA ns1.brackwater.example. desk.brackwater.example. 1 3600 600 86400 60\n@ IN NS ns1.brackwater.example.\n", z)
	switch z {
	case Zones[0]:
		text += "ns1 IN A 127.0.0.1\n" + strings.Join(lines, "\n") + "\n"
	case "113.0.203.in-addr.arpa": // a part of it is delegated without a cut
		for n := range 64 {
			text += fmt.Sprintf("%d IN CNAME %d.0/26.113.0.203.in-addr.arpa.\n", n, n)
		}
	}
	return text
}

// Start starts a server that was stopped.
func (s *Server) Start() (err error) {
	if s.start == nil {
		s.inside, err = names.Serve(names.Options{File: s.at("records"), Listen: s.Address.String(), Zones: Zones, Key: Key, Secret: Secret})
		if err == nil {
			s.Address = netip.MustParseAddrPort(s.inside.Address)
		}
		return err
	}
	said, err := os.Create(s.at("said"))
	if err != nil {
		return err
	}
	defer said.Close()
	s.command = s.start(s)
	s.command.Stdout, s.command.Stderr = said, said
	if err := s.command.Start(); err != nil {
		return err
	}
	for range 200 {
		if said, err := s.Dig(Zones[len(Zones)-1], "SOA"); err == nil && said != "" {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.Stop()
	text, _ := os.ReadFile(s.at("said"))
	return fmt.Errorf("the server does not start: %s", text)
}

// Stop ends it; what it has been told stays.
func (s *Server) Stop() {
	if s.inside != nil {
		_ = s.inside.Close()
		return
	}
	_ = s.command.Process.Signal(os.Interrupt)
	ended := make(chan struct{})
	go func() { _ = s.command.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		_ = s.command.Process.Kill()
		<-ended
	}
}

// Dig asks the server and returns the records of its answer, a line each.
func (s *Server) Dig(args ...string) (string, error) {
	out, err := exec.Command("dig", append([]string{"@127.0.0.1", "-p", fmt.Sprint(s.Address.Port()), "+tcp", "+noall", "+answer", "+onesoa", "+nosplit"}, args...)...).Output()
	return string(out), err
}

// Update makes an update as others would, by nsupdate.
func (s *Server) Update(lines ...string) error {
	c := exec.Command("nsupdate", "-v", "-y", Algorithm+":"+Key+":"+Secret)
	c.Stdin = strings.NewReader(fmt.Sprintf("server 127.0.0.1 %d\n%s\nsend\n", s.Address.Port(), strings.Join(lines, "\n")))
	out, err := c.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

func (s *Server) at(name string) string { return filepath.Join(s.Dir, name) }

func (s *Server) zoneFile(zone string) string {
	return s.at(strings.ReplaceAll(zone, "/", "-") + ".zone")
}
