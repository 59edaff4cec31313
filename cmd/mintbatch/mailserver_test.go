//go:build real

package main

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// mailServer is an exim that hands every message to a dovecot, both on loopback: each address has a mailbox.
type mailServer struct {
	dir, smtp, imap, fingerprint string
}

const dovecotConf = `base_dir = DIR/run
log_path = DIR/dovecot.log
protocols = imap lmtp
listen = 127.0.0.1
ssl = yes
ssl_cert = <DIR/cert.pem
ssl_key = <DIR/key.pem
mail_location = maildir:DIR/mail/%u
passdb {
  driver = static
  args = password=secret
}
userdb {
  driver = static
  args = uid=65534 gid=65534 home=DIR/mail/%u allow_all_users=yes
}
service imap-login {
  inet_listener imap {
    port = 0
  }
  inet_listener imaps {
    port = IMAP
    ssl = yes
  }
}
service lmtp {
  inet_listener lmtp {
    address = 127.0.0.1
    port = LMTP
  }
}
`

// eximConf has a second transport that signs what is from brackwater.example (DKIM).
const eximConf = `spool_directory = DIR/exim
log_file_path = DIR/exim/%slog
pid_file_path = DIR/exim/pid
daemon_smtp_ports = SMTP
local_interfaces = 127.0.0.1
primary_hostname = mail.brackwater.example
domainlist local_domains = *
acl_smtp_rcpt = all
acl_smtp_data = all
tls_advertise_hosts =
begin acl
all:
  accept
begin routers
all:
  driver = manualroute
  route_list = * 127.0.0.1
  transport = lmtp
  self = send
begin transports
lmtp:
  driver = smtp
  protocol = lmtp
  port = LMTP
  allow_localhost
  hosts_avoid_tls = *
  dkim_domain = ${if match{$h_from:}{@brackwater.example}{brackwater.example}}
  dkim_selector = mail
  dkim_private_key = DIR/dkim.key
begin retry
* * F,1h,1s
`

// startMail starts them; a test without them is skipped.
func startMail(t *testing.T) *mailServer {
	t.Helper()
	exim, err := exec.LookPath("exim4")
	if err != nil {
		t.Skip("skipped: there is no exim")
	}
	dovecot, err := exec.LookPath("dovecot")
	if err != nil || os.Getuid() != 0 {
		t.Skip("skipped: there is no dovecot, or it may not be started")
	}
	owner, err := user.Lookup("Debian-exim")
	if err != nil {
		t.Skip("skipped: there is no user for exim")
	}
	dir, err := os.MkdirTemp("/tmp", "mintbatch-mail-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	m := &mailServer{dir: dir, smtp: unusedPort(t), imap: unusedPort(t)}
	id, _ := strconv.Atoi(owner.Uid)
	group, _ := strconv.Atoi(owner.Gid)
	require.NoError(t, os.Chmod(dir, 0o755))
	for name, uid := range map[string][2]int{"mail": {65534, 65534}, "exim": {id, group}} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o755))
		require.NoError(t, os.Chown(filepath.Join(dir, name), uid[0], uid[1]))
	}
	for _, args := range [][]string{
		{"req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "key.pem", "-out", "cert.pem", "-days", "2", "-subj", "/CN=localhost"},
		{"genrsa", "-traditional", "-out", "dkim.key", "2048"},
	} {
		c := exec.Command("openssl", args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	require.NoError(t, os.Chown(filepath.Join(dir, "dkim.key"), id, group))
	certificate, err := os.ReadFile(filepath.Join(dir, "cert.pem"))
	require.NoError(t, err)
	block, _ := pem.Decode(certificate)
	parsed, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	sum := sha256.Sum256(parsed.Raw)
	m.fingerprint = "sha256:" + hex.EncodeToString(sum[:])
	fill := strings.NewReplacer("DIR", dir, "SMTP", m.smtp, "IMAP", m.imap, "LMTP", unusedPort(t)).Replace
	for name, text := range map[string]string{"dovecot.conf": dovecotConf, "exim.conf": eximConf} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(fill(text)), 0o644))
	}
	for _, args := range [][]string{{dovecot, "-F", "-c", filepath.Join(dir, "dovecot.conf")}, {exim, "-C", filepath.Join(dir, "exim.conf"), "-bdf", "-q1s"}} {
		c := exec.Command(args[0], args[1:]...)
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		require.NoError(t, c.Start())
		t.Cleanup(func() {
			_ = c.Process.Signal(syscall.SIGTERM)
			_, _ = c.Process.Wait()
		})
	}
	for _, port := range []string{m.smtp, m.imap} {
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp", "127.0.0.1:"+port)
			if err == nil {
				_ = c.Close()
			}
			return err == nil
		}, 10*time.Second, 50*time.Millisecond)
	}
	return m
}

func unusedPort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// send has Python write and hand in a message: the sender, the subject, the text, and names of files that are attached.
func (m *mailServer) send(t *testing.T, dir, from, subject, text string, files ...string) {
	t.Helper()
	c := exec.Command("python3", append([]string{"-c", pythonMail, m.smtp, from, subject, text}, files...)...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

const pythonMail = `
import sys, smtplib, email.message, email.utils, mimetypes, os
port, sender, subject, text, *files = sys.argv[1:]
m = email.message.EmailMessage()
m['From'], m['To'], m['Subject'], m['Message-ID'] = sender, 'mint@brackwater.example', subject, email.utils.make_msgid(domain='brackwater.example')
m['Date'] = email.utils.formatdate()
m.set_content(text + '\n')
for f in files:
    m.add_attachment(open(f, 'rb').read(), maintype='application', subtype='octet-stream', filename=os.path.basename(f))
smtplib.SMTP('127.0.0.1', int(port)).send_message(m)
`

// got reads with Python what has come to an address: subject, whom it answers, the names of its files, and its text, a message each.
func (m *mailServer) got(t *testing.T, address string) []string {
	t.Helper()
	c := exec.Command("python3", "-c", pythonRead, m.imap, address)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	text := strings.TrimSuffix(string(out), "\x00")
	if text == "" {
		return nil
	}
	return strings.Split(text, "\x00")
}

const pythonRead = `
import sys, ssl, imaplib, email, email.policy
context = ssl.create_default_context(); context.check_hostname = False; context.verify_mode = ssl.CERT_NONE
box = imaplib.IMAP4_SSL('127.0.0.1', int(sys.argv[1]), ssl_context=context)
box.login(sys.argv[2], 'secret'); box.select('INBOX', readonly=True)
for n in box.search(None, 'ALL')[1][0].split():
    m = email.message_from_bytes(box.fetch(n, '(RFC822)')[1][0][1], policy=email.policy.default)
    assert not m.defects and not any(p.defects for p in m.walk()), m.defects
    body = m.get_body(('plain',))
    print(m['subject'], m['in-reply-to'] or '-', [p.get_filename() for p in m.iter_attachments()], body.get_content() if body else '', sep='\n', end='\x00')
`

// setup is the part of a setup that has the mailbox as a source, with more keys of it.
func (m *mailServer) setup(more, rule string) string {
	return fmt.Sprintf("requests:\n  sources: {box: {imap: \"imaps://127.0.0.1:%s\", login: mint@brackwater.example, password: secret, fingerprint: %q, %s}}\n  mail: {server: \"smtp://127.0.0.1:%s\", from: mint@brackwater.example, resend: 6s}\n  rules: {tide: {%s}}\n",
		m.imap, m.fingerprint, more, m.smtp, rule)
}
