package libvirt

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"
	rpc "github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket"
	"github.com/digitalocean/go-libvirt/socket/dialers"

	"mintbatch/internal/site"
)

// host is one host and the connections to it. Copies of disks have one of
// their own: a daemon works on few calls of one connection at a time, and they
// take long.
type host struct {
	name          string
	calls, copies connection
	log           *slog.Logger
	slots         chan struct{} // one for each disk that is being copied

	mu           sync.Mutex
	capabilities *capabilities
	children     map[string][]dependant // linked clones, by the file of the parent
}

// mostCopies is how many disks of a host are copied side by side.
const mostCopies = 3

func newHost(name string, a Address, log *slog.Logger) (*host, error) {
	u, err := url.Parse(a.URL)
	if err != nil {
		return nil, fmt.Errorf("host %s: %w", name, err)
	}
	dialer, err := dialerFor(u, a.Password)
	if err != nil {
		return nil, fmt.Errorf("host %s: %w: %w", name, site.ErrUnreachable, err)
	}
	h := &host{name: name, log: log, slots: make(chan struct{}, mostCopies)}
	h.calls = connection{url: u, dialer: dialer}
	h.copies = connection{url: u, dialer: dialer}
	return h, nil
}

// dialerFor makes the way to a daemon that the URI asks for, with libvirt's
// own parameters (libvirt: "Connection URIs").
func dialerFor(u *url.URL, password string) (socket.Dialer, error) {
	q := u.Query()
	_, transport, _ := strings.Cut(u.Scheme, "+")
	if transport == "" && u.Host != "" {
		transport = "tls"
	}
	unverified := q.Get("no_verify") == "1"
	switch transport {
	case "", "unix":
		path := cmp.Or(q.Get("socket"), localSocket(u.Path))
		return dialers.NewLocal(dialers.WithSocket(path), dialers.WithLocalTimeout(dialLimit)), nil
	case "ssh":
		home, _ := os.UserHomeDir()
		o := []dialers.SSHOption{
			dialers.UseSSHPort(u.Port()), dialers.UseSSHPassword(password),
			dialers.UseKnownHostsFile(cmp.Or(q.Get("known_hosts"), filepath.Join(home, ".ssh", "known_hosts"))),
			dialers.UseKeyFile(cmp.Or(q.Get("keyfile"), sshKey(home))),
			dialers.WithRemoteSocket(cmp.Or(q.Get("socket"), systemSocket)),
		}
		if u.User.Username() != "" {
			o = append(o, dialers.UseSSHUsername(u.User.Username()))
		} else if me, err := user.Current(); err == nil {
			o = append(o, dialers.UseSSHUsername(me.Username))
		}
		methods := (&dialers.SSHAuthMethods{}).Agent().PrivKey()
		if password != "" {
			methods = methods.Password()
		}
		o = append(o, dialers.WithSSHAuthMethods(methods))
		if unverified || q.Get("known_hosts_verify") == "ignore" {
			o = append(o, dialers.WithInsecureIgnoreHostKey())
		}
		return dialers.NewSSH(u.Hostname(), o...), nil
	case "tls":
		o := []dialers.TLSOption{}
		if u.Port() != "" {
			o = append(o, dialers.UseTLSPort(u.Port()))
		}
		if q.Get("pkipath") != "" {
			o = append(o, dialers.UsePKIPath(q.Get("pkipath")))
		}
		if unverified {
			o = append(o, dialers.WithInsecureNoVerify())
		}
		return dialers.NewTLS(u.Hostname(), o...), nil
	}
	return nil, fmt.Errorf("no such transport: %s", transport)
}

const systemSocket = "/var/run/libvirt/libvirt-sock"

// localSocket is where this machine's daemon listens: the one for all, else
// the one for QEMU alone, of installations that have several daemons.
func localSocket(path string) string {
	folder := "/var/run/libvirt"
	if path == "/session" {
		folder = filepath.Join(os.Getenv("XDG_RUNTIME_DIR"), "libvirt")
	}
	for _, name := range []string{"libvirt-sock", "virtqemud-sock"} {
		if _, err := os.Stat(filepath.Join(folder, name)); err == nil {
			return filepath.Join(folder, name)
		}
	}
	return filepath.Join(folder, "libvirt-sock")
}

// sshKey is the first of OpenSSH's usual key files that is there.
func sshKey(home string) string {
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		path := filepath.Join(home, ".ssh", name)
		if _, err := os.Stat(path); err == nil {
			return path
		}
	}
	return ""
}

const (
	dialLimit = 20 * time.Second
	// callLimit bounds a call that does not copy anything.
	callLimit = 2 * time.Minute
)

// connection is a connection that is made when it is needed, and made again
// when it was lost.
type connection struct {
	url    *url.URL
	dialer socket.Dialer

	mu     sync.Mutex
	live   *rpc.Libvirt
	failed error // the last attempt to connect, and when that was
	when   time.Time
}

// calm is for how long a host that did not answer is not tried again: a batch
// does not wait for it at every machine.
const calm = 3 * time.Second

func (c *connection) get() (*rpc.Libvirt, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.live != nil && c.live.IsConnected() {
		return c.live, nil
	}
	if c.failed != nil && time.Since(c.when) < calm {
		return nil, c.failed
	}
	l := rpc.NewWithDialer(c.dialer)
	c.failed = l.ConnectToURI(rpc.RemoteURI(c.url))
	c.when = time.Now()
	if c.failed != nil {
		return nil, c.failed
	}
	c.live = l
	return l, nil
}

