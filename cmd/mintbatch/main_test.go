package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/cli"
	"mintbatch/internal/core/event"
	"mintbatch/internal/fastdir"
	"mintbatch/internal/handover"
	"mintbatch/internal/ledger/servertest"
	"mintbatch/internal/run"
	"mintbatch/internal/sandbox"
)

// inMemory runs the tests with their files in memory, and several side by side: mostly
// they wait for machines that boot.
type inMemory struct{ tests *testing.M }

// Run implements testscript.TestingM.
func (m inMemory) Run() int {
	defer fastdir.Use()()
	defer servertest.Stop()
	defer built()()
	flag.Parse()
	if f := flag.Lookup("test.parallel"); f.Value.String() == f.DefValue {
		_ = f.Value.Set("5")
	}
	return m.tests.Run()
}

// whole reports whether the long harnesses run in full.
func whole() bool { return os.Getenv("MINTBATCH_FULL") != "" }

func TestMain(m *testing.M) {
	testscript.Main(inMemory{m}, map[string]func(){"mintbatch-dying": dying})
}

// built puts the program where the tests find it. It is built for them: it begins sooner than a copy of the tests would.
func built() (remove func()) {
	dir, err := os.MkdirTemp("", "mintbatch-program-")
	if err == nil {
		build := exec.Command("go", "build", "-ldflags=-s -w", "-o", dir+string(filepath.Separator), ".")
		build.Stderr = os.Stderr
		err = build.Run()
	}
	if err != nil {
		panic(err)
	}
	_ = os.Setenv("PATH", dir+string(filepath.ListSeparator)+os.Getenv("PATH"))
	return func() { _ = os.RemoveAll(dir) }
}

// dying is mintbatch with a first argument that says at which boundary of
// which machine's step the process dies, as `bms-tide-01:clone:acted`: at once
// and without a word, as by kill -9. Of several, with commas, it reaches the last only
// after all others.
func dying() {
	points := strings.Split(os.Args[1], ",")
	at := points[len(points)-1]
	var others sync.WaitGroup
	others.Add(len(points) - 1)
	app := &cli.App{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Boundary: func(b run.Boundary) {
		switch point := fmt.Sprintf("%s:%s:%s", b.Name, b.Step, b.Moment); {
		case slices.Contains(points[:len(points)-1], point):
			others.Done()
		case point == at:
			others.Wait()
			self, _ := os.FindProcess(os.Getpid())
			_ = self.Kill()
			select {}
		}
	}}
	os.Exit(app.Main(append([]string{"mintbatch"}, os.Args[2:]...)))
}

func TestScripts(t *testing.T) {
	t.Parallel()
	scripts(t, "testdata/script")
}

