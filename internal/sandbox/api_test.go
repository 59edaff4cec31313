package sandbox

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/enrol"
	addressbook "mintbatch/internal/enrol/book"
	"mintbatch/internal/pinned"
	"mintbatch/internal/site"
	"mintbatch/internal/site/gateway"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// documented holds every call and its answer against a document, such as docs/gateway-api.yaml.
func documented(t *testing.T, document, base string, next http.Handler) (http.Handler, *atomic.Int32) {
	t.Helper()
	doc, err := openapi3.NewLoader().LoadFromFile("../../docs/" + document)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(context.Background()))
	doc.Servers = openapi3.Servers{{URL: base}}
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	openapi3filter.RegisterBodyDecoder("application/problem+json", openapi3filter.JSONBodyDecoder)
	var calls atomic.Int32
	options := &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, IncludeResponseStatus: true}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls.Add(1)
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		route, params, err := router.FindRoute(r)
		if !assert.NoError(t, err, "%s %s", r.Method, r.URL) {
			return
		}
		in := &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route, Options: options}
		assert.NoError(t, openapi3filter.ValidateRequest(r.Context(), in))
		r.Body = io.NopCloser(bytes.NewReader(body))
		kept := httptest.NewRecorder()
		next.ServeHTTP(kept, r)
		out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: kept.Code, Header: kept.Header(), Options: options}
		out.SetBodyBytes(kept.Body.Bytes())
		assert.NoError(t, openapi3filter.ValidateResponse(r.Context(), out), "%s %s: %s", r.Method, r.URL, kept.Body)
		for k, v := range kept.Header() {
			w.Header()[k] = v
		}
		w.WriteHeader(kept.Code)
		_, _ = w.Write(kept.Body.Bytes())
	}), &calls
}

// talk opens a sandbox and a gateway that talks to it by the document.
func talk(t *testing.T, faults ...string) (*Sandbox, *gateway.Gateway, *atomic.Int32) {
	t.Helper()
	f, err := ParseFaults(faults, 1)
	require.NoError(t, err)
	s, err := Open(Options{Dir: t.TempDir(), Plan: DemoPlan(), Speed: 1000, Faults: f})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.listener.Close() })
	handler, calls := documented(t, "gateway-api.yaml", "/quay", s.handler())
	server := httptest.NewTLSServer(handler)
	t.Cleanup(server.Close)
	g := gateway.New(gateway.Options{URL: parsed(t, server.URL+"/quay"), Token: s.Token, Fingerprint: secret.FingerprintOf(server.Certificate().Raw), Retries: -1})
	return s, g, calls
}

func settle(t *testing.T, g *gateway.Gateway) func(contract.Task, error) contract.Task {
	return func(task contract.Task, err error) contract.Task {
		t.Helper()
		require.NoError(t, err)
		for !task.Settled() {
			time.Sleep(time.Millisecond)
			task, err = g.Task(context.Background(), task.ID)
			require.NoError(t, err)
		}
		return task
	}
}

var wires = []machine.Card{{Network: "survey", MAC: "02:00:00:00:00:01"}, {Network: "chart", MAC: "02:00:00:00:00:02"}}

func order(name string) contract.CloneOrder {
	return contract.CloneOrder{Identity: uuid.New(), Name: name, Clone: machine.Clone{Template: "deb12-base", Kind: machine.Linked},
		Mark: contract.Mark{Ledger: uuid.New(), Key: "quay/" + name, Generation: 1}}
}

