package media

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the tools that everyone has make of a volume: no fault in it, its label,
// and every file byte for byte.
func TestFATInOtherPrograms(t *testing.T) {
	for _, tool := range []string{"mcopy", "fsck.vfat", "blkid"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip("skipped: mtools, dosfstools and blkid are not all installed")
		}
	}
	large := []File{{"LARGE.BIN", bytes.Repeat([]byte("0123456789abcdef"), 3<<16)}, {"small", []byte("s")}} // 3 MiB make it FAT16
	for _, files := range [][]File{seed, many(60), large, nil} {
		dir := t.TempDir()
		path := filepath.Join(dir, "seed.img")
		image, err := Image(FATKind, "answers", files)
		require.NoError(t, err)
		assert.Equal(t, FATKind, KindOf(image))
		require.NoError(t, os.WriteFile(path, image, 0o600))
		said, err := exec.Command("fsck.vfat", "-n", "-v", path).CombinedOutput()
		require.NoError(t, err, "%s", said)
		label, err := exec.Command("blkid", "-p", "-o", "value", "-s", "LABEL", path).Output()
		require.NoError(t, err)
		assert.Equal(t, "ANSWERS\n", string(label))
		for _, f := range files {
			got, err := exec.Command("mcopy", "-n", "-i", path, "::"+f.Name, "-").Output()
			require.NoError(t, err, f.Name)
			assert.True(t, bytes.Equal(f.Content, got), f.Name)
		}
		again, _ := Image(FATKind, "answers", files)
		assert.True(t, bytes.Equal(image, again))
	}
	empty, _ := Image(FATKind, "answers", nil)
	assert.Len(t, empty, (1+2+1+1)*fatSector)
}
