package bench

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/formats"
	"mintbatch/internal/diskfile"
)

// scattered writes a disk of 4 GiB with 1.5 GiB of data in runs of 64 KiB to 4 MiB, half of which can be compressed.
func scattered(b *testing.B, dir string) (file string) {
	b.Helper()
	size, data := int64(4<<30), int64(1536<<20)
	if testing.Short() {
		size, data = size/16, data/16
	}
	file = filepath.Join(dir, "source.raw")
	f, err := os.Create(file)
	require.NoError(b, err)
	defer f.Close()
	require.NoError(b, f.Truncate(size))
	chance := rand.NewChaCha8([32]byte{4})
	pool := make([]byte, 8<<20)
	_, _ = chance.Read(pool)
	for left := data; left > 0; {
		n := int64(64<<10) << (chance.Uint64() % 7)
		at := int64(chance.Uint64()%uint64((size-n)>>16)) << 16
		part := pool[chance.Uint64()%uint64(len(pool)/2):][:n]
		if chance.Uint64()%2 == 0 {
			part = append([]byte(nil), part...)
			for i := range part {
				part[i] = part[i%2048]
			}
		}
		_, err := f.WriteAt(part, at)
		require.NoError(b, err)
		left -= n
	}
	return file
}

// pair takes turns with two ways to make a file, and returns how much longer the first takes: of the round in which it did best. Both are
// durable when they are done, and neither waits for what the other has written.
func pair(b *testing.B, target string, ours, theirs func() error) float64 {
	b.Helper()
	took := func(do func() error) time.Duration {
		require.NoError(b, os.RemoveAll(target))
		require.NoError(b, exec.Command("sync").Run())
		began := time.Now()
		require.NoError(b, do())
		return time.Since(began)
	}
	best := [2]time.Duration{took(theirs), took(ours)}
	for b.Loop() {
		best[0], best[1] = min(best[0], took(theirs)), min(best[1], took(ours))
	}
	return float64(best[1]) / float64(best[0])
}

// tool runs another program.
func tool(args ...string) error {
	return exec.Command(args[0], args[1:]...).Run()
}

// BenchmarkConvert converts a disk of 4 GiB with 1.5 GiB of data into each format, in turns with qemu-img. "xqemu-img" is how much longer
// ours takes.
func BenchmarkConvert(b *testing.B) {
	dir := b.TempDir()
	source, target := scattered(b, dir), filepath.Join(dir, "target")
	for _, of := range []struct {
		format  string
		variant image.Variant
		theirs  []string
	}{{"raw", "", []string{"raw"}}, {"qcow2", "", []string{"qcow2"}}, {"vhdx", "", []string{"vhdx"}}, {"vhd", "", []string{"vpc"}}, {"vmdk", "", []string{"vmdk"}}, {"vmdk", image.Stream, []string{"vmdk", "-o", "subformat=streamOptimized"}}} {
		b.Run(of.format+string(of.variant), func(b *testing.B) {
			f, _ := formats.Of(of.format)
			b.ReportMetric(pair(b, target, func() error {
				d, err := diskfile.Open(source, "raw")
				if err != nil {
					return err
				}
				defer d.Close()
				return diskfile.Write(b.Context(), target, f, image.Order{Variant: of.variant, Identity: uuid.Max}, d.Chain, nil, nil)
			}, func() error {
				return tool(append([]string{"sh", "-c", `qemu-img convert -f raw "$@" && sync "$2"`, "sh", source, target, "-O"}, of.theirs...)...)
			}), "xqemu-img")
		})
	}
}

// BenchmarkCopyDisk copies such a disk as a full clone does, in turns with cp.
func BenchmarkCopyDisk(b *testing.B) {
	dir := b.TempDir()
	source, target := scattered(b, dir), filepath.Join(dir, "target")
	b.ReportMetric(pair(b, target, func() error { return diskfile.Copy(b.Context(), target, source, nil) }, func() error {
		return tool("sh", "-c", `cp --sparse=always "$1" "$2" && sync "$2"`, "sh", source, target)
	}), "xcp")
}
