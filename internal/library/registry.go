package library

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/time/rate"
	"oras.land/oras-go/v2/errdef"
	"oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/errcode"
	"oras.land/oras-go/v2/registry/remote/retry"

	"mintbatch/internal/core/secret"
	"mintbatch/internal/pinned"
)

// Options say where a registry is, and how it is talked to.
type Options struct {
	URL             *url.URL // https://HOST/REPOSITORY
	Login, Password string
	Fingerprint     secret.Fingerprint // of its certificate; zero trusts the system's authorities
	// Limit is how many bytes a second are sent, and received; 0 is no limit.
	Limit int64
}

// Registry is a library in a registry.
type Registry struct {
	repository *remote.Repository
	limit      *rate.Limiter
}

// answerLimit is how long a registry may take until it begins to answer.
const answerLimit = time.Minute

// NewRegistry prepares a library; nothing is sent yet.
func NewRegistry(o Options) (*Registry, error) {
	repository, err := remote.NewRepository(o.URL.Host + "/" + strings.Trim(o.URL.Path, "/"))
	if err != nil {
		return nil, err
	}
	t := pinned.Transport(o.URL.Hostname(), o.Fingerprint)
	t.ResponseHeaderTimeout = answerLimit
	client := &auth.Client{Client: &http.Client{Transport: retry.NewTransport(t)}, Cache: auth.NewCache()}
	if o.Login != "" {
		client.Credential = auth.StaticCredential(o.URL.Host, auth.Credential{Username: o.Login, Password: o.Password})
	}
	client.SetUserAgent("mintbatch")
	repository.Client, repository.PlainHTTP = client, o.URL.Scheme == "http"
	r := &Registry{repository: repository}
	if o.Limit > 0 {
		r.limit = rate.NewLimiter(rate.Limit(o.Limit), limitedPart)
	}
	return r, nil
}

// explain makes an error one of the library's.
func explain(err error) error {
	var answer *errcode.ErrorResponse
	var outer *url.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, errdef.ErrNotFound):
		return fmt.Errorf("%w: %w", ErrNotFound, err)
	case errors.As(err, &answer) && answer.StatusCode == http.StatusUnauthorized:
		return fmt.Errorf("%w: it does not accept the login and password", ErrUnreachable)
	case errors.As(err, &answer):
		return fmt.Errorf("%w: it answers %d %s", ErrUnreachable, answer.StatusCode, answer.Errors)
	case errors.As(err, &outer):
		return fmt.Errorf("%w: %w", ErrUnreachable, outer.Err)
	}
	return fmt.Errorf("%w: %w", ErrUnreachable, err)
}

// Tags implements Store.
func (r *Registry) Tags(ctx context.Context) ([]string, error) {
	var all []string
	err := r.repository.Tags(ctx, "", func(tags []string) error {
		all = append(all, tags...)
		return nil
	})
	var answer *errcode.ErrorResponse
	if errors.As(err, &answer) && answer.StatusCode == http.StatusNotFound { // nothing was ever pushed
		return nil, nil
	}
	return all, explain(err)
}

// Manifest implements Store.
func (r *Registry) Manifest(ctx context.Context, tag string) ([]byte, error) {
	d, content, err := r.repository.Manifests().FetchReference(ctx, tag)
	if err != nil {
		return nil, explain(err)
	}
	defer content.Close()
	return r.manifest(d, content)
}

func (r *Registry) manifest(d ocispec.Descriptor, content io.Reader) ([]byte, error) {
	if d.Size > mostManifest {
		return nil, fmt.Errorf("%w: a manifest of %d bytes", ErrContent, d.Size)
	}
	var b bytes.Buffer
	if err := Copy(&b, content, d); errors.Is(err, ErrContent) {
		return nil, err
	} else if err != nil {
		return nil, explain(err)
	}
	return b.Bytes(), nil
}

// Attached implements Store.
func (r *Registry) Attached(ctx context.Context, to ocispec.Descriptor, kind string) ([][]byte, error) {
	var all [][]byte
	err := r.repository.Referrers(ctx, to, kind, func(some []ocispec.Descriptor) error {
		for _, d := range some {
			content, err := r.repository.Manifests().Fetch(ctx, d)
			if err != nil {
				return err
			}
			m, err := r.manifest(d, content)
			_ = content.Close()
			if err != nil {
				return err
			}
			if subjectOf(m, kind) == to.Digest {
				all = append(all, m)
			}
		}
		return nil
	})
	if errors.Is(err, ErrContent) || errors.Is(err, ErrUnreachable) {
		return nil, err
	}
	return all, explain(err)
}

// Has implements Store.
func (r *Registry) Has(ctx context.Context, blob ocispec.Descriptor) (bool, error) {
	there, err := r.repository.Blobs().Exists(ctx, blob)
	return there, explain(err)
}

// Open implements Store.
func (r *Registry) Open(ctx context.Context, blob ocispec.Descriptor) (io.ReadCloser, error) {
	content, err := r.repository.Blobs().Fetch(ctx, blob)
	if err != nil || r.limit == nil {
		return content, explain(err)
	}
	return struct {
		io.Reader
		io.Closer
	}{&limited{ctx: ctx, Reader: content, limit: r.limit}, content}, nil
}

// Push implements Store.
func (r *Registry) Push(ctx context.Context, blob ocispec.Descriptor, content []byte) error {
	if there, err := r.Has(ctx, blob); there || err != nil {
		return err
	}
	var from io.Reader = bytes.NewReader(content)
	if r.limit != nil {
		from = &limited{ctx: ctx, Reader: from, limit: r.limit}
	}
	return explain(r.repository.Blobs().Push(ctx, blob, from))
}

// PushManifest implements Store.
func (r *Registry) PushManifest(ctx context.Context, tag string, content []byte) error {
	var m ocispec.Manifest
	if err := json.Unmarshal(content, &m); err != nil {
		return err
	}
	d := Descriptor(m.MediaType, content)
	if tag == "" {
		return explain(r.repository.Manifests().Push(ctx, d, bytes.NewReader(content)))
	}
	return explain(r.repository.Manifests().PushReference(ctx, d, bytes.NewReader(content), tag))
}

// Drop implements Store. Registries delete blobs in their own time.
func (r *Registry) Drop(ctx context.Context, tag string) error {
	d, err := r.repository.Manifests().Resolve(ctx, tag)
	if err != nil {
		return explain(err)
	}
	var attached []ocispec.Descriptor
	err = r.repository.Referrers(ctx, d, "", func(some []ocispec.Descriptor) error {
		attached = append(attached, some...)
		return nil
	})
	if err != nil {
		return explain(err)
	}
	if err := r.repository.Manifests().Delete(ctx, d); err != nil { // which takes its tags along
		return explain(err)
	}
	for _, one := range attached {
		if err := r.repository.Manifests().Delete(ctx, one); err != nil && !errors.Is(err, errdef.ErrNotFound) {
			return explain(err)
		}
	}
	return nil
}

// limitedPart is how much is sent or received at a time where there is a limit.
const limitedPart = 64 << 10

// limited reads no faster than a limit.
type limited struct {
	io.Reader
	ctx   context.Context
	limit *rate.Limiter
}

// Read implements io.Reader.
func (l *limited) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p[:min(len(p), limitedPart)])
	if n > 0 {
		if waited := l.limit.WaitN(l.ctx, n); waited != nil {
			return n, waited
		}
	}
	return n, err
}
