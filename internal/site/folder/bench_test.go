package folder

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/diskfile"
)

// BenchmarkLinked makes linked clones with all that is beside their disks.
func BenchmarkLinked(b *testing.B) {
	for _, format := range []string{"vhdx", "qcow2", "vhd", "vmdk"} {
		b.Run(format, func(b *testing.B) {
			s, err := New(Options{Path: b.TempDir(), Format: format, Describe: []Description{OVF, Libvirt}})
			require.NoError(b, err)
			require.NoError(b, os.Mkdir(filepath.Join(s.Path, templatesName), 0o700))
			require.NoError(b, diskfile.Write(b.Context(), filepath.Join(s.Path, templatesName, "deb12."+format), s.format, image.Order{Identity: uuid.NameSpaceDNS}, diskfile.Empty(20<<30), nil, nil))
			n := 0
			for b.Loop() {
				n++
				require.NoError(b, s.clone(context.Background(), contract.CloneOrder{Identity: uuid.New(), Name: fmt.Sprint("bms-pc-", n), Clone: machine.Clone{Template: "deb12", Kind: machine.Linked}}, func(float64) {}))
			}
		})
	}
}