func TestEveryActByTheDocument(t *testing.T) {
	s, g, _ := talk(t)
	ctx := context.Background()
	done := settle(t, g)
	o := order("bms-sonar-01")
	id := o.Identity
	done(g.Clone(ctx, o))
	done(g.Clone(ctx, o)) // again: nothing is made
	done(g.Shape(ctx, id, machine.Shape{CPUs: 2, Memory: 2 * machine.GiB, Disk: 20 * machine.GiB}, contract.MayRestart))
	done(g.Wire(ctx, id, wires, contract.MayRestart))
	key, err := secret.NewHostKey(rand.Reader, "x")
	require.NoError(t, err)
	image, err := media.Image(media.ISOKind, "cidata", []media.File{
		{Name: "meta-data", Content: []byte("instance-id: a\nlocal-hostname: x\n")},
		{Name: "user-data", Content: []byte("#cloud-config\nhostname: bms-sonar-01\nfqdn: bms-sonar-01.brackwater.example\nusers: [{name: survey}]\nssh_keys:\n  ed25519_private: |\n    " +
			strings.ReplaceAll(strings.TrimSpace(key.Private), "\n", "\n    ") + "\n")},
		{Name: "network-config", Content: []byte("version: 2\nethernets:\n  a:\n    match: {macaddress: '02:00:00:00:00:01'}\n    addresses: [198.51.100.7/24]\n  b:\n    match: {macaddress: '02:00:00:00:00:02'}\n    dhcp4: true\n")},
	})
	require.NoError(t, err)
	done(g.Seed(ctx, id, image))
	done(g.Checkpoint(ctx, id, "fresh"))
	o.Mark.Labels, o.Mark.Until = map[string]string{"leg": "north"}, "2027-03-31"
	done(g.Record(ctx, id, o.Mark))
	done(g.Power(ctx, id, machine.On))

	var m *contract.Machine
	require.Eventually(t, func() bool {
		m, err = g.Machine(ctx, id)
		return err == nil && m.Report != nil
	}, 5*time.Second, time.Millisecond)
	assert.Equal(t, "bms-sonar-01", m.Report.Hostname)
	assert.Equal(t, map[string][]string{wires[0].MAC: {"198.51.100.7/24"}, wires[1].MAC: {"203.0.113.192/24"}}, m.Report.Addresses)
	assert.Equal(t, []string{"survey"}, m.Report.Logins)
	assert.Equal(t, key.Public, m.Report.HostKey+" x")
	assert.Empty(t, m.Report.Errors)
	assert.Equal(t, machine.Shape{CPUs: 2, Memory: 2 * machine.GiB, Disk: 20 * machine.GiB}, m.Shape)

	all, err := g.Survey(ctx)
	require.NoError(t, err)
	require.Len(t, all.Machines, 1)
	assert.Equal(t, "north", all.Machines[0].Mark.Labels["leg"])

	// The state outlives the sandbox.
	require.NoError(t, s.Names.Close())
	again, err := Open(Options{Dir: s.options.Dir, Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	defer again.listener.Close()
	assert.Equal(t, "bms-sonar-01", again.machines[id].Name)
	assert.NotEmpty(t, again.disk.readSeed(id))

	done(g.Restore(ctx, id, "FRESH"))
	m, err = g.Machine(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, machine.Off, m.Power, "as it was then")
	require.Len(t, m.Checkpoints, 1)
	_, err = g.Restore(ctx, id, "ready")
	assert.ErrorIs(t, err, site.ErrRefused)
	_, err = g.Detach(ctx, id)
	assert.ErrorContains(t, err, "drop them first")
	done(g.Drop(ctx, id, "fresh"))
	done(g.Drop(ctx, id, "fresh"))
	done(g.Detach(ctx, id))
	done(g.Detach(ctx, id))

	done(g.Remove(ctx, id, contract.DeleteDisks))
	done(g.Remove(ctx, id, contract.DeleteDisks))
	_, err = g.Machine(ctx, id)
	assert.ErrorIs(t, err, site.ErrNotFound)
	assert.Empty(t, s.disk.readSeed(id))
}

// Disks that were kept are nobody's any more, and still take their room.
// Of a sandbox that does not wait, all open tasks and guests are asked about in one call.
func TestPollsByTheDocument(t *testing.T) {
	s, g, calls := talk(t)
	s.options.NoWait, s.options.Speed = true, 20
	done := settle(t, g)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			o := order(fmt.Sprintf("bms-sonar-%02d", i))
			done(g.Clone(t.Context(), o))
			done(g.Power(t.Context(), o.Identity, machine.On))
			m, err := g.AwaitReport(t.Context(), o.Identity)
			assert.NoError(t, err)
			assert.Equal(t, machine.On, m.Power)
		})
	}
	all.Wait()
	assert.Less(t, calls.Load(), int32(8*6))
	_, err := g.AwaitReport(t.Context(), uuid.New())
	assert.ErrorIs(t, err, site.ErrNotFound)
	_, err = g.Task(t.Context(), "of another")
	assert.ErrorIs(t, err, site.ErrNotFound)
}

