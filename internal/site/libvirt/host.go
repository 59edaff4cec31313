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
	"slices"
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
	name                 string
	calls, copies, reads connection
	log                  *slog.Logger
	slots                chan struct{} // one for each disk that is being copied

	mu           sync.Mutex
	capabilities *capabilities
	children     map[string][]dependant // linked clones, by the file of the parent

	using users
}

// maxCopies is how many disks of a host are copied side by side.
const maxCopies = 3

func newHost(name string, a Address, log *slog.Logger) (*host, error) {
	dialer, err := dialerFor(a.URL, a.Password)
	if err != nil {
		return nil, fmt.Errorf("host %s: %w: %w", name, site.ErrUnreachable, err)
	}
	h := &host{name: name, log: log, slots: make(chan struct{}, maxCopies)}
	h.calls = connection{url: a.URL, dial: dialFunc(a.URL, dialer)}
	h.copies = connection{url: a.URL, dial: dialFunc(a.URL, dialer)}
	h.reads = connection{url: a.URL, dial: dialFunc(a.URL, dialer)}
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
	if err := parameters(q, transport); err != nil {
		return nil, err
	}
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
		return dialers.NewSSH(u.Hostname(), o...), nil
	case "tls":
		o := []dialers.TLSOption{}
		if u.Port() != "" {
			o = append(o, dialers.UseTLSPort(u.Port()))
		}
		if q.Get("pkipath") != "" {
			o = append(o, dialers.UsePKIPath(q.Get("pkipath")))
		}
		return dialers.NewTLS(u.Hostname(), o...), nil
	}
	return nil, fmt.Errorf("unknown transport %s", transport)
}

// knownParameters are the parameters of libvirt's URIs that are heeded, by transport.
var knownParameters = map[string][]string{"": {"socket"}, "unix": {"socket"}, "ssh": {"socket", "known_hosts", "keyfile", "known_hosts_verify", "no_verify"}, "tls": {"pkipath", "no_verify"}}

// parameters refuses what would switch off the check of who is at the other end, what
// is not known, and files that are not there.
func parameters(q url.Values, transport string) error {
	for name, values := range q {
		value := values[len(values)-1]
		switch {
		case !slices.Contains(knownParameters[transport], name):
			return fmt.Errorf("its URI has the unknown parameter %q (known: %s)", name, strings.Join(knownParameters[transport], ", "))
		case name == "no_verify" && value != "0", name == "known_hosts_verify" && value != "normal":
			return fmt.Errorf("its URI has %s=%s, which disables host key checking; add its key to known_hosts instead", name, value)
		case name == "keyfile" || name == "known_hosts" || name == "pkipath":
			if _, err := os.Stat(value); err != nil {
				return fmt.Errorf("its URI names %s %s, which cannot be read: %w", name, value, errors.Unwrap(err))
			}
		}
	}
	return nil
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
	url  *url.URL
	dial func() (daemon, error)

	mu     sync.Mutex
	live   daemon
	failed error // the last attempt to connect, and when that was
	when   time.Time
}

// redialDelay is for how long a host that did not answer is not tried again: a batch
// does not wait for it at every machine.
const redialDelay = 3 * time.Second

func (c *connection) get() (daemon, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.live != nil && c.live.IsConnected() {
		return c.live, nil
	}
	if c.failed != nil && time.Since(c.when) < redialDelay {
		return nil, c.failed
	}
	l, err := c.dial()
	c.failed, c.when = err, time.Now()
	if c.failed != nil {
		return nil, c.failed
	}
	c.live = l
	return l, nil
}

// dialFunc connects to the daemon behind a URL.
func dialFunc(u *url.URL, dialer socket.Dialer) func() (daemon, error) {
	return func() (daemon, error) {
		l := rpc.NewWithDialer(dialer)
		return l, l.ConnectToURI(rpc.RemoteURI(u))
	}
}

// drop gives up a connection that does not answer.
func (c *connection) drop(l daemon) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.live == l {
		c.live = nil
	}
	go func() { _ = l.Disconnect() }()
}

func (h *host) close() {
	for _, c := range []*connection{&h.calls, &h.copies, &h.reads} {
		c.mu.Lock()
		if c.live != nil {
			_ = c.live.Disconnect()
			c.live = nil
		}
		c.mu.Unlock()
	}
}

// call makes calls that are over soon.
func (h *host) call(ctx context.Context, do func(l daemon) error) error {
	limited, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	return h.callOn(limited, &h.calls, do)
}