// drop gives up a connection that does not answer.
func (c *connection) drop(l *rpc.Libvirt) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.live == l {
		c.live = nil
	}
	go func() { _ = l.Disconnect() }()
}

func (h *host) close() {
	for _, c := range []*connection{&h.calls, &h.copies} {
		c.mu.Lock()
		if c.live != nil {
			_ = c.live.Disconnect()
			c.live = nil
		}
		c.mu.Unlock()
	}
}

// call makes calls that are over soon.
func (h *host) call(ctx context.Context, do func(l *rpc.Libvirt) error) error {
	limited, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	return h.through(limited, &h.calls, do)
}

// copy makes calls that take as long as a disk takes to be copied. The limit
// is the caller's.
func (h *host) copy(ctx context.Context, do func(l *rpc.Libvirt) error) error {
	free, err := h.slot(ctx)
	if err != nil {
		return err
	}
	defer free()
	return h.through(ctx, &h.copies, do)
}

// slot waits until one more disk of the host may be copied.
func (h *host) slot(ctx context.Context) (free func(), err error) {
	select {
	case h.slots <- struct{}{}:
		return func() { <-h.slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// through makes calls on a connection. The library's calls cannot be ended; one
// that takes too long is left behind.
func (h *host) through(ctx context.Context, c *connection, do func(l *rpc.Libvirt) error) error {
	done := make(chan error, 1)
	began := time.Now()
	go func() {
		l, err := c.get()
		if err != nil {
			done <- h.unreachable(err)
			return
		}
		err = do(l)
		if lost(err) {
			c.drop(l)
		}
		done <- h.explained(err)
	}()
	select {
	case err := <-done:
		if h.log != nil {
			h.log.Debug("libvirt", "host", h.name, "for", caller(), "took", time.Since(began), "error", err)
		}
		return err
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return fmt.Errorf("%w: host %s has not answered in time", site.ErrUnreachable, h.name)
		}
		return ctx.Err()
	}
}

// caller names the function that wanted a call.
func caller() string {
	at, _, _, ok := runtime.Caller(3)
	if !ok {
		return ""
	}
	name := runtime.FuncForPC(at).Name()
	return name[strings.LastIndexAny(name, "./")+1:]
}

// lost tells whether an error is that of a connection, not of libvirt.
func lost(err error) bool {
	var network *net.OpError
	return errors.Is(err, rpc.ErrInterrupted) || errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.EPIPE) ||
		errors.Is(err, net.ErrClosed) || errors.As(err, &network)
}

// errLost is a connection that broke during a call: what became of it is not known.
var errLost = errors.New("the connection to it was lost")

func (h *host) unreachable(err error) error {
	hint := ""
	switch {
	case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		hint = "; you may not use libvirt's socket: be a member of its group (usually libvirt), or of root"
	case errors.Is(err, syscall.ENOENT):
		hint = "; is libvirtd running, and does it make this socket?"
	case errors.Is(err, syscall.ECONNREFUSED):
		hint = "; is libvirtd running?"
	case strings.Contains(err.Error(), "system bus connection"), strings.Contains(err.Error(), "polkit"):
		hint = "; libvirt asks the system's policy whether you may use it: be a member of the group that it lets (usually libvirt), or of root"
	case strings.Contains(err.Error(), "knownhosts: key is unknown"):
		hint = "; the host's key is not in the known_hosts file: connect once with ssh, and compare its fingerprint"
	case strings.Contains(err.Error(), "knownhosts: key mismatch"):
		hint = "; the host's key is not the one in the known_hosts file: find out why before you go on"
	case strings.Contains(err.Error(), "unable to authenticate"):
		hint = "; add a key with ssh-add, name one with ?keyfile=PATH, or give a password"
	}
	return fmt.Errorf("%w: host %s: %w%s", site.ErrUnreachable, h.name, err, hint)
}

// explained tells libvirt's errors apart.
func (h *host) explained(err error) error {
	var e rpc.Error
	switch {
	case err == nil:
		return nil
	case lost(err):
		return fmt.Errorf("%w: host %s: %w", site.ErrUnreachable, h.name, errLost)
	case errors.As(err, &e):
		switch rpc.ErrorNumber(e.Code) {
		case rpc.ErrNoDomain, rpc.ErrNoStorageVol, rpc.ErrNoStoragePool, rpc.ErrNoNetwork, rpc.ErrNoDomainSnapshot:
			return fmt.Errorf("%w: %w", site.ErrNotFound, err)
		case rpc.ErrAuthFailed, rpc.ErrAuthCancelled, rpc.ErrAuthUnavailable:
			return fmt.Errorf("%w: host %s: %w", site.ErrUnreachable, h.name, err)
		}
	}
	return err
}

// again does an act again while the connection breaks in it: a daemon that is
// restarted is back in a moment, and every act may be asked for again.
func again(ctx context.Context, do func() error) error {
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		err := do()
		if err != nil && !errors.Is(err, site.ErrUnreachable) {
			err = backoff.Permanent(err)
		}
		return struct{}{}, err
	}, backoff.WithMaxElapsedTime(reconnectLimit))
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		return permanent.Err
	}
	return err
}

// reconnectLimit is how long an act waits for a host to come back.
const reconnectLimit = 45 * time.Second
