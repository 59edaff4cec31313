//go:build real

package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// These need a hypervisor: `make bench-real` gives them one.

const hypervisor = "qemu:///system"

// site lays out stores and templates at the hypervisor and a folder with a
// setup for them.
func site(b *testing.B) (dir, lab string) {
	b.Helper()
	top, err := os.MkdirTemp("", "mintbatch-bench-")
	require.NoError(b, err)
	b.Cleanup(func() { _ = os.RemoveAll(top) })
	require.NoError(b, os.Chmod(top, 0o755))
	lab = filepath.Join(top, "lab")
	must(b, ".", "../real/lab.sh", os.Getenv("MINTBATCH_REAL_GUEST"), lab)
	dir = b.TempDir()
	must(b, ".", "go", "build", "-o", filepath.Join(dir, "mintbatch"), "../cmd/mintbatch")
	key := must(b, dir, "./mintbatch", "secret", "keygen", "operator.key")
	recipient := regexp.MustCompile(`age1[a-z0-9]+`).FindString(key)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "mintbatch.yaml"), fmt.Appendf(nil, `mintbatch: 1
sheet: machines.csv
sites: {quay: {kind: libvirt, hosts: {quay-1: "%s"}}}
templates:
  deb12-disk: {guest: linux, volume: templates/deb12-disk.qcow2, hardware: {emulator: qemu}}
  big-disk: {guest: linux, volume: templates/big.qcow2, hardware: {emulator: qemu}}
networks: {survey: {}}
defaults: {site: quay, store: pool, network: survey, login: survey, memory: 768MiB, cpus: 2, power: off, domain: brackwater.example}
secrets: {recipients: ["%s"]}
`, hypervisor, recipient), 0o600))
	return dir, lab
}

func must(b *testing.B, dir, name string, args ...string) string {
	b.Helper()
	c := exec.Command(name, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	require.NoError(b, err, "%s %v: %s", name, args, out)
	return string(out)
}

// clones is how many machines are made by each side.
const clones = 200

// BenchmarkLibvirtLinkedClones mints 200 linked clones, each with its seed,
// password and host key. The yardstick is a loop of general-purpose programs
// that does the same, clones.sh.
func BenchmarkLibvirtLinkedClones(b *testing.B) {
	dir, lab := site(b)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "machines.csv"), fmt.Appendf(nil, "machine,template,disk\nbms-tide-[001-%03d],deb12-disk,2GiB\n", clones), 0o600))
	b.Run("mintbatch", func(b *testing.B) {
		for b.Loop() {
			must(b, dir, "./mintbatch", "mint", "--yes", "--quiet")
			b.StopTimer()
			must(b, dir, "./mintbatch", "retire", "--yes", "--quiet", "bms-*")
			b.StartTimer()
		}
		perMachine(b, clones)
	})
	b.Run("loop", func(b *testing.B) {
		for b.Loop() {
			must(b, ".", "./clones.sh", fmt.Sprint(clones), lab)
		}
		perMachine(b, clones)
	})
}

func perMachine(b *testing.B, n float64) {
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/n/1000, "ms/machine")
}

// BenchmarkLibvirtUnchanged mints 1,000 machines that are all as they should be.
// A daemon reports all states at once, but of descriptions one by one: the
// yardstick is reading them all in one session of virsh.
func BenchmarkLibvirtUnchanged(b *testing.B) {
	const n = 1000
	dir, _ := site(b)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "machines.csv"), fmt.Appendf(nil, "machine,template,disk\nbms-tide-[0001-%04d],deb12-disk,2GiB\n", n), 0o600))
	must(b, dir, "./mintbatch", "mint", "--yes", "--quiet")
	all := "for name in $(virsh -q -c " + hypervisor + " list --all --name); do echo dumpxml --inactive $name; done | virsh -q -c " + hypervisor + " >read.xml"
	for _, c := range []struct {
		name string
		args []string
	}{{"mint", []string{"./mintbatch", "mint", "--yes"}}, {"yardstick-check-alone", []string{"./mintbatch", "check"}}, {"yardstick-virsh", []string{"sh", "-c", all}}} {
		b.Run(c.name, func(b *testing.B) {
			for b.Loop() {
				must(b, dir, c.args[0], c.args[1:]...)
			}
			perMachine(b, n)
		})
	}
	must(b, dir, "./mintbatch", "retire", "--yes", "--quiet", "bms-*")
}

// BenchmarkLibvirtFullClone makes a full clone of a disk of 2 GiB. The yardstick
// is cp of the same file, taken in turns with it after a first round that warms
// the caches, by itself and with what it has written made durable.
func BenchmarkLibvirtFullClone(b *testing.B) {
	dir, lab := site(b)
	raw, big := filepath.Join(lab, "big.raw"), filepath.Join(lab, "templates", "big.qcow2")
	must(b, ".", "dd", "if=/dev/urandom", "of="+raw, "bs=1M", "count=2048", "status=none")
	must(b, ".", "qemu-img", "convert", "-O", "qcow2", raw, big)
	require.NoError(b, os.Remove(raw))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "machines.csv"), []byte("machine,template,clone\nbms-chart-01,big-disk,full\n"), 0o600))
	copied := filepath.Join(lab, "pool", "copy.qcow2")
	sides := []struct {
		name     string
		do, undo []string
		took     time.Duration
	}{
		{"mintbatch", []string{"./mintbatch", "mint", "--yes", "--quiet"}, []string{"./mintbatch", "retire", "--yes", "--quiet", "bms-*"}, 0},
		{"cp", []string{"cp", big, copied}, []string{"rm", copied}, 0},
		{"cp-and-sync", []string{"sh", "-c", "cp " + big + " " + copied + " && sync -d " + copied}, []string{"rm", copied}, 0},
	}
	rounds := 0
	round := func(count bool) {
		for i := range sides {
			must(b, ".", "sync")
			began := time.Now()
			must(b, dir, sides[i].do[0], sides[i].do[1:]...)
			if count {
				sides[i].took += time.Since(began)
			}
			must(b, dir, sides[i].undo[0], sides[i].undo[1:]...)
		}
	}
	round(false)
	for b.Loop() {
		for range 5 {
			round(true)
			rounds++
		}
	}
	for _, side := range sides {
		b.ReportMetric(float64(side.took.Milliseconds())/float64(rounds), side.name+"-ms")
	}
}