// copy makes calls that take as long as a disk takes to be copied. The limit
// is the caller's.
func (h *host) copy(ctx context.Context, do func(l daemon) error) error {
	free, err := h.copySlot(ctx)
	if err != nil {
		return err
	}
	defer free()
	return h.callOn(ctx, &h.copies, do)
}

// copySlot waits until one more disk of the host may be copied.
func (h *host) copySlot(ctx context.Context) (free func(), err error) {
	select {
	case h.slots <- struct{}{}:
		return func() { <-h.slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// callOn makes calls on a connection. The library's calls cannot be ended; one
// that takes too long is left behind.
func (h *host) callOn(ctx context.Context, c *connection, do func(l daemon) error) error {
	done := make(chan error, 1)
	began := time.Now()
	go func() {
		l, err := c.get()
		if err != nil {
			done <- h.unreachable(err)
			return
		}
		err = do(l)
		if isConnectionError(err) {
			c.drop(l)
		}
		done <- h.translate(err)
	}()
	tell := func(what string, args ...any) {
		if h.log != nil {
			h.log.Debug("libvirt", append([]any{"host", h.name, "for", caller(), what, time.Since(began)}, args...)...)
		}
	}
	waiting := time.NewTicker(waitNotice)
	defer waiting.Stop()
	for {
		select {
		case err := <-done:
			tell("took", "error", err)
			return err
		case <-waiting.C:
			tell("waiting")
		case <-ctx.Done():
			tell("gave up after")
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return fmt.Errorf("%w: host %s has not answered within %s", site.ErrUnreachable, h.name, time.Since(began).Round(time.Second))
			}
			return ctx.Err()
		}
	}
}

// waitNotice is how often a call that has no answer yet is logged.
const waitNotice = 10 * time.Second

// caller names the function that wanted a call.
func caller() string {
	at, _, _, ok := runtime.Caller(4)
	if !ok {
		return ""
	}
	name := runtime.FuncForPC(at).Name()
	return name[strings.LastIndexAny(name, "./")+1:]
}

// isConnectionError reports whether an error is that of a connection, not of libvirt.
func isConnectionError(err error) bool {
	var network *net.OpError
	return errors.Is(err, rpc.ErrInterrupted) || errors.Is(err, syscall.EINVAL) || errors.Is(err, syscall.EPIPE) ||
		errors.Is(err, net.ErrClosed) || errors.As(err, &network)
}

// errLost is a connection that broke during a call: what became of it is not known.
var errLost = errors.New("the connection was lost")

func (h *host) unreachable(err error) error {
	hint := ""
	switch {
	case errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		hint = "; no permission to use libvirt's socket: join its group (usually libvirt), or run as root"
	case errors.Is(err, syscall.ENOENT):
		hint = "; check that libvirtd is running and has this socket"
	case errors.Is(err, syscall.ECONNREFUSED):
		hint = "; check that libvirtd is running"
	case strings.Contains(err.Error(), "system bus connection"), strings.Contains(err.Error(), "polkit"):
		hint = "; the system's policy denies access to libvirt: join the permitted group (usually libvirt), or run as root"
	case strings.Contains(err.Error(), "knownhosts: key is unknown"):
		hint = "; the host's key is not in the known_hosts file: connect once with ssh and compare its fingerprint"
	case strings.Contains(err.Error(), "knownhosts: key mismatch"):
		hint = "; the host's key differs from the one in the known_hosts file: find out why before continuing"
	case strings.Contains(err.Error(), "unable to authenticate"):
		hint = "; add a key with ssh-add, name one with ?keyfile=PATH, or give a password"
	}
	return fmt.Errorf("%w: host %s: %w%s", site.ErrUnreachable, h.name, err, hint)
}

// translate turns libvirt's errors into those of package site.
func (h *host) translate(err error) error {
	var e rpc.Error
	switch {
	case err == nil:
		return nil
	case isConnectionError(err):
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

// hasCode reports whether an error is one of libvirt's codes: its words are in the
// language of the daemon.
func hasCode(err error, code rpc.ErrorNumber) bool {
	var e rpc.Error
	return errors.As(err, &e) && rpc.ErrorNumber(e.Code) == code
}

// retry does an act again while the connection breaks in it: a daemon that is
// restarted is back in a moment, and every act may be asked for again.
func retry(ctx context.Context, do func() error) error {
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
