package bench

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/blocks"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/pack"
	"mintbatch/internal/library"
	"mintbatch/internal/library/registrytest"
)

// guestDisk writes a disk of which half was never written to, and the rest is like what systems have: programs of this
// machine, one after the other.
func guestDisk(b *testing.B, file string, size int64) {
	b.Helper()
	f, err := os.Create(file)
	require.NoError(b, err)
	defer f.Close()
	for at := int64(0); at < size/2; {
		for _, dir := range []string{"/usr/bin", "/usr/lib/x86_64-linux-gnu", "/usr/share/doc"} {
			entries, _ := os.ReadDir(dir)
			for _, e := range entries {
				content, err := os.ReadFile(filepath.Join(dir, e.Name()))
				if err != nil || at+int64(len(content)) > size/2 {
					continue
				}
				for i := 0; at > size/8 && i < len(content); i += 4096 { // another time it comes it is another one
					content[i] ^= byte(at >> 20)
				}
				_, err = f.WriteAt(content, at)
				require.NoError(b, err)
				at += int64(len(content)+4095) &^ 4095
			}
		}
		if at < size/4 {
			continue
		}
		break
	}
	require.NoError(b, f.Truncate(size))
}

// BenchmarkLibrary publishes a disk of 2 GiB to a registry and fetches it, beside zstd piped into a plain upload and back
// (the yardstick); then a second version of which 5% of the blocks were changed, anywhere.
func BenchmarkLibrary(b *testing.B) {
	size := int64(2 << 30)
	if testing.Short() {
		size = 256 << 20
	}
	dir := b.TempDir()
	r, err := registrytest.Start(dir)
	if errors.Is(err, registrytest.ErrNone) {
		b.Skip("skipped: " + err.Error())
	}
	require.NoError(b, err)
	defer r.Stop()
	o := library.Options{URL: &url.URL{Scheme: "https", Host: r.Address, Path: "/templates"}, Login: registrytest.Login, Password: registrytest.Password}
	require.NoError(b, o.Fingerprint.UnmarshalText([]byte(r.Fingerprint)))
	s, err := library.NewRegistry(o)
	require.NoError(b, err)
	disk := filepath.Join(dir, "disk")
	guestDisk(b, disk, size)
	for b.Loop() {
		began := time.Now()
		index, sent := publish(b, s, disk)
		published := time.Since(began)
		began = time.Now()
		fetch(b, s, index, filepath.Join(dir, "fetched.qcow2"))
		fetched := time.Since(began)
		out, err := exec.Command("qemu-img", "compare", disk, filepath.Join(dir, "fetched.qcow2")).CombinedOutput()
		require.NoError(b, err, "%s", out)

		began = time.Now()
		plain(b, fmt.Sprintf(`at=$(curl -sk -u %s:%s -X POST -D - -o /dev/null https://%s/v2/plain/blobs/uploads/ | tr -d '\r' | sed -n 's/^[Ll]ocation: //p')
zstd -q -c %s | tee %s.zst | curl -sk -u %s:%s -X PATCH -H 'Content-Type: application/octet-stream' -T - -D - -o /dev/null "$at" | tr -d '\r' | sed -n 's/^[Ll]ocation: //p' >%s.at
curl -sk -u %s:%s -X PUT "$(cat %s.at)&digest=sha256:$(sha256sum <%s.zst | cut -d' ' -f1)"`, registrytest.Login, registrytest.Password, r.Address, disk, disk, registrytest.Login, registrytest.Password, disk, registrytest.Login, registrytest.Password, disk, disk))
		up := time.Since(began)
		began = time.Now()
		plain(b, fmt.Sprintf(`curl -sk -u %s:%s https://%s/v2/plain/blobs/sha256:$(sha256sum <%s.zst | cut -d' ' -f1) | zstd -q -d -c --sparse >%s.back`, registrytest.Login, registrytest.Password, r.Address, disk, disk))
		down := time.Since(began)
		b.ReportMetric(float64(up)/float64(published), "×publish")
		b.ReportMetric(float64(down)/float64(fetched), "×fetch")
		about, err := os.Stat(disk + ".zst")
		require.NoError(b, err)
		b.ReportMetric(float64(sent)/float64(about.Size()), "×size")

		change(b, disk, size)
		_, more := publish(b, s, disk, index)
		b.ReportMetric(100*float64(more)/float64(sent), "%second")
	}
}

func plain(b *testing.B, script string) {
	b.Helper()
	out, err := exec.Command("sh", "-ec", script).CombinedOutput()
	require.NoError(b, err, "%s", out)
	require.NotContains(b, strings.ToLower(string(out)), "error")
}

// change changes 5% of the blocks of a disk that are written to.
func change(b *testing.B, disk string, size int64) {
	b.Helper()
	f, err := os.OpenFile(disk, os.O_RDWR, 0)
	require.NoError(b, err)
	defer f.Close()
	chance := rand.New(rand.NewPCG(1, 2))
	for range size / 4 / blocks.Size / 20 {
		part := make([]byte, 64)
		for i := range part {
			part[i] = byte(chance.IntN(256))
		}
		_, err := f.WriteAt(part, chance.Int64N(size/4/blocks.Size)*blocks.Size+chance.Int64N(blocks.Size-64))
		require.NoError(b, err)
	}
}

func publish(b *testing.B, s library.Store, disk string, earlier ...*pack.Index) (*pack.Index, int64) {
	b.Helper()
	f, err := os.Open(disk)
	require.NoError(b, err)
	defer f.Close()
	about, err := f.Stat()
	require.NoError(b, err)
	chain := image.Chain{image.Raw{ReaderAt: f, Size: about.Size()}}
	content, err := blocks.Read(chain, about.Size(), nil)
	require.NoError(b, err)
	group, ctx := errgroup.WithContext(context.Background())
	group.SetLimit(4)
	sent := int64(0)
	index, err := pack.Write(content, chain, earlier, func(p pack.Pack) error {
		sent += p.Size
		group.Go(func() error { return s.Push(ctx, library.Descriptor("application/x", p.Content), p.Content) })
		return nil
	})
	require.NoError(b, errors.Join(err, group.Wait()))
	encoded := index.Encode()
	require.NoError(b, s.Push(context.Background(), library.Descriptor("application/x", encoded), encoded))
	return index, sent + int64(len(encoded))
}

func fetch(b *testing.B, s library.Store, index *pack.Index, file string) {
	b.Helper()
	packs := make([][]byte, len(index.Packs))
	group, ctx := errgroup.WithContext(context.Background())
	group.SetLimit(4)
	for i, r := range index.Packs {
		group.Go(func() (err error) {
			packs[i], err = library.Read(ctx, s, ocispec.Descriptor{Digest: digest.Digest(r.String()), Size: r.Size}, r.Size)
			return err
		})
	}
	require.NoError(b, group.Wait())
	d, err := pack.NewDisk(index, func(i int) io.ReaderAt { return bytes.NewReader(packs[i]) })
	require.NoError(b, err)
	layout, err := qcow2.NewLayout(index.Disk, index.Has)
	require.NoError(b, err)
	f, err := os.Create(file)
	require.NoError(b, err)
	defer f.Close()
	require.NoError(b, layout.WriteTo(f, d))
}
