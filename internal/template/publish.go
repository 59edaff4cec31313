package template

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"github.com/opencontainers/image-spec/specs-go"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/blocks"
	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/disk"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pack"
	"mintbatch/internal/core/sshsig"
	"mintbatch/internal/library"
	"mintbatch/internal/mint"
	"mintbatch/internal/run"
	"mintbatch/internal/site"
)

// Adding is a version of a site that is to be put into a library.
type Adding struct {
	mint.Task
	Library string
	Site    string
	Version machine.Version
	Digest  string
	Disk    machine.Size
	// There means that the library has it already.
	There bool
	// Sent is how much was sent, once that is done.
	Sent machine.Size
}

// Question asks before that.
func (p *Adding) Question() mint.Question {
	return mint.Question{Text: fmt.Sprintf("Add template %s of site %s to library %s?", p.Version, p.Site, p.Library), Word: "yes"}
}

// adder does the work.
type adder struct {
	*Adding
	shelf   *Shelf
	at      *contract.Template
	whole   disk.Disk
	signer  ssh.Signer
	earlier []*pack.Index
	content *blocks.Map
	sent    atomic.Int64
}

// PrepareAdd finds a version, NAME@N or the newest of NAME, at a site, and the key that is to sign it.
func PrepareAdd(ctx context.Context, d *mint.Desk, libraryName, name, where string) (*Adding, error) {
	v, err := machine.ParseVersion(name)
	if err != nil {
		return nil, err
	}
	shelf, err := Open(d, libraryName)
	if err != nil {
		return nil, err
	}
	signer, err := signingKey(d, shelf)
	if err != nil {
		return nil, err
	}
	if where, err = siteOf(d, where); err != nil {
		return nil, err
	}
	answer, err := d.Sites.Ask(ctx, where)
	if err != nil {
		return nil, err
	}
	at := find(answer, v)
	switch {
	case at == nil:
		return nil, refuse("site %s has no version %s", where, v)
	case at.Version == nil:
		return nil, refuse("template %s of site %s was not made by mintbatch", at.Name, where)
	}
	v.Number = at.Version.Number
	p := &Adding{Library: shelf.Name, Site: where, Version: v, Digest: at.Version.Digest, Disk: at.Disk}
	switch has, err := shelf.look(ctx, v); {
	case errors.Is(err, library.ErrNotFound):
	case err != nil:
		return nil, err
	case has.Digest != p.Digest:
		return nil, refuse("library %s has another template %s, made %s by %s; a version is never changed", shelf.Name, v, has.Made.Local().Format(time.DateOnly), has.By)
	default:
		p.There = has.signer != ""
	}
	if p.There {
		return p, nil
	}
	opened, err := d.Sites.Site(where)
	if err != nil {
		return nil, err
	}
	reader, can := opened.(site.DiskReader)
	if !can {
		return nil, refuse("site %s: this kind of site cannot read disks", where)
	}
	a := &adder{Adding: p, shelf: shelf, at: at, signer: signer}
	p.Task = task("library add "+v.String(), machine.Key{Site: where, Name: v.String()}, func(*run.Engine) []act {
		return []act{
			{"read", func(ctx context.Context, share func(float64)) error { return a.read(ctx, reader, share) }},
			{"send", a.send},
		}
	})
	return p, nil
}

// signingKey is the key that signs what is added.
func signingKey(d *mint.Desk, s *Shelf) (ssh.Signer, error) {
	if s.setup.Sign.Name == "" {
		return nil, refuse("library %s: the setup names no key to sign with; write sign: file:PATH", s.Name)
	}
	text, err := d.Vault.Resolve(s.setup.Sign)
	if err != nil {
		return nil, fmt.Errorf("library %s: its key to sign with: %w", s.Name, err)
	}
	key, err := ssh.ParsePrivateKey([]byte(text))
	if err != nil {
		return nil, fmt.Errorf("library %s: its key to sign with: %w", s.Name, err)
	}
	if !s.trusts(key.PublicKey()) {
		return nil, refuse("library %s: the key to sign with is not among signers:, so nobody with this setup could fetch what it signs", s.Name)
	}
	return key, nil
}

// find is a version that a site has, or the newest one.
func find(answer *contract.Survey, v machine.Version) (found *contract.Template) {
	for i, t := range answer.Templates {
		has, is := machine.VersionOf(t.Name)
		if is && has.Template == v.Template && (v.Number == has.Number || v.Number == 0 && (found == nil || has.Number > found.Version.Number) && t.Version != nil) {
			found = &answer.Templates[i]
		}
	}
	return found
}

