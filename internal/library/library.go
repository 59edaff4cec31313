// Package library keeps the versions of templates in places that are shared: a registry of the OCI distribution
// standard, or a folder in the OCI image layout. It knows blobs and manifests, and not what they mean.
package library

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Store is a library.
type Store interface {
	// Tags lists the names that manifests have.
	Tags(ctx context.Context) ([]string, error)
	// Manifest returns the manifest that a tag names; an ErrNotFound if there is none.
	Manifest(ctx context.Context, tag string) ([]byte, error)
	// Attached returns the manifests of a type that refer to another one as their subject.
	Attached(ctx context.Context, to ocispec.Descriptor, kind string) ([][]byte, error)
	// Has reports whether a blob is there.
	Has(ctx context.Context, blob ocispec.Descriptor) (bool, error)
	// Open reads a blob from its beginning. Whether it is the right one is for the caller to look at.
	Open(ctx context.Context, blob ocispec.Descriptor) (io.ReadCloser, error)
	// Push writes a blob. One that is there is written already.
	Push(ctx context.Context, blob ocispec.Descriptor, content []byte) error
	// PushManifest writes a manifest, and has the tag name it, if there is one.
	PushManifest(ctx context.Context, tag string, content []byte) error
	// Drop deletes what a tag names, with what is attached to it.
	Drop(ctx context.Context, tag string) error
}

// The errors that callers distinguish.
var (
	ErrNotFound    = errors.New("not in the library")
	ErrUnreachable = errors.New("the library cannot be reached")
	ErrContent     = errors.New("the library gave something else than was asked for")
)

// mostManifest bounds a manifest, as registries do.
const mostManifest = 4 << 20

// Descriptor describes content.
func Descriptor(mediaType string, content []byte) ocispec.Descriptor {
	return ocispec.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(content), Size: int64(len(content))}
}

// Read reads a blob, which has to be what its descriptor says and no larger than the most.
func Read(ctx context.Context, s Store, blob ocispec.Descriptor, most int64) ([]byte, error) {
	if blob.Size < 0 || blob.Size > most {
		return nil, fmt.Errorf("%w: %s of %d bytes", ErrContent, blob.Digest, blob.Size)
	}
	r, err := s.Open(ctx, blob)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var b bytes.Buffer
	if err := Copy(&b, r, blob); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// Copy copies a blob, which has to be what its descriptor says.
func Copy(to io.Writer, from io.Reader, blob ocispec.Descriptor) error {
	if err := blob.Digest.Validate(); err != nil {
		return fmt.Errorf("%w: %w", ErrContent, err)
	}
	verifier := blob.Digest.Verifier()
	n, err := io.Copy(io.MultiWriter(to, verifier), io.LimitReader(from, blob.Size+1))
	if err != nil {
		return err
	}
	if n != blob.Size || !verifier.Verified() {
		return fmt.Errorf("%w: %s is damaged", ErrContent, blob.Digest)
	}
	return nil
}

// subjectOf is the digest of what a manifest of a type refers to; empty for others.
func subjectOf(content []byte, kind string) digest.Digest {
	var m ocispec.Manifest
	if json.Unmarshal(content, &m) != nil || m.Subject == nil || m.ArtifactType != kind {
		return ""
	}
	return m.Subject.Digest
}