func TestKeptDisksByTheDocument(t *testing.T) {
	s, g, _ := talk(t)
	ctx := context.Background()
	done := settle(t, g)
	o := order("bms-sonar-01")
	done(g.Clone(ctx, o))
	done(g.Seed(ctx, o.Identity, []byte("seed")))
	m, err := g.Machine(ctx, o.Identity)
	require.NoError(t, err)
	require.Len(t, m.Files, 1)
	before, err := g.Survey(ctx)
	require.NoError(t, err)
	done(g.Remove(ctx, o.Identity, contract.KeepDisks))
	done(g.Remove(ctx, o.Identity, contract.KeepDisks))
	_, err = g.Machine(ctx, o.Identity)
	assert.ErrorIs(t, err, site.ErrNotFound)
	assert.Empty(t, s.disk.readSeed(o.Identity))
	after, err := g.Survey(ctx)
	require.NoError(t, err)
	assert.Empty(t, after.Machines)
	assert.Equal(t, before.Stores, after.Stores)
	for _, refused := range []func() (contract.Task, error){
		func() (contract.Task, error) { return g.Remove(ctx, o.Identity, contract.DeleteDisks) },
		func() (contract.Task, error) { return g.Clone(ctx, o) },
	} {
		_, err := refused()
		assert.ErrorIs(t, err, site.ErrRefused)
		assert.ErrorContains(t, err, m.Files[0])
	}
	o.Identity = uuid.New()
	done(g.Clone(ctx, o)) // of the same name
}

func TestRefusalsByTheDocument(t *testing.T) {
	_, g, _ := talk(t)
	ctx := context.Background()
	done := settle(t, g)
	first := order("bms-sonar-01")
	done(g.Clone(ctx, first))
	done(g.Wire(ctx, first.Identity, wires[:1], contract.MayRestart))
	second := order("bms-sonar-02")
	done(g.Clone(ctx, second))
	refused := func(_ contract.Task, err error) error { return err }
	change := func(f func(*contract.CloneOrder)) error {
		o := order("x")
		f(&o)
		return refused(g.Clone(ctx, o))
	}
	for says, err := range map[string]error{
		"another machine is named": change(func(o *contract.CloneOrder) { o.Name = "BMS-sonar-01" }),
		`no template "nope"`:       change(func(o *contract.CloneOrder) { o.Template = "nope" }),
		`no folder "nope"`:         change(func(o *contract.CloneOrder) { o.Folder = "nope" }),
		`no store "nope"`:          change(func(o *contract.CloneOrder) { o.Store = "nope" }),
		`no network "nope"`:        refused(g.Wire(ctx, second.Identity, []machine.Card{{Network: "nope", MAC: wires[1].MAC}}, contract.MayRestart)),
		"has the MAC address":      refused(g.Wire(ctx, second.Identity, wires[:1], contract.MayRestart)),
		"cannot shrink":            refused(g.Shape(ctx, first.Identity, machine.Shape{Disk: machine.GiB}, contract.MayRestart)),
	} {
		assert.ErrorIs(t, err, site.ErrRefused, says)
		assert.ErrorContains(t, err, says)
	}
	done(g.Shape(ctx, first.Identity, machine.Shape{Memory: machine.TiB}, contract.MayRestart))
	assert.ErrorContains(t, refused(g.Power(ctx, first.Identity, machine.On)), "not enough memory (needs 1TiB, has 128GiB)")
	_, err := g.Task(ctx, "nope")
	assert.ErrorIs(t, err, site.ErrNotFound)
}

