package library

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/secret"
	"mintbatch/internal/library/registrytest"
)

func registry(t *testing.T) (*registrytest.Registry, Options) {
	t.Helper()
	r, err := registrytest.Start(t.TempDir())
	if errors.Is(err, registrytest.ErrNone) {
		t.Skip("skipped: " + err.Error())
	}
	require.NoError(t, err)
	t.Cleanup(r.Stop)
	o := Options{URL: &url.URL{Scheme: "https", Host: r.Address, Path: "/templates"}, Login: registrytest.Login, Password: registrytest.Password}
	require.NoError(t, o.Fingerprint.UnmarshalText([]byte(r.Fingerprint)))
	return r, o
}

func manifest(t *testing.T, kind string, subject *ocispec.Descriptor, layers ...ocispec.Descriptor) []byte {
	t.Helper()
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest, ArtifactType: kind, Subject: subject,
		Config: Descriptor(ocispec.MediaTypeEmptyJSON, []byte("{}")), Layers: layers}
	content, err := json.Marshal(m)
	require.NoError(t, err)
	return content
}

// A registry and a folder do the same.
func TestStores(t *testing.T) {
	_, o := registry(t)
	remote, err := NewRegistry(o)
	require.NoError(t, err)
	folder := filepath.Join(t.TempDir(), "library")
	for name, s := range map[string]Store{"registry": remote, "folder": NewFolder(folder)} {
		t.Run(name, func(t *testing.T) {
			ctx := context.Background()
			tags, err := s.Tags(ctx)
			require.NoError(t, err)
			assert.Empty(t, tags)
			_, err = s.Manifest(ctx, "a.1")
			assert.ErrorIs(t, err, ErrNotFound)

			content := []byte(strings.Repeat("content", 1000))
			blob, config := Descriptor("application/x", content), Descriptor("application/x", []byte("{}"))
			require.NoError(t, s.Push(ctx, blob, content))
			require.NoError(t, s.Push(ctx, blob, content), "again")
			require.NoError(t, s.Push(ctx, config, []byte("{}")))
			there, err := s.Has(ctx, blob)
			require.NoError(t, err)
			assert.True(t, there)
			back, err := Read(ctx, s, blob, 1<<20)
			require.NoError(t, err)
			assert.Equal(t, content, back)
			_, err = Read(ctx, s, blob, 10)
			assert.ErrorIs(t, err, ErrContent)
			missing := Descriptor("application/x", []byte("missing"))
			there, err = s.Has(ctx, missing)
			require.NoError(t, err)
			assert.False(t, there)
			_, err = Read(ctx, s, missing, 10)
			assert.ErrorIs(t, err, ErrNotFound)

			one, two := manifest(t, "kind", nil, blob), manifest(t, "kind", nil, config)
			require.NoError(t, s.PushManifest(ctx, "a.1", one))
			require.NoError(t, s.PushManifest(ctx, "a.2", two))
			d := Descriptor(ocispec.MediaTypeImageManifest, one)
			signature := manifest(t, "signature", &d, config)
			require.NoError(t, s.PushManifest(ctx, "", signature))
			attached, err := s.Attached(ctx, d, "signature")
			require.NoError(t, err)
			assert.Equal(t, [][]byte{signature}, attached)
			attached, err = s.Attached(ctx, d, "other")
			require.NoError(t, err)
			assert.Empty(t, attached)
			attached, err = s.Attached(ctx, Descriptor(ocispec.MediaTypeImageManifest, two), "signature")
			require.NoError(t, err)
			assert.Empty(t, attached)
			tags, err = s.Tags(ctx)
			require.NoError(t, err)
			assert.Subset(t, tags, []string{"a.1", "a.2"})
			back, err = s.Manifest(ctx, "a.1")
			require.NoError(t, err)
			assert.Equal(t, one, back)

			require.NoError(t, s.Drop(ctx, "a.1"))
			_, err = s.Manifest(ctx, "a.1")
			assert.ErrorIs(t, err, ErrNotFound)
			back, err = s.Manifest(ctx, "a.2")
			require.NoError(t, err)
			assert.Equal(t, two, back)
			assert.ErrorIs(t, s.Drop(ctx, "a.1"), ErrNotFound)
		})
	}
	left := 0
	require.NoError(t, filepath.WalkDir(filepath.Join(folder, "blobs"), func(_ string, e fs.DirEntry, err error) error {
		if !e.IsDir() {
			left++
		}
		return err
	}))
	assert.Equal(t, 2, left, "the manifest that is left, and its config")
}

// A registry that refuses, or is another one, is told from one that has nothing.
func TestRegistryThatRefuses(t *testing.T) {
	_, o := registry(t)
	tags := func(o Options) error {
		r, err := NewRegistry(o)
		require.NoError(t, err)
		_, err = r.Tags(context.Background())
		return err
	}
	wrong := o
	wrong.Password = "wrong"
	assert.ErrorContains(t, tags(wrong), "it does not accept the login and password")
	nobody := o
	nobody.Login = ""
	assert.ErrorIs(t, tags(nobody), ErrUnreachable)
	other := o
	other.Fingerprint = secret.FingerprintOf([]byte("another"))
	assert.ErrorContains(t, tags(other), "its certificate has the fingerprint")
}

// What a registry gives is held against what was asked for.
func TestDamagedBlobs(t *testing.T) {
	r, o := registry(t)
	s, err := NewRegistry(o)
	require.NoError(t, err)
	ctx := context.Background()
	content := bytes.Repeat([]byte("content"), 100)
	blob := Descriptor("application/x", content)
	require.NoError(t, s.Push(ctx, blob, content))
	file := filepath.Join(r.Dir, "data/docker/registry/v2/blobs/sha256", blob.Digest.Encoded()[:2], blob.Digest.Encoded(), "data")
	content[5] ^= 1
	require.NoError(t, os.WriteFile(file, content, 0o600))
	_, err = Read(ctx, s, blob, 1<<20)
	assert.ErrorIs(t, err, ErrContent)
	assert.ErrorIs(t, Copy(io.Discard, bytes.NewReader(content[:10]), blob), ErrContent, "one that ends early")
	assert.ErrorIs(t, Copy(io.Discard, bytes.NewReader(append(content, 1)), blob), ErrContent, "one that goes on")
	_, err = NewFolder(t.TempDir()).Has(ctx, ocispec.Descriptor{Digest: "sha256:../../etc/passwd"})
	assert.ErrorIs(t, err, ErrContent, "a digest is no path")
}

// A limit is kept to.
func TestLimit(t *testing.T) {
	_, o := registry(t)
	o.Limit = 200 << 10
	s, err := NewRegistry(o)
	require.NoError(t, err)
	content := bytes.Repeat([]byte("0123456789abcdef"), 20<<10) // 320 KiB, of which a part may go at once
	began := time.Now()
	require.NoError(t, s.Push(context.Background(), Descriptor("application/x", content), content))
	assert.Greater(t, time.Since(began), time.Second)
}
