package sandbox

import (
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/image"
	"mintbatch/internal/core/image/qcow2"
	"mintbatch/internal/core/machine"
)

// made is a template that was made of an image, as the folder `templates` keeps it.
type made struct {
	Site string    `json:"site"`
	ID   uuid.UUID `json:"identity"`
	TemplatePlan
}

func (s *Sandbox) imagePath(id uuid.UUID) string {
	return s.path("templates/" + id.String() + ".qcow2")
}
func (s *Sandbox) madePath(id uuid.UUID) string { return s.path("templates/" + id.String() + ".json") }

// readMade adds the templates that were made before to the plan.
func (s *Sandbox) readMade() error {
	if err := os.MkdirAll(s.path("templates"), 0o700); err != nil {
		return err
	}
	files, _ := filepath.Glob(s.path("templates/*.json")) // of a pattern without mistakes
	for _, file := range files {
		content, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		var m made
		if err := json.Unmarshal(content, &m); err != nil {
			return err
		}
		s.addMade(m)
	}
	return nil
}

// addMade puts a template into the plan, for those that look at it from now on.
func (s *Sandbox) addMade(m made) {
	plan := s.options.Plan.Sites[m.Site]
	plan.Templates = append(slices.Clone(plan.Templates), m.TemplatePlan)
	s.options.Plan.Sites[m.Site] = plan
	if v := s.inventories[m.Site]; v != nil {
		v.used[m.Store] += m.Used
	}
}

// upload keeps an image for a template that is yet to be made.
func (s *Sandbox) upload(c *call) (any, error) {
	id, err := c.id()
	if err != nil {
		return nil, err
	}
	path := s.imagePath(id)
	if _, err := os.Stat(s.madePath(id)); err == nil {
		return done, nil
	}
	f, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = io.Copy(f, c.Body)
	if err := errors.Join(err, f.Close()); err != nil {
		return nil, refuse(http.StatusBadRequest, "the image was not received completely: %s", err)
	}
	return done, os.Rename(path+".part", path)
}

// makeTemplate makes a template of an image that was sent before.
func (s *Sandbox) makeTemplate(c *call) (any, error) {
	var o contract.TemplateOrder
	if err := c.read(&o); err != nil {
		return nil, err
	}
	name := c.PathValue("name")
	s.mu.Lock()
	defer s.mu.Unlock()
	if t, is := s.options.Plan.Sites[c.site].template(name); is {
		if t.ID == o.Identity {
			return done, nil
		}
		return nil, refuse(http.StatusConflict, "there is another template %s", name)
	}
	f, err := os.Open(s.imagePath(o.Identity))
	if err != nil {
		return nil, refuse(http.StatusConflict, "no image of it was sent")
	}
	defer f.Close()
	if opened, err := qcow2.Open(f); err != nil || opened.Backing() != "" || opened.Now().Size != int64(o.Disk) {
		return nil, refuse(http.StatusConflict, "what was sent is not a qcow2 image of a disk of %s", o.Disk)
	}
	about, err := f.Stat()
	if err != nil {
		return nil, err
	}
	t := TemplatePlan{Name: name, CPUs: cmp.Or(o.CPUs, 1), Memory: cmp.Or(o.Memory, machine.GiB), Disk: o.Disk, Used: machine.Size(about.Size()), Hostname: o.Version.Of, Store: o.Store, Version: &o.Version, ID: o.Identity, Changed: about.ModTime().UTC()}
	if err := s.roomFor(c, &t); err != nil {
		return nil, err
	}
	m := made{c.site, o.Identity, t}
	content, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(s.madePath(o.Identity)+".part", content, 0o600); err != nil {
		return nil, err
	}
	if err := os.Rename(s.madePath(o.Identity)+".part", s.madePath(o.Identity)); err != nil {
		return nil, err
	}
	s.addMade(m)
	return s.startTask(smallTaskTime, nil), nil
}

// roomFor finds a store for a template: the one that is asked for, else that with the most room.
func (s *Sandbox) roomFor(c *call, t *TemplatePlan) error {
	var best *contract.Store
	all := s.capacity(c).Stores
	for i, st := range all {
		if (t.Store == "" || st.Name == t.Store) && (best == nil || st.Free > best.Free) {
			best = &all[i]
		}
	}
	switch {
	case best == nil:
		return refuse(http.StatusConflict, "no store %q", t.Store)
	case best.Free < t.Used:
		return refuse(http.StatusInsufficientStorage, "store %q is full (needs %s, has %s)", best.Name, t.Used, best.Free)
	}
	t.Store = best.Name
	return nil
}

// dropTemplate deletes a template that was made of an image, or what is left of one.
func (s *Sandbox) dropTemplate(c *call) (any, error) {
	name := c.PathValue("name")
	id, err := uuid.Parse(c.URL.Query().Get("id"))
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "the id is missing, or is not a UUID")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	plan := s.options.Plan.Sites[c.site]
	t, there := plan.template(name)
	if there && t.ID != id {
		return nil, refuse(http.StatusConflict, "template %s was made with another id", name)
	}
	for _, r := range s.machines {
		if there && r.Site == c.site && r.Template == name && r.Kind == machine.Linked {
			return nil, refuse(http.StatusConflict, "%s is a linked clone of it", r.Name)
		}
	}
	for _, path := range []string{s.madePath(id), s.imagePath(id)} { // without the first it is no template any more
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	if there {
		plan.Templates = slices.DeleteFunc(slices.Clone(plan.Templates), func(t TemplatePlan) bool { return t.Name == name })
		s.options.Plan.Sites[c.site] = plan
		s.inventories[c.site].used[t.Store] -= t.Used
	}
	return done, nil
}

// ofImage answers with what a guest sees of a template that was made of an image.
func (s *Sandbox) ofImage(t TemplatePlan) (any, error) {
	f, err := os.Open(s.imagePath(t.ID))
	if err != nil {
		return nil, err
	}
	opened, err := qcow2.Open(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return content{io.NewSectionReader(image.Chain{opened.Now()}, 0, int64(t.Disk)), t.Changed, f}, nil
}

// content is answered as it is, or a part of it.
type content struct {
	io.ReadSeeker
	changed time.Time
	io.Closer
}
