package bench

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// BenchmarkInspect inspects the disk of the guest of the real suite, beside virt-inspector (the yardstick), which has to say
// the same of the system.
func BenchmarkInspect(b *testing.B) {
	cache, err := os.UserCacheDir()
	require.NoError(b, err)
	disk := filepath.Join(cache, "mintbatch", "guest.qcow2")
	if _, err := os.Stat(disk); err != nil {
		b.Skip("skipped: the guest of the real suite was not built: make real")
	}
	if _, err := exec.LookPath("virt-inspector"); err != nil {
		b.Skip("skipped: there is no virt-inspector")
	}
	program := filepath.Join(b.TempDir(), "mintbatch")
	out, err := exec.Command("go", "build", "-o", program, "../cmd/mintbatch").CombinedOutput()
	require.NoError(b, err, "%s", out)
	ctx, stop := context.WithTimeout(b.Context(), 3*time.Minute)
	defer stop()
	began := time.Now()
	c := exec.CommandContext(ctx, "virt-inspector", "-a", disk, "--no-applications")
	c.Env = append(os.Environ(), "LIBGUESTFS_BACKEND=direct", "LIBGUESTFS_BACKEND_SETTINGS=force_tcg") // some computers have a /dev/kvm that hangs
	c.WaitDelay = time.Second                                                                          // the guest that it starts keeps its output open
	theirs, err := c.Output()
	require.NoError(b, err)
	yardstick := time.Since(began)
	for b.Loop() {
		began := time.Now()
		ours, _ := exec.Command(program, "template", "inspect", disk).Output() // which finds something
		b.ReportMetric(float64(yardstick)/float64(time.Since(began)), "×faster")
		name := regexp.MustCompile(`<product_name>([^<]+)</product_name>`).FindSubmatch(theirs)
		require.NotNil(b, name, "%s", theirs)
		assert.Regexp(b, `Debian GNU/Linux 12`, string(ours))
		assert.Contains(b, string(name[1]), "12")
		for _, system := range regexp.MustCompile(`<filesystem dev="[^"]+">\s*<type>([a-z0-9]+)</type>`).FindAllSubmatch(theirs, -1) {
			kind := map[string]string{"vfat": "fat"}[string(system[1])]
			if kind == "" {
				kind = string(system[1])
			}
			assert.Regexp(b, `(?m) `+kind+`( |$)`, string(ours))
		}
	}
}
