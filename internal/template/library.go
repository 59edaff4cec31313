package template

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/crypto/ssh"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pack"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sshsig"
	"mintbatch/internal/library"
	"mintbatch/internal/mint"
)

// The media types of what is in a library; docs/library.md has their forms.
const (
	artifactType  = "application/vnd.mintbatch.template.v1"
	configType    = "application/vnd.mintbatch.template.config.v1+json"
	indexType     = "application/vnd.mintbatch.template.index.v1+zstd"
	packType      = "application/vnd.mintbatch.template.pack.v1+zstd"
	signatureKind = "application/vnd.mintbatch.signature.v1"
	signatureType = "application/vnd.mintbatch.signature.v1+pem"
)

// SignatureNamespace is what signatures of templates are for.
const SignatureNamespace = "mintbatch-template"

// publishedSchema is the form of a description.
const publishedSchema = "mintbatch/library-template/1"

// Published describes a version in a library.
type Published struct {
	Schema   string            `json:"schema"`
	Template string            `json:"template"`
	Number   int               `json:"version"`
	Made     time.Time         `json:"made"`
	By       string            `json:"by,omitempty"`
	From     string            `json:"from,omitempty"`
	Notes    string            `json:"notes,omitempty"`
	Digest   string            `json:"digest"` // of what is on its disk
	System   string            `json:"system,omitempty"`
	Disk     machine.Size      `json:"disk"`
	CPUs     int               `json:"cpus,omitempty"`
	Memory   machine.Size      `json:"memory,omitempty"`
	Firmware machine.Firmware  `json:"firmware,omitempty"`
	Hardware *machine.Hardware `json:"hardware,omitempty"`
}

// Version is NAME@N.
func (p Published) Version() machine.Version {
	return machine.Version{Template: p.Template, Number: p.Number}
}

// tag is what a library calls a version: a label has no dot, and a tag no @.
func tag(v machine.Version) string { return fmt.Sprintf("%s.%d", v.Template, v.Number) }

// versionOfTag reads a tag; false if it is none of ours.
func versionOfTag(text string) (machine.Version, bool) {
	i := strings.LastIndexByte(text, '.')
	if i < 0 {
		return machine.Version{}, false
	}
	return machine.VersionOf(text[:i] + "@" + text[i+1:])
}

// Shelf is a library of the setup that was opened.
type Shelf struct {
	Name  string
	setup setup.Library
	store library.Store
	keep  keep
}

// Open opens a library of the setup, by its name, or the only one.
func Open(d *mint.Desk, name string) (*Shelf, error) {
	all := setup.Names(d.Setup.Libraries)
	switch {
	case len(all) == 0:
		return nil, refuse("the setup has no libraries")
	case name == "" && len(all) > 1:
		return nil, refuse("the setup has several libraries; name one with --library (%s)", strings.Join(all, ", "))
	case name == "":
		name = all[0]
	case !slices.Contains(all, name):
		return nil, fmt.Errorf("%w library: %q (%s)", mint.ErrUnknown, name, finding.DidYouMean(name, all))
	}
	l := d.Setup.Libraries[name]
	s := &Shelf{Name: name, setup: l, keep: keep{d.Path(cmp.Or(l.Keep, "mintbatch.library"))}}
	if l.Folder != "" {
		s.store = library.NewFolder(d.Path(l.Folder))
		return s, nil
	}
	password, err := d.Vault.Resolve(l.Password)
	if err != nil {
		return nil, fmt.Errorf("library %s: its password: %w", name, err)
	}
	s.store, err = library.NewRegistry(library.Options{URL: l.URL.URL, Login: l.Login, Password: password, Fingerprint: l.Fingerprint, Limit: int64(l.Limit)})
	if err != nil {
		return nil, fmt.Errorf("library %s: %w", name, err)
	}
	return s, nil
}

// from says of which library an error is.
func (s *Shelf) from(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("library %s: %w", s.Name, err)
}

// item is a version as its manifest describes it.
type item struct {
	Published
	manifest   ocispec.Manifest
	descriptor ocispec.Descriptor
	// signer is the trusted key that has signed it; empty if none has.
	signer string
}