// A guest without a readable seed shows it: it keeps the template's name and
// has no address.
func TestAGuestWithoutItsSeed(t *testing.T) {
	iso := func(label, user, meta string) []byte {
		b, err := media.Image(media.ISOKind, label, []media.File{{Name: "user-data", Content: []byte(user)}, {Name: "meta-data", Content: []byte(meta)}, {Name: "network-config", Content: []byte("version: 2\n")}})
		require.NoError(t, err)
		return b
	}
	good := iso("cidata", "#cloud-config\nhostname: x\n", "instance-id: a\n")
	template := TemplatePlan{Hostname: "deb12-base"}
	for name, c := range map[string]struct {
		seed           []byte
		hostname, says string
	}{
		"whole":      {good, "x", ""},
		"none":       {nil, "deb12-base", "none found"},
		"label":      {iso("other", "#cloud-config\nhostname: x\n", "a: b"), "deb12-base", "no answers of any kind"},
		"cut":        {good[:20*2048], "deb12-base", "seed: "},
		"no marker":  {iso("cidata", "hostname: x\n", "a: b\n"), "deb12-base", "does not begin with #cloud-config"},
		"YAML 1.1":   {iso("cidata", "#cloud-config\nhostname: 012\n", "a: b\n"), "deb12-base", "is not text"},
		"not a map":  {iso("cidata", "#cloud-config\n- x\n", "a: b\n"), "deb12-base", "not a YAML mapping"},
		"sexagesima": {iso("cidata", "#cloud-config\nhostname: 1:30\n", "a: b\n"), "deb12-base", "is not text"},
	} {
		report, _, _, _ := boot(template, nil, c.seed)
		assert.Equal(t, c.hostname, report.Hostname, name)
		assert.Contains(t, strings.Join(report.Errors, "\n"), c.says, name)
	}
}

func TestLostRepliesAndRefusedTokens(t *testing.T) {
	_, g, calls := talk(t, "lose:100%")
	_, err := g.Clone(context.Background(), order("x"))
	assert.ErrorIs(t, err, site.ErrUnreachable)
	assert.EqualValues(t, 1, calls.Load())
	s, err := Open(Options{Dir: t.TempDir(), Plan: DemoPlan()})
	require.NoError(t, err)
	ctx, end := context.WithCancel(context.Background())
	defer end()
	go func() { _ = s.Serve(ctx) }()
	for _, o := range []gateway.Options{{Token: "wrong", Fingerprint: s.Fingerprint}, {Token: s.Token}, {Token: s.Token, Fingerprint: secret.Fingerprint{1}}} {
		o.URL = parsed(t, s.URL+"/quay")
		bad := gateway.New(o)
		_, err = bad.Survey(ctx)
		assert.ErrorIs(t, err, site.ErrUnreachable)
		var unknown *pinned.CertificateError
		assert.Equal(t, o.Token == s.Token, errors.As(err, &unknown))
	}
}

func parsed(t *testing.T, text string) *url.URL {
	t.Helper()
	u, err := url.Parse(text)
	require.NoError(t, err)
	return u
}

// A gateway that waits answers once: for an act that takes a while, for a guest's report.
// A survey leaves out the specs in marks, which are told when they are asked for.
func TestOneAnswerEach(t *testing.T) {
	s, g, calls := talk(t)
	s.options.Speed = 20
	ctx := t.Context()
	o := order("bms-sonar-01")
	o.Mark.Spec = &machine.Spec{Preset: "sonar-node"}
	task, err := g.Clone(ctx, o)
	require.NoError(t, err)
	assert.True(t, task.Settled())
	assert.Equal(t, "quay-hv1 quay-bulk", task.Host+" "+task.Store)
	_, err = g.Power(ctx, o.Identity, machine.On)
	require.NoError(t, err)
	m, err := g.AwaitReport(ctx, o.Identity)
	require.NoError(t, err)
	assert.NotNil(t, m.Report)
	assert.EqualValues(t, 3, calls.Load())
	survey, err := g.Survey(ctx)
	require.NoError(t, err)
	assert.Nil(t, survey.Machines[0].Mark.Spec)
	specs, err := g.Specs(ctx, []uuid.UUID{o.Identity, uuid.New()})
	require.NoError(t, err)
	assert.Equal(t, map[uuid.UUID]*machine.Spec{o.Identity: o.Mark.Spec}, specs)
}

