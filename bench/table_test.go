package bench

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/ledger/servertest"
	"mintbatch/internal/sandbox"
)

// BenchmarkTable prints the table of docs/performance.md: the whole program on sheets,
// ledgers and batches of some sizes, time and peak memory of each, and beside it what else
// reads or writes the same. `make table` runs it; with -short sheets and ledgers are small ones, the whole ways of batches are not.
func BenchmarkTable(b *testing.B) {
	defer servertest.Stop()
	for b.Loop() {
		t := &tabled{B: b, dir: b.TempDir()}
		t.program = t.stripped("../cmd/mintbatch")
		fmt.Println("\n| what | time | peak memory | beside it |\n|---|---|---|---|")
		t.weight()
		t.sheets()
		t.ledgers()
		for _, shared := range []bool{false, true} {
			small := t.wholeWay(1000, shared, 1e6, 32)
			large := t.wholeWay(10_000, shared, 1e6, 32)
			t.row("the mint of ten times as many", fmt.Sprintf("%.1f times as long", float64(large)/float64(small)), "", "")
		}
		t.wholeWay(2000, false, 8, 64)
		t.together(t.size(1000))
		t.distant(t.size(640), t.size(500))
	}
}

type tabled struct {
	*testing.B
	dir, program string
}

// size is a number of machines, or a twentieth of it.
func (t *tabled) size(n int) int {
	if testing.Short() {
		return n / 20
	}
	return n
}

func (t *tabled) row(what, took, memory, beside string) {
	fmt.Printf("| %s | %s | %s | %s |\n", what, took, memory, beside)
}

// run runs the program in a folder and prints its row.
func (t *tabled) run(dir, what, beside string, args ...string) time.Duration {
	return t.runs(1, dir, what, beside, args...)
}

// look is run for what changes nothing: the row is that of the fastest of three.
func (t *tabled) look(dir, what, beside string, args ...string) {
	t.runs(3, dir, what, beside, args...)
}

func (t *tabled) runs(n int, dir, what, beside string, args ...string) time.Duration {
	var most int
	fastest := math.Inf(1)
	for range n {
		c := exec.Command("python3", append([]string{"-c", measured, t.program}, args...)...)
		var errs bytes.Buffer
		c.Dir, c.Stderr = dir, &errs
		out, err := c.Output()
		require.NoError(t, err, "%s: %s%s", what, out, errs.String())
		var kib int
		var seconds float64
		_, err = fmt.Sscan(string(out), &kib, &seconds)
		require.NoError(t, err)
		most, fastest = max(most, kib), min(fastest, seconds)
	}
	t.row(what, fmt.Sprintf("%.2f s", fastest), fmt.Sprintf("%d MiB", most>>10), beside)
	return time.Duration(fastest * float64(time.Second))
}

// alone reports how long something else takes, which changes nothing: the fastest of three.
func alone(what string, do func() error) string {
	fastest := time.Duration(math.MaxInt64)
	for range 3 {
		began := time.Now()
		if err := do(); err != nil {
			return ""
		}
		fastest = min(fastest, time.Since(began))
	}
	return fmt.Sprintf("%s: %.2f s", what, fastest.Seconds())
}

func (t *tabled) write(dir, name string, content []byte) {
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o600))
}

// stripped builds a program as it is shipped.
func (t *tabled) stripped(pkg string) string {
	program := filepath.Join(t.dir, filepath.Base(pkg))
	build := exec.Command("go", "build", "-ldflags", "-s -w", "-o", program, pkg)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	return program
}