// scripts runs those of a folder.
func scripts(t *testing.T, dir string) {
	testscript.Run(t, testscript.Params{
		Dir:       dir,
		Setup:     func(e *testscript.Env) error { e.Setenv("HOME", e.WorkDir); return nil },
		Condition: condition,
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"sandbox":      serve,
			"registry":     startRegistry,
			"at-site":      atSite,
			"edit":         edit,
			"names":        names,
			"records":      records,
			"directory":    startDirectory,
			"domain":       domain,
			"dns-add":      byOthers(true),
			"dns-delete":   byOthers(false),
			"lacks":        lacks,
			"change":       change,
			"idof":         idOf,
			"in-order":     inOrder,
			"free-port":    freePort,
			"stages-in":    stagesIn,
			"sameline":     lines(true),
			"otherline":    lines(false),
			"newer":        altered(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`),
			"orphan":       altered(`INSERT INTO reservations (network, address, site, machine, adapter, since) VALUES ('survey', '198.51.100.199', 'quay', 'nobody', 1, '')`),
			"stop-sandbox": func(ts *testscript.TestScript, _ bool, _ []string) { stopServing(ts) },
		},
	})
}

// again opens a sandbox at the port that it had: another test may just have taken it
// for one of its own connections.
func again(o sandbox.Options) (s *sandbox.Sandbox, err error) {
	for range 300 {
		if s, err = sandbox.Open(o); err == nil || !strings.Contains(err.Error(), "address already in use") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return s, err
}

// serve lays out the demo in a folder and serves its sandbox until the script
// ends: `sandbox DIR [KIND:SHARE...]`. Called again it serves it anew.
func serve(ts *testscript.TestScript, _ bool, args []string) {
	dir := ts.MkAbs(args[0])
	faults, err := sandbox.ParseFaults(args[1:], 7)
	ts.Check(err)
	s, err := again(sandbox.Options{Dir: dir + "/sandbox", Plan: sandbox.DemoPlan(), Speed: 200, Faults: faults})
	ts.Check(err)
	if _, err := os.Stat(dir + "/mintbatch.yaml"); err != nil {
		ts.Check(handover.WriteDemo(dir, handover.Demo{URL: s.URL, Fingerprint: s.Fingerprint.String(), DNS: s.Names.Address}))
	}
	ctx, end := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { _ = s.Serve(ctx); close(ended) }()
	stop := func() { end(); <-ended }
	serving[ts.Getenv("WORK")] = stop
	ts.Defer(stop)
	ts.Check(os.WriteFile(dir+"/url", []byte(s.URL+"\n"), 0o600))
}

var serving = map[string]func(){}

func stopServing(ts *testscript.TestScript) { serving[ts.Getenv("WORK")]() }

// atSite counts the machines that the sandbox has, and those that are gone but for data disks
// which were kept, and that no two machines share a name: `at-site DIR N [N]`.
func atSite(ts *testscript.TestScript, _ bool, args []string) {
	names, loose := sandboxRecords(ts.MkAbs(args[0]))
	if want, _ := strconv.Atoi(strings.Join(args[2:], "")); len(args) > 2 && loose != want {
		ts.Fatalf("the sandbox has the data disks of %d machines that are gone, not of %d", loose, want)
	}
	if want, _ := strconv.Atoi(args[1]); len(names) != want {
		ts.Fatalf("the sandbox has %d machines, not %d: %v", len(names), want, names)
	}
	seen := map[string]bool{}
	for _, n := range names {
		if seen[n] {
			ts.Fatalf("the sandbox has %s twice", n)
		}
		seen[n] = true
	}
}

// names serves DNS on loopback until the script ends: `names LISTEN ADDRESS NAME`.
func names(ts *testscript.TestScript, _ bool, args []string) {
	zone, err := dns.ReverseAddr(args[1])
	ts.Check(err)
	known, err := dns.NewRR(zone + " PTR " + args[2] + ".")
	ts.Check(err)
	conn, err := net.ListenPacket("udp", args[0])
	ts.Check(err)
	server := &dns.Server{PacketConn: conn, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		answer := new(dns.Msg).SetReply(q)
		if q.Question[0].Name == zone {
			answer.Answer = []dns.RR{known}
		}
		_ = w.WriteMsg(answer)
	})}
	go server.ActivateAndServe() //nolint:errcheck // it ends with the script
	ts.Defer(func() { _ = server.Shutdown() })
}

// edit replaces text in a file: `edit FILE OLD NEW`; \n is a line feed.
// lacks fails if one of some files contains what is in another: lacks PASSWORD FILE...
func lacks(ts *testscript.TestScript, _ bool, args []string) {
	secret := strings.TrimSpace(ts.ReadFile(args[0]))
	if secret == "" {
		ts.Fatalf("%s is empty", args[0])
	}
	for _, file := range args[1:] {
		if strings.Contains(ts.ReadFile(file), secret) {
			ts.Fatalf("%s contains it", file)
		}
	}
}

func edit(ts *testscript.TestScript, _ bool, args []string) {
	text := ts.ReadFile(args[0])
	for i := range args {
		args[i] = strings.ReplaceAll(args[i], `\n`, "\n")
	}
	if !strings.Contains(text, args[1]) {
		ts.Fatalf("%s has no %q", args[0], args[1])
	}
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.ReplaceAll(text, args[1], args[2])), 0o600))
}

// change edits what the sandbox, which is down, keeps of a machine:
// `change DIR MACHINE OLD NEW`.
func change(ts *testscript.TestScript, _ bool, args []string) {
	path := args[0] + "/sandbox/machines.jsonl"
	var lines []string
	for line := range strings.Lines(ts.ReadFile(path)) {
		if strings.Contains(line, `"`+args[1]+`"`) {
			line = regexp.MustCompile(args[2]).ReplaceAllString(line, args[3])
		}
		lines = append(lines, line)
	}
	ts.Check(os.WriteFile(ts.MkAbs(path), []byte(strings.Join(lines, "")), 0o600))
}

// inOrder finds lines in the log of a run, each behind the one before it:
// `in-order LOG MACHINE/STEP/STATE...`.
func inOrder(ts *testscript.TestScript, _ bool, args []string) {
	lines := strings.Split(ts.ReadFile(args[0]), "\n")
	for _, want := range args[1:] {
		part := strings.Split(want, "/")
		at := slices.IndexFunc(lines, func(line string) bool {
			var one event.Line
			return json.Unmarshal([]byte(line), &one) == nil && one.Name == part[0] && one.Step == part[1] && one.State == part[2]
		})
		if at < 0 {
			ts.Fatalf("%s is not in its place in %s", want, args[0])
		}
		lines = lines[at+1:]
	}
}

// stagesIn compares the stages in the log of a run, as they came: `stages-in LOG MACHINE NAME/STATE...`.
func stagesIn(ts *testscript.TestScript, _ bool, args []string) {
	var all []string
	for line := range strings.Lines(ts.ReadFile(args[0])) {
		var one event.Line
		if json.Unmarshal([]byte(line), &one) == nil && one.Name == args[1] && one.Stage != nil {
			all = append(all, one.Stage.Name+"/"+one.Stage.State)
		}
	}
	for _, ended := range args[2:] { // what was begun and ended between two polls was only seen to end
		if strings.HasSuffix(ended, "/done") && !slices.Contains(all, ended) {
			ts.Fatalf("%s is not among %v", ended, all)
		}
	}
}

// freePort puts a TCP port of loopback that nobody has into the environment: `free-port` sets $PORT.
func freePort(ts *testscript.TestScript, _ bool, _ []string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	ts.Check(err)
	ts.Setenv("PORT", strconv.Itoa(l.Addr().(*net.TCPAddr).Port))
	ts.Check(l.Close())
}

// idOf puts the id of a ledger into the environment: `idof FILE` sets $LEDGER.
func idOf(ts *testscript.TestScript, _ bool, args []string) {
	db, err := sql.Open("sqlite", ts.MkAbs(args[0]))
	ts.Check(err)
	defer db.Close()
	var id string
	ts.Check(db.QueryRow(`SELECT value FROM about WHERE name = 'id'`).Scan(&id))
	ts.Setenv("LEDGER", id)
}

// lines compares the line of a name in two files: `sameline NAME FILE FILE`.
func lines(same bool) func(*testscript.TestScript, bool, []string) {
	return func(ts *testscript.TestScript, _ bool, args []string) {
		of := func(file string) string {
			for line := range strings.Lines(ts.ReadFile(file)) {
				if strings.HasPrefix(line, args[0]) {
					return line
				}
			}
			ts.Fatalf("%s has no line of %s", file, args[0])
			return ""
		}
		if (of(args[1]) == of(args[2])) != same {
			ts.Fatalf("%s in %s and %s: the same is %v", args[0], args[1], args[2], !same)
		}
	}
}

// altered changes a ledger behind the program's back.
func altered(statement string) func(*testscript.TestScript, bool, []string) {
	return func(ts *testscript.TestScript, _ bool, args []string) {
		db, err := sql.Open("sqlite", ts.MkAbs(args[0]))
		ts.Check(err)
		defer db.Close()
		_, err = db.Exec(statement)
		ts.Check(err)
	}
}

// served lays out the demo in a folder of the test's and serves its sandbox.
func served(t *testing.T, speed float64, faults ...string) (dir string, s *sandbox.Sandbox) {
	t.Helper()
	dir = t.TempDir()
	wrong, err := sandbox.ParseFaults(faults, 1)
	require.NoError(t, err)
	s, err = again(sandbox.Options{Dir: filepath.Join(dir, "sandbox"), Plan: sandbox.DemoPlan(), Speed: speed, Faults: wrong})
	require.NoError(t, err)
	ctx, end := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { _ = s.Serve(ctx); close(ended) }()
	t.Cleanup(func() { end(); <-ended })
	require.NoError(t, handover.WriteDemo(dir, handover.Demo{URL: s.URL, Fingerprint: s.Fingerprint.String(), DNS: s.Names.Address}))
	return dir, s
}

func write(t *testing.T, dir, name, content string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
}

// writer gathers what several goroutines write.
type writer struct {
	mu sync.Mutex
	strings.Builder
}

func (w *writer) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.Builder.Write(b)
}

// long is a sheet of what makes views wide.
var long = `machine,preset,template,network,address,network.2,address.2,network.3,address.3,owner,notes,labels,until,disks,password
bms-` + strings.Repeat("sonar", 11) + `-001,sonar-node,deb12-base,survey,198.51.100.60 2001:db8:b0a7:0:ffff:ffff:ffff:1,survey,198.51.100.61,chart,203.0.113.20,海図室 ångström sø ` + "e\u0301\u0301 \u200b" + `,"a long note, in which a lot is written about what this machine is for, and for whom",leg=north,2027-03-31,2GiB,generate
bms-tide-[01-03],tide-gauge,deb12-base,survey,pool,,,,,tide desk,,,,,
bms-tide-09,tide-gauge,deb12-base,survey,pool,,,,,tide desk,,,,,
`
