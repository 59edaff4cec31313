// Package servertest gives tests a PostgreSQL server of their own, on loopback.
package servertest

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"

	_ "github.com/jackc/pgx/v5/stdlib" // the database driver
)

type server struct {
	url  string // ends where the database's name follows
	stop func()
	// restart lets the server be away for a moment.
	restart func(between func()) error
	err     error
}

var (
	begun     atomic.Bool
	start     = sync.OnceValue(startServer)
	databases atomic.Int64
)

// Database makes a database at the server, which is started when the first one
// is asked for. Where no PostgreSQL is installed, the test is skipped.
func Database(t testing.TB) (url string) {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		t.Skip("skipped: PostgreSQL is not installed")
	}
	begun.Store(true)
	s := start()
	if s.err != nil {
		t.Fatal(s.err)
	}
	db, err := sql.Open("pgx", s.url+"postgres")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	name := fmt.Sprintf("l%d", databases.Add(1))
	if _, err := db.Exec(`CREATE DATABASE ` + name); err != nil {
		t.Fatal(err)
	}
	return s.url + name
}

// Restart stops the server, lets something be done, and starts it again.
func Restart(t testing.TB, between func()) {
	t.Helper()
	if err := start().restart(between); err != nil {
		t.Fatal(err)
	}
}

// Run runs the tests of a package and then stops the server, if they had one.
func Run(m *testing.M) (code int) {
	code = m.Run()
	Stop()
	return code
}

// Stop stops the server, if there is one.
func Stop() {
	if begun.Load() && start().stop != nil {
		start().stop()
	}
}

func startServer() (s server) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	bin := filepath.Dir(found[len(found)-1])
	dir, err := os.MkdirTemp("", "mintbatch-postgres-")
	if err != nil {
		return server{err: err}
	}
	as := func(program string, args ...string) *exec.Cmd {
		args = append([]string{filepath.Join(bin, program)}, args...)
		if nobody, err := user.Lookup("postgres"); err == nil && os.Getuid() == 0 { // it refuses to run as root
			uid, _ := strconv.Atoi(nobody.Uid)
			gid, _ := strconv.Atoi(nobody.Gid)
			_ = os.Chown(dir, uid, gid)
			args = append([]string{"setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"}, args...)
		}
		c := exec.Command(args[0], args[1:]...)
		c.Dir = dir
		return c
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return server{err: err}
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	_ = l.Close()
	data := filepath.Join(dir, "data")
	options := fmt.Sprintf("-p %s -k %s -c listen_addresses=127.0.0.1 -c fsync=off -c max_connections=400", port, dir)
	for _, c := range []*exec.Cmd{as("initdb", "-D", data, "-A", "trust", "-U", "mint"), as("pg_ctl", "-D", data, "-w", "-l", filepath.Join(dir, "log"), "-o", options, "start")} {
		if out, err := c.CombinedOutput(); err != nil {
			return server{err: fmt.Errorf("%w: %s", err, out)}
		}
	}
	restart := func(between func()) error {
		if err := as("pg_ctl", "-D", data, "-m", "fast", "-w", "stop").Run(); err != nil {
			return err
		}
		between()
		return as("pg_ctl", "-D", data, "-w", "-l", filepath.Join(dir, "log"), "-o", options, "start").Run()
	}
	return server{url: "postgres://mint@127.0.0.1:" + port + "/", restart: restart, stop: func() {
		_ = as("pg_ctl", "-D", data, "-m", "immediate", "stop").Run()
		_ = os.RemoveAll(dir)
	}}
}