// weight tells how large the program is and how long it takes to start, the median of many; beside it one that
// has its largest libraries and does nothing.
func (t *tabled) weight() {
	skeleton := t.stripped("./testdata/skeleton")
	starts := func(program string) string {
		took := make([]float64, 101)
		for i := range took {
			began := time.Now()
			require.NoError(t, exec.Command(program, "--version").Run())
			took[i] = time.Since(began).Seconds()
		}
		slices.Sort(took)
		return fmt.Sprintf("%.1f ms", 1000*took[len(took)/2])
	}
	size := func(program string) string {
		info, err := os.Stat(program)
		require.NoError(t, err)
		return fmt.Sprintf("%.1f MB", float64(info.Size())/1e6)
	}
	t.row("`mintbatch --version`; the program has "+size(t.program), starts(t.program), "",
		fmt.Sprintf("its largest libraries alone: %s, %s", starts(skeleton), size(skeleton)))
}

// sheets checks large and hostile ones.
func (t *tabled) sheets() {
	dir := filepath.Join(t.dir, "sheets")
	t.write(dir, "mintbatch.yaml", []byte("ledger: none\n"+setupText))
	n := t.size(100_000)
	content := rows(n)
	t.write(dir, "m.csv", content)
	t.look(dir, fmt.Sprintf("`check` of %d rows of CSV", n), alone("reading the CSV", func() error {
		r := csv.NewReader(bytes.NewReader(content))
		for {
			if _, err := r.Read(); err != nil {
				return ignoreEnd(err)
			}
		}
	}), "--sheet", "m.csv", "check")
	book := workbook(t, n)
	t.write(dir, "m.xlsx", book)
	t.look(dir, fmt.Sprintf("`check` of %d rows of XLSX", n), alone("walking its rows", func() error { return walk(book) }), "--sheet", "m.xlsx", "check")
	long := "machine,preset,notes\n"
	for i := range t.size(1000) {
		long += fmt.Sprintf("m-%d,%s,%s\n", i, strings.Repeat("x", 32_000), strings.Repeat("{x}", 10_000))
	}
	t.write(dir, "long.csv", []byte(long))
	t.row(fmt.Sprintf("`check` that refuses %d rows with two cells of over 30,000 letters", t.size(1000)), strings.TrimPrefix(alone("", func() error {
		c := exec.Command(t.program, "--sheet", "long.csv", "check")
		c.Dir = dir
		_ = c.Run()
		return nil
	}), ": "), "", "")
	wide := filepath.Join(t.dir, "wide")
	t.write(wide, "mintbatch.yaml", wideSetup(t.size(500), t.size(2000), t.size(5000)))
	sheet := "machine,preset,site,address\n"
	for i := range t.size(10_000) {
		sheet += fmt.Sprintf("bms-sonar-%06d,p%d,s%d,pool\n", i, i%t.size(5000), i%t.size(500))
	}
	t.write(wide, "m.csv", []byte(sheet))
	t.look(wide, fmt.Sprintf("`check` of %d rows with %d presets, %d networks, %d sites", t.size(10_000), t.size(5000), t.size(2000), t.size(500)), "", "check")
}

