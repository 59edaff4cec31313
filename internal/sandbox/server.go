package sandbox

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/secret"
	"mintbatch/internal/sandbox/names"
)

// Options say how a sandbox runs.
type Options struct {
	// Dir keeps the state: plan, certificate, token, machines and seeds.
	Dir string
	// Listen is a loopback address with port; empty means the one used before
	// in the same folder, or any free port.
	Listen string
	// Plan is used when the folder has none yet.
	Plan Plan
	// Speed divides all times; 0 means 1.
	Speed  float64
	Faults *Faults
	// NoWait answers at once whatever a caller prefers, as a manager does that cannot wait.
	NoWait bool
}

// Sandbox is a running stand-in manager.
type Sandbox struct {
	URL         string // without the site's name
	Fingerprint secret.Fingerprint
	Token       string
	// Names is its DNS server.
	Names *names.Server

	records *records
	book    *book

	options  Options
	listener net.Listener
	server   *http.Server
	pair     tls.Certificate
	disk     *disk

	mu       sync.Mutex
	machines map[uuid.UUID]*record
	// inventories are kept by site.
	inventories map[string]*inventory

	coming map[uuid.UUID]string // clones not finished yet, with their tasks
	tasks  map[string]*task
	under  map[string]int // acts under way, by what they are and where
	most   map[string]int
}

// Most reports how many acts of a kind were ever under way at once: copies and
// starts, also `copies at STORE` and `starts on HOST`.
func (s *Sandbox) Most(kind string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.most[kind]
}

// counted counts an act that begins, of some kinds, and returns what its end is.
func (s *Sandbox) counted(end func(bool) error, kinds ...string) func(bool) error {
	for _, kind := range kinds {
		s.under[kind]++
		s.most[kind] = max(s.most[kind], s.under[kind])
	}
	return func(done bool) error {
		for _, kind := range kinds {
			s.under[kind]--
		}
		if end == nil {
			return nil
		}
		return end(done)
	}
}

// Open reads a sandbox's folder, or lays it out, and starts to listen. Serve
// then answers.
func Open(o Options) (*Sandbox, error) {
	if o.Speed == 0 {
		o.Speed = 1
	}
	if o.Faults == nil {
		o.Faults = &Faults{}
	}
	s := &Sandbox{options: o, machines: map[uuid.UUID]*record{}, inventories: map[string]*inventory{}, coming: map[uuid.UUID]string{}, tasks: map[string]*task{},
		under: map[string]int{}, most: map[string]int{}}
	if err := s.open(); err != nil {
		return nil, fmt.Errorf("sandbox in %s: %w", o.Dir, err)
	}
	return s, nil
}

func (s *Sandbox) open() error {
	if err := os.MkdirAll(s.options.Dir, 0o700); err != nil {
		return err
	}
	var records []*record
	err := errors.Join(s.readPlan(), s.readToken(), s.readPair())
	if err != nil {
		return err
	}
	if err := s.listen(); err != nil {
		return err
	}
	if err := errors.Join(s.openRecords(), s.openBook(), s.serveNames()); err != nil {
		return errors.Join(err, s.listener.Close())
	}
	if s.disk, records, err = openDisk(s.options.Dir); err != nil {
		return err
	}
	for name := range s.options.Plan.Sites {
		s.inventories[name] = newInventory()
	}
	if err := s.readMade(); err != nil {
		return err
	}
	for _, r := range records {
		s.add(r)
	}
	return nil
}

// add takes a machine in, drop takes it out; what changes it is done in between.
func (s *Sandbox) add(r *record) {
	s.machines[r.ID] = r
	if v := s.inventories[r.Site]; v != nil { // of a site that the plan still has
		v.add(r, s.options.Plan.Sites[r.Site])
	}
}

func (s *Sandbox) drop(r *record) {
	delete(s.machines, r.ID)
	if v := s.inventories[r.Site]; v != nil {
		v.remove(r, s.options.Plan.Sites[r.Site])
	}
}

func (s *Sandbox) path(name string) string { return filepath.Join(s.options.Dir, name) }

func (s *Sandbox) readPlan() error {
	content, err := os.ReadFile(s.path("plan.json"))
	if errors.Is(err, fs.ErrNotExist) {
		content, _ = json.MarshalIndent(s.options.Plan, "", "  ")
		return os.WriteFile(s.path("plan.json"), append(content, '\n'), 0o600)
	}
	if err != nil {
		return err
	}
	s.options.Plan = Plan{}
	if err := json.Unmarshal(content, &s.options.Plan); err != nil {
		return fmt.Errorf("plan.json: %w", err)
	}
	return nil
}

func (s *Sandbox) readToken() error {
	content, err := os.ReadFile(s.path("token"))
	if errors.Is(err, fs.ErrNotExist) {
		b := make([]byte, 24)
		_, _ = rand.Read(b)
		content = []byte(hex.EncodeToString(b) + "\n")
		err = os.WriteFile(s.path("token"), content, 0o600)
	}
	s.Token = strings.TrimSpace(string(content))
	return err
}

func (s *Sandbox) readPair() error {
	pair, err := tls.LoadX509KeyPair(s.path("certificate.pem"), s.path("key.pem"))
	if errors.Is(err, fs.ErrNotExist) {
		pair, err = newPair(s.path("certificate.pem"), s.path("key.pem"))
	}
	if err != nil {
		return err
	}
	s.pair = pair
	s.Fingerprint = secret.FingerprintOf(pair.Certificate[0])
	return nil
}

// listen takes the address of the last time again, so that setups stay true.
func (s *Sandbox) listen() error {
	address := s.options.Listen
	if last, err := os.ReadFile(s.path("listen")); address == "" && err == nil {
		address = strings.TrimSpace(string(last))
	}
	if address == "" {
		address = "127.0.0.1:0"
	}
	host, _, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("it listens on loopback only, such as 127.0.0.1:7443; %q is not", address)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("%w; another sandbox may be running there", err)
	}
	s.listener = l
	s.URL = "https://" + l.Addr().String()
	return os.WriteFile(s.path("listen"), []byte(l.Addr().String()+"\n"), 0o600)
}

// Serve answers until the context ends.
func (s *Sandbox) Serve(ctx context.Context) error {
	s.server = &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{s.pair}, MinVersion: tls.VersionTLS12}}
	stop := context.AfterFunc(ctx, func() { _ = s.server.Close() })
	defer stop()
	defer s.Names.Close()
	err := s.server.ServeTLS(s.listener, "", "")
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

func (s *Sandbox) admitted(r *http.Request) bool {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return subtle.ConstantTimeCompare([]byte(token), []byte(s.Token)) == 1
}

// Sites walks the names of the sandbox's sites, in order.
func (s *Sandbox) Sites() iter.Seq[string] {
	return slices.Values(slices.Sorted(maps.Keys(s.options.Plan.Sites)))
}
