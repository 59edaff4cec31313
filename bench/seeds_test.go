// Package bench measures the program against a yardstick in the same run; see
// docs/performance.md.
package bench

import (
	"bytes"
	"crypto/rand"
	"encoding/csv"
	"fmt"
	"io"
	"mintbatch/internal/core/assign"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

const setupText = `mintbatch: 1
sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/quay"}}
templates: {deb12-base: {guest: linux}}
networks: {survey: {subnet: 10.0.0.0/8, gateway: 10.0.0.1, dns: 10.0.0.2, pools: {nodes: {ranges: 10.1.0.0-10.9.0.0}}}}
defaults: {template: deb12-base, domain: brackwater.example, network: survey, login: survey, password: none, timezone: UTC}
presets: {sonar-node: {cpus: 4, memory: 8GiB, packages: [chrony]}}
`

// rows makes a sheet of n machines, a row each.
func rows(n int) []byte {
	var b bytes.Buffer
	b.WriteString("machine,preset,address,owner,notes\n")
	for i := range n {
		fmt.Fprintf(&b, "bms-sonar-%06d,sonar-node,pool,sonar desk,\"row %d, first leg\"\n", i, i)
	}
	return b.Bytes()
}

func build(tb testing.TB, content []byte) []*batch.Wanted {
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	require.Empty(tb, found)
	table, found := sheet.Read(sheet.Source{Name: "m.csv", Content: content})
	require.Empty(tb, found)
	wanted, found := batch.Build(table, s)
	require.Empty(tb, found)
	_, found = assign.Addresses(wanted, s, assign.Past{Ledger: uuid.UUID{1}})
	require.Empty(tb, found)
	return wanted
}

// From the sheet's bytes to the seed image of every machine, secrets left out.
func BenchmarkSheetToSeeds(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		content := rows(n)
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				for _, w := range build(b, content) {
					made, err := kinds.Write(answers.Hidden(*w.Machine(), "i"))
					if err == nil {
						_, err = made.Image()
					}
					if err != nil {
						b.Fatal(err)
					}
				}
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
			var m runtime.MemStats
			wanted := build(b, content)
			runtime.GC()
			runtime.ReadMemStats(&m)
			b.ReportMetric(float64(m.HeapAlloc)/float64(n), "live-B/machine")
			runtime.KeepAlive(wanted)
		})
	}
}

// The yardstick of the above: one seed by the usual general-purpose program.
func BenchmarkYardstickSeedByXorriso(b *testing.B) {
	if _, err := exec.LookPath("xorriso"); err != nil {
		b.Skip("skipped: xorriso is not installed")
	}
	dir := b.TempDir()
	w := build(b, rows(1))[0]
	var names []string
	for _, f := range cloudinit.Files(answers.Hidden(*w.Machine(), "i")) {
		names = append(names, filepath.Join(dir, f.Name))
		require.NoError(b, os.WriteFile(names[len(names)-1], f.Content, 0o600))
	}
	for b.Loop() {
		args := append([]string{"-as", "mkisofs", "-quiet", "-V", "cidata", "-J", "-r", "-o", filepath.Join(dir, "seed.iso")}, names...)
		require.NoError(b, exec.Command("xorriso", args...).Run())
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N), "µs/machine")
}

// One machine's seed with all that is made for it: the host key, a password and
// its hash, the answers and the image.
func BenchmarkWholeSeed(b *testing.B) {
	w := build(b, rows(1))[0]
	for _, c := range []struct {
		name string
		hash machine.Hash
	}{{"no password", machine.Hash{}}, {"sha512", machine.Hash{Method: "sha512"}}, {"yescrypt", machine.Hash{Method: "yescrypt"}}} {
		b.Run(c.name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				in := answers.Hidden(*w.Machine(), "i")
				key, err := secret.NewHostKey(rand.Reader, w.Name)
				in.Secrets.HostKeyPrivate, in.Secrets.HostKeyPublic = key.Private, key.Public
				if c.name != "no password" {
					password, err := secret.Policy{}.NewPassword(rand.Reader)
					require.NoError(b, err)
					in.Secrets.Hashes[w.Spec().Guest.Login], err = secret.Hash(rand.Reader, c.hash, password)
					require.NoError(b, err)
				}
				require.NoError(b, err)
				made, err := kinds.Write(in)
				require.NoError(b, err)
				_, err = made.Image()
				require.NoError(b, err)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N), "µs/machine")
		})
	}
}

// The yardstick of the above: a loop of the usual programs, for 100 machines.
func BenchmarkYardstickWholeSeedByPrograms(b *testing.B) {
	for _, program := range []string{"mkpasswd", "ssh-keygen", "xorriso"} {
		if _, err := exec.LookPath(program); err != nil {
			b.Skipf("skipped: %s is not installed", program)
		}
	}
	dir := b.TempDir()
	for _, f := range cloudinit.Files(answers.Hidden(*build(b, rows(1))[0].Machine(), "i")) {
		require.NoError(b, os.WriteFile(filepath.Join(dir, f.Name), f.Content, 0o600))
	}
	const machines = 100
	for b.Loop() {
		loop := exec.Command("sh", "-ec", `for i in $(seq 100); do
  rm -f key key.pub; ssh-keygen -q -t ed25519 -N '' -f key
  hash=$(echo "password-$i" | mkpasswd -s -m sha-512)
  xorriso -as mkisofs -quiet -V cidata -J -r -o seed.iso meta-data user-data network-config 2>/dev/null
done`)
		loop.Dir = dir
		require.NoError(b, loop.Run())
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/machines, "µs/machine")
}

// sizes are the numbers of machines to measure with; with -short, which only looks
// whether the benchmarks run, small ones.
func sizes(all ...int) []int {
	if testing.Short() {
		return []int{min(all[0], 1000)}
	}
	return all
}

// What reading a sheet into machines costs, beside merely reading its CSV.
func BenchmarkCheck(b *testing.B) {
	for _, n := range sizes(1000, 10000, 100000) {
		content := rows(n)
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				build(b, content)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
		})
		b.Run(fmt.Sprintf("yardstick-csv-alone/rows=%d", n), func(b *testing.B) {
			for b.Loop() {
				r := csv.NewReader(bytes.NewReader(content))
				for {
					if _, err := r.Read(); err == io.EOF {
						break
					}
				}
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
		})
	}
}

// Start-up: the program that does nothing but say its version, beside another
// static program of the system that does nothing.
func BenchmarkStartUp(b *testing.B) {
	program := filepath.Join(b.TempDir(), "mintbatch")
	build := exec.Command("go", "build", "-o", program, "mintbatch/cmd/mintbatch")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(b, err, "%s", out)
	for name, args := range map[string][]string{"mintbatch": {program, "--version"}, "yardstick-go-version": {"go", "version"}, "yardstick-true": {"true"}} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, exec.Command(args[0], args[1:]...).Run())
			}
		})
	}
}