// read goes through the disk: it has to be the one that was sealed.
func (a *adder) read(ctx context.Context, reader site.DiskReader, share func(float64)) (err error) {
	// The disk is read for as long as its context lasts, which is that of all steps.
	if a.whole, _, err = reader.Disk(ctx, a.at.Name); err != nil {
		return err
	}
	a.content, err = blocks.Read(sourceOf(a.whole), a.whole.Size, func(at int64) error {
		share(float64(at) / float64(a.whole.Size))
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	if has := a.content.Digest(); has != a.Digest {
		return fmt.Errorf("its disk was changed since it was made: its digest is %s, and not %s", has, a.Digest)
	}
	a.earlier, err = a.shelf.earlier(ctx, a.Version)
	return err
}

// mostEarlier is how many earlier versions are looked at for what they have in common with a new one.
const mostEarlier = 2

// earlier are the indexes of the newest other versions of a template that a trusted key has signed.
func (s *Shelf) earlier(ctx context.Context, but machine.Version) ([]*pack.Index, error) {
	all, err := s.versions(ctx, []string{but.Template})
	if err != nil {
		return nil, err
	}
	var some []*pack.Index
	for _, v := range slices.Backward(all) {
		if v == but || len(some) == mostEarlier {
			continue
		}
		one, err := s.look(ctx, v)
		if errors.Is(err, library.ErrUnreachable) {
			return nil, err
		}
		if err != nil || one.signer == "" {
			continue
		}
		if i, err := s.index(ctx, one); err == nil {
			some = append(some, i)
		}
	}
	return some, nil
}

// send sends packs that the library does not have, then the description, its signature, and last the name.
func (a *adder) send(ctx context.Context, share func(float64)) error {
	group, sending := errgroup.WithContext(ctx)
	group.SetLimit(sideBySide)
	var done atomic.Int64
	index, err := pack.Write(a.content, a.whole, a.earlier, func(p pack.Pack) error {
		group.Go(func() error {
			if err := a.push(sending, layerOf(p.Ref), p.Content); err != nil {
				return err
			}
			share(min(0.99, float64(done.Add(p.Size))/float64(max(1, a.at.Used))))
			return nil
		})
		return sending.Err()
	})
	if failed := group.Wait(); failed != nil {
		err = failed
	}
	if err != nil {
		return a.shelf.from(err)
	}
	manifest, err := a.describe(ctx, index)
	if err == nil {
		err = a.sign(ctx, manifest)
	}
	if err == nil {
		err = a.shelf.store.PushManifest(ctx, tag(a.Version), manifest)
	}
	a.Sent = machine.Size(a.sent.Load())
	return a.shelf.from(err)
}

// push sends a blob, unless the library has it, and counts what was sent.
func (a *adder) push(ctx context.Context, d ocispec.Descriptor, content []byte) error {
	there, err := a.shelf.store.Has(ctx, d)
	if there || err != nil {
		return err
	}
	a.sent.Add(d.Size)
	return a.shelf.store.Push(ctx, d, content)
}

// describe makes the manifest, and sends what it refers to.
func (a *adder) describe(ctx context.Context, index *pack.Index) ([]byte, error) {
	v := a.at.Version
	p := Published{Schema: publishedSchema, Template: v.Of, Number: v.Number, Made: v.Made.UTC(), By: v.By, From: v.From, Notes: v.Notes, Digest: v.Digest, Disk: machine.Size(a.whole.Size),
		CPUs: a.at.CPUs, Memory: a.at.Memory, Firmware: a.at.Firmware}
	if i, err := inspect.Of(a.whole); err == nil {
		p.System = i.System.Name
	}
	config, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	encoded := index.Encode()
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest, ArtifactType: artifactType,
		Config: library.Descriptor(configType, config), Layers: []ocispec.Descriptor{library.Descriptor(indexType, encoded)},
		Annotations: map[string]string{ocispec.AnnotationTitle: a.Version.String(), ocispec.AnnotationCreated: p.Made.Format(time.RFC3339)}}
	for _, r := range index.Packs {
		m.Layers = append(m.Layers, layerOf(r))
	}
	if err := a.push(ctx, m.Config, config); err != nil {
		return nil, err
	}
	if err := a.push(ctx, m.Layers[0], encoded); err != nil {
		return nil, err
	}
	return json.Marshal(m)
}

// empty is the content of a part that says nothing (OCI Image Format Specification, "Guidance for an Empty Descriptor").
var empty = []byte("{}")

// sign sends the signature of a manifest, which refers to it.
func (a *adder) sign(ctx context.Context, manifest []byte) error {
	signature, err := sshsig.Sign(rand.Reader, a.signer, SignatureNamespace, manifest)
	if err != nil {
		return err
	}
	if err := a.shelf.store.PushManifest(ctx, "", manifest); err != nil {
		return err
	}
	subject := library.Descriptor(ocispec.MediaTypeImageManifest, manifest)
	m := ocispec.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: ocispec.MediaTypeImageManifest, ArtifactType: signatureKind, Subject: &subject,
		Config: library.Descriptor(ocispec.MediaTypeEmptyJSON, empty), Layers: []ocispec.Descriptor{library.Descriptor(signatureType, signature)}}
	if err := a.push(ctx, m.Config, empty); err != nil {
		return err
	}
	if err := a.push(ctx, m.Layers[0], signature); err != nil {
		return err
	}
	content, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return a.shelf.store.PushManifest(ctx, "", content)
}