func ignoreEnd(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func wideSetup(sites, networks, presets int) []byte {
	var b bytes.Buffer
	b.WriteString("mintbatch: 1\nsheet: m.csv\nledger: none\ntemplates: {deb12-base: {guest: linux}}\ndefaults: {template: deb12-base, domain: brackwater.example, login: survey, password: none}\nsites:\n")
	for i := range sites {
		fmt.Fprintf(&b, "  s%d: {kind: gateway, url: \"https://127.0.0.1:1/s%d\"}\n", i, i)
	}
	b.WriteString("networks:\n")
	for i := range networks {
		subnet := fmt.Sprintf("10.%d.%d", i/8, i%8*32)
		fmt.Fprintf(&b, "  n%d: {subnet: %[2]s.0/20, gateway: %[2]s.1, pools: {nodes: {ranges: \"%[2]s.10-%[2]s.250\"}}}\n", i, subnet)
	}
	b.WriteString("presets:\n")
	for i := range presets {
		fmt.Fprintf(&b, "  p%d: {cpus: 4, memory: 8GiB, packages: [chrony], network: n%d}\n", i, i%networks)
	}
	return b.Bytes()
}

// ledgers looks into a large one.
func (t *tabled) ledgers() {
	n := t.size(50_000)
	dir, _ := full(t.B, n)
	of := fmt.Sprintf(" in a ledger of %d machines", n)
	for _, args := range []string{"show --offline bms-sonar-000777", "list --offline bms-sonar-000777", "history bms-sonar-000777", "list --offline --json", "proof --offline --json", "proof --offline"} {
		t.look(dir, "`"+args+"`"+of, "", strings.Fields(args)...)
	}
	export, err := os.Create(filepath.Join(dir, "export"))
	require.NoError(t, err)
	writing := exec.Command(t.program, "ledger", "export")
	writing.Dir, writing.Stdout = dir, export
	began := time.Now()
	require.NoError(t, writing.Run())
	t.row("`ledger export` of it", fmt.Sprintf("%.2f s", time.Since(began).Seconds()), "", "")
	require.NoError(t, export.Close())
	other := filepath.Join(t.dir, "import")
	t.write(other, "mintbatch.yaml", []byte("ledger: l\n"+setupText))
	_ = os.Remove(filepath.Join(dir, "dump"))
	dump := exec.Command("sqlite3", "l", ".output dump", ".dump")
	dump.Dir = dir
	_ = dump.Run()
	t.run(other, "`ledger import` of it", alone("`sqlite3 .read` of a dump", func() error {
		_ = os.Remove(filepath.Join(other, "plain"))
		read := exec.Command("sqlite3", filepath.Join(other, "plain"), ".read dump")
		read.Dir = dir
		_ = read.Run()
		return dump.Err
	}), "ledger", "import", filepath.Join(dir, "export"))
}

// batch makes the folder of a batch, whose machines' names have a word, with a sandbox that it is at.
func (t *tabled) batch(n int, word, ledger string, speed float64, parallel int) (dir, setup string) {
	dir, err := os.MkdirTemp(t.dir, "way")
	require.NoError(t, err)
	url, fingerprint := t.serve(dir, speed)
	setup = regexp.MustCompile(`sites: .*`).ReplaceAllLiteralString(setupText,
		fmt.Sprintf(`sites: {%s: {kind: gateway, url: "%s", fingerprint: "%s", token: "file:sandbox/token", parallel: %d}}`, word, url, fingerprint, parallel))
	setup = "sheet: m.csv\nledger: " + ledger + "\n" + setup
	t.write(dir, "mintbatch.yaml", []byte(setup))
	t.write(dir, "m.csv", bytes.ReplaceAll(rows(n), []byte("sonar-0"), []byte(word+"-0")))
	return dir, setup
}

// together mints two batches at the same time, with one ledger.
func (t *tabled) together(n int) {
	for batches := 1; batches <= 2; batches++ {
		ledger := servertest.Database(t) + "?sslmode=disable"
		var all []*exec.Cmd
		for i := range batches {
			mint := exec.Command(t.program, "mint", "--yes")
			mint.Dir, _ = t.batch(n, fmt.Sprintf("quay%d", i), ledger, 1e6, 32)
			all = append(all, mint)
		}
		began := time.Now()
		for _, mint := range all {
			require.NoError(t, mint.Start())
		}
		for _, mint := range all {
			require.NoError(t, mint.Wait())
		}
		t.row(fmt.Sprintf("`mint`, %d machines, ledger in PostgreSQL, %d at the same time", n, batches), fmt.Sprintf("%.2f s", time.Since(began).Seconds()), "", "")
	}
}

// distant mints with a ledger that is 2.5 ms away, and at a site that takes 50 ms for each answer.
func (t *tabled) distant(n, linked int) {
	shared, err := url.Parse(servertest.Database(t))
	require.NoError(t, err)
	shared.Host = away(t, shared.Host, 2500*time.Microsecond)
	dir, _ := t.batch(n, "far", shared.String()+"?sslmode=disable", 1e6, 64)
	took := t.run(dir, fmt.Sprintf("`mint`, %d machines, 64 side by side, ledger in PostgreSQL, which answers after 2.5 ms", n), "", "mint", "--yes")
	t.row("the same, a machine", fmt.Sprintf("%.3f s", took.Seconds()/float64(n)), "", "")

	dir, text := t.batch(linked, "slow", "l", 1e6, 8)
	near := regexp.MustCompile(`127\.0\.0\.1:[0-9]+`).FindString(text)
	t.write(dir, "mintbatch.yaml", []byte(strings.ReplaceAll(text, near, away(t, near, 50*time.Millisecond))))
	t.run(dir, fmt.Sprintf("`mint`, %d linked clones, 8 side by side, at a site that answers after 50 ms", linked), "", "mint", "--yes")
}

// wholeWay takes a batch through its life at a sandbox, and returns how long its mint takes.
func (t *tabled) wholeWay(n int, shared bool, speed float64, parallel int) time.Duration {
	ledger, where := "l", "a file"
	if shared {
		ledger, where = servertest.Database(t)+"?sslmode=disable", "PostgreSQL"
	}
	at := fmt.Sprintf(", %d machines, ledger in %s", n, where)
	if speed < 1000 {
		at += fmt.Sprintf(", %d side by side at a site that takes %.2f s for a clone and %.1f s for a boot", parallel, 2/speed, 12/speed)
	}
	dir, text := t.batch(n, "sonar", ledger, speed, parallel)
	took := t.run(dir, "`mint`"+at, "", "mint", "--yes")
	t.run(dir, "an unchanged `mint`"+at, alone("`check`", func() error {
		c := exec.Command(t.program, "check")
		c.Dir = dir
		return c.Run()
	}), "mint", "--yes")
	t.write(dir, "mintbatch.yaml", []byte(strings.Replace(text, "memory: 8GiB", "memory: 12GiB", 1)))
	t.run(dir, "`mint` after the preset has changed"+at, "", "mint", "--yes")
	t.run(dir, "`retire` of a tenth"+at, "", "retire", "--yes", "bms-sonar-*0")
	return took
}

// serve serves a sandbox that has room, in a process of its own.
func (t *tabled) serve(dir string, speed float64) (url, fingerprint string) {
	site := sandbox.SitePlan{
		Stores:    []sandbox.StorePlan{{Name: "quay-fast", Capacity: 4000 * machine.TiB, Speed: 400 * machine.MiB}},
		Networks:  []sandbox.NetworkPlan{{Name: "survey"}},
		Templates: sandbox.DemoPlan().Sites["quay"].Templates,
		Folders:   []string{},
	}
	for i := range 4 {
		site.Hosts = append(site.Hosts, sandbox.HostPlan{Name: fmt.Sprintf("quay-hv%d", i+1), CPUs: 64, Memory: 64 * machine.TiB, Stores: []string{"quay-fast"}})
	}
	plan, err := json.Marshal(sandbox.Plan{Sites: map[string]sandbox.SitePlan{"quay": site}})
	require.NoError(t, err)
	t.write(filepath.Join(dir, "sandbox"), "plan.json", plan)
	serving := exec.Command(t.program, "sandbox", "--dir", "sandbox", "--speed", fmt.Sprint(speed))
	serving.Dir = dir
	out, err := serving.StdoutPipe()
	require.NoError(t, err)
	serving.Stderr = serving.Stdout
	require.NoError(t, serving.Start())
	t.Cleanup(func() { _ = serving.Process.Kill(); _ = serving.Wait() })
	for lines := bufio.NewScanner(out); fingerprint == "" && lines.Scan(); {
		if at, ok := strings.CutPrefix(lines.Text(), "the sandbox is at "); ok {
			url = at
		}
		if mark, ok := strings.CutPrefix(lines.Text(), "fingerprint: "); ok {
			fingerprint = mark
		}
	}
	require.NotEmpty(t, fingerprint)
	return url, fingerprint
}