// A template is made of an image, is there as long as nobody drops it, and is not dropped while a clone needs it.
func TestTemplatesByTheDocument(t *testing.T) {
	s, g, _ := talk(t)
	ctx := context.Background()
	done := settle(t, g)
	const size = 3 << 20
	has := qcow2.NewClusters(size)
	has.Add(7)
	layout, err := qcow2.NewLayout(size, has)
	require.NoError(t, err)
	image := contract.Image{Size: layout.Length(), WriteTo: func(w io.Writer) error {
		return layout.WriteTo(w, bytes.NewReader(bytes.Repeat([]byte("tide"), size/4)))
	}}
	v := contract.Version{Ledger: uuid.New(), Of: "deb12-base", Number: 1, Made: time.Now().UTC().Truncate(time.Second), Digest: "d"}
	o := contract.TemplateOrder{Identity: uuid.New(), Disk: size, Version: v}
	done(g.MakeTemplate(ctx, o, image))
	done(g.MakeTemplate(ctx, o, image))
	other := o
	other.Identity = uuid.New()
	_, err = g.MakeTemplate(ctx, other, image)
	assert.ErrorContains(t, err, "there is another template deb12-base@1")
	done(g.DropTemplate(ctx, contract.Version{Of: "none", Number: 1}, other.Identity)) // its image

	require.NoError(t, s.Names.Close())
	again, err := Open(Options{Dir: s.options.Dir, Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	defer again.listener.Close()
	for name, plan := range map[string]Plan{"now": s.options.Plan, "after a restart": again.options.Plan} {
		t1, there := plan.Sites["quay"].template("deb12-base@1")
		require.True(t, there, name)
		assert.Equal(t, v, *t1.Version)
		assert.Equal(t, o.Identity, t1.ID)
	}
	d, changed, err := g.Disk(ctx, "deb12-base@1")
	require.NoError(t, err)
	assert.NotEmpty(t, changed)
	part := make([]byte, 8)
	_, err = d.ReadAt(part, 7*qcow2.WriteCluster-4)
	require.NoError(t, err)
	assert.Equal(t, "\x00\x00\x00\x00tide", string(part))

	clone := order("bms-sonar-01")
	clone.Template = "deb12-base@1"
	done(g.Clone(ctx, clone))
	_, err = g.DropTemplate(ctx, v, o.Identity)
	assert.ErrorContains(t, err, "bms-sonar-01 is a linked clone of it")
	done(g.Remove(ctx, clone.Identity, contract.DeleteDisks))
	_, err = g.DropTemplate(ctx, v, other.Identity)
	assert.ErrorContains(t, err, "with another id")
	done(g.DropTemplate(ctx, v, o.Identity))
	done(g.DropTemplate(ctx, v, o.Identity))
	_, _, err = g.Disk(ctx, "deb12-base@1")
	assert.Error(t, err)
	left, _ := filepath.Glob(s.path("templates/*"))
	assert.Empty(t, left)
}

// The address book and its caller speak as its document says.
func TestAddressBookByTheDocument(t *testing.T) {
	ctx := context.Background()
	s, err := Open(Options{Dir: t.TempDir(), Plan: DemoPlan()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.listener.Close() })
	handler, calls := documented(t, "address-book.yaml", "/book", s.handler())
	server := httptest.NewTLSServer(handler)
	t.Cleanup(server.Close)
	b := addressbook.New(addressbook.Options{URL: parsed(t, server.URL+"/book"), Token: s.Token, Fingerprint: secret.FingerprintOf(server.Certificate().Raw)})
	owner := entry.Owner{Ledger: uuid.New(), Key: machine.Key{Site: "quay", Name: "bms-tide-01"}}
	c := entry.Change{Name: "198.51.100.101", Want: []string{"quay/bms-tide-01"}, Owner: owner}
	require.NoError(t, b.Change(ctx, c))
	require.NoError(t, b.Change(ctx, c), "again changes nothing")
	other := c
	other.Owner.Name = "bms-tide-02"
	assert.ErrorIs(t, b.Change(ctx, other), entry.ErrForeign)
	all, err := b.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, []addressbook.Reserved{{Address: netip.MustParseAddr("198.51.100.101"), ID: owner.String(), Name: "quay/bms-tide-01"}}, all)
	c.Had, c.Want, c.Was = c.Want, nil, owner
	require.NoError(t, b.Change(ctx, c))
	require.NoError(t, b.Change(ctx, c), "it is released already")
	assert.Greater(t, calls.Load(), int32(7))
	_, err = addressbook.New(addressbook.Options{URL: parsed(t, server.URL+"/book"), Token: "wrong", Fingerprint: secret.FingerprintOf(server.Certificate().Raw)}).List(ctx)
	assert.ErrorIs(t, err, enrol.ErrRefused)
}