// versions lists the versions that a library has of templates that globs match.
func (s *Shelf) versions(ctx context.Context, globs []string) ([]machine.Version, error) {
	tags, err := s.store.Tags(ctx)
	if err != nil {
		return nil, s.from(err)
	}
	var all []machine.Version
	for _, t := range tags {
		if v, is := versionOfTag(t); is && (glob.Match(globs, v.Template) || glob.Match(globs, v.String())) {
			all = append(all, v)
		}
	}
	slices.SortFunc(all, func(a, b machine.Version) int {
		return cmp.Or(cmp.Compare(a.Template, b.Template), cmp.Compare(a.Number, b.Number))
	})
	return all, nil
}

// newest is the newest version of a template that a library has; no number if it has none.
func (s *Shelf) newest(ctx context.Context, template string) (machine.Version, error) {
	all, err := s.versions(ctx, []string{template})
	if err != nil || len(all) == 0 {
		return machine.Version{Template: template}, err
	}
	return all[len(all)-1], nil
}

// look reads what a library says of a version, and by whom it is signed.
func (s *Shelf) look(ctx context.Context, v machine.Version) (*item, error) {
	content, err := s.store.Manifest(ctx, tag(v))
	if err != nil {
		return nil, s.from(err)
	}
	one := &item{descriptor: library.Descriptor(ocispec.MediaTypeImageManifest, content)}
	if err := json.Unmarshal(content, &one.manifest); err != nil || one.manifest.ArtifactType != artifactType || len(one.manifest.Layers) == 0 || one.manifest.Layers[0].MediaType != indexType {
		return nil, s.from(fmt.Errorf("%w: %s is no template", library.ErrContent, v))
	}
	config, err := library.Read(ctx, s.store, one.manifest.Config, mostConfig)
	if err != nil {
		return nil, s.from(err)
	}
	if err := json.Unmarshal(config, &one.Published); err != nil || one.Schema != publishedSchema || one.Version() != v {
		return nil, s.from(fmt.Errorf("%w: the description of %s is that of another, or of a newer mintbatch", library.ErrContent, v))
	}
	one.signer, err = s.signer(ctx, one.descriptor, content)
	return one, s.from(err)
}

// The bounds of what is read into memory.
const (
	mostConfig    = 1 << 20
	mostIndexBlob = 1 << 30
)

// signer is the trusted key that has signed a manifest, as its fingerprint; empty if none has.
func (s *Shelf) signer(ctx context.Context, d ocispec.Descriptor, manifest []byte) (string, error) {
	attached, err := s.store.Attached(ctx, d, signatureKind)
	if err != nil {
		return "", err
	}
	for _, content := range attached {
		var m ocispec.Manifest
		if err := json.Unmarshal(content, &m); err != nil {
			continue
		}
		for _, layer := range m.Layers {
			signature, err := library.Read(ctx, s.store, layer, mostConfig)
			if err != nil {
				return "", err
			}
			key, err := sshsig.Verify(SignatureNamespace, manifest, signature)
			if err == nil && s.trusts(key) {
				return ssh.FingerprintSHA256(key), nil
			}
		}
	}
	return "", nil
}

func (s *Shelf) trusts(key ssh.PublicKey) bool {
	return slices.ContainsFunc(s.setup.Signers, func(line string) bool {
		trusted, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		return err == nil && string(trusted.Marshal()) == string(key.Marshal())
	})
}

// trusted refuses a version that no trusted key has signed.
func (s *Shelf) trusted(one *item) error {
	switch {
	case one.signer != "":
		return nil
	case len(s.setup.Signers) == 0:
		return refuse("library %s: the setup trusts nobody's signatures; write the keys of those who publish templates under signers:", s.Name)
	}
	return refuse("library %s: %s is not signed by a key that the setup trusts", s.Name, one.Version())
}

// index reads where the blocks of a version are.
func (s *Shelf) index(ctx context.Context, one *item) (*pack.Index, error) {
	content, err := library.Read(ctx, s.store, one.manifest.Layers[0], mostIndexBlob)
	if err != nil {
		return nil, s.from(err)
	}
	i, err := pack.Decode(content)
	if err == nil && (i.Disk != int64(one.Disk) || i.Digest() != one.Digest) {
		err = fmt.Errorf("%w: the index is of another disk", library.ErrContent)
	}
	return i, s.from(err)
}

// layerOf describes a pack of an index.
func layerOf(r pack.Ref) ocispec.Descriptor {
	return ocispec.Descriptor{MediaType: packType, Size: r.Size, Digest: digest.Digest(r.String())}
}
