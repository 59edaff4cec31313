package libvirt

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// The ownership mark is an element of a namespace of our own in the machine's
// metadata (libvirt: "Domain XML format", General metadata). docs/libvirt.md
// has its form.
const (
	namespace = "urn:mintbatch:mark:1"
	prefix    = "mintbatch"
)

// parent is what a linked clone's disk depends on, and how that was when the
// clone was made.
type parent struct {
	path, changed string
	size          machine.Size // that the clone saves
}

// withMark writes a mark, and the parent of a linked clone. It is without its
// namespace, which libvirt's call for metadata wants to add itself.
func withMark(m contract.Mark, p parent) *etree.Element {
	e := etree.NewElement("mark")
	set := func(e *etree.Element, name, value string) {
		if value != "" {
			e.CreateAttr(name, plainText(value))
		}
	}
	set(e, "ledger", m.Ledger.String())
	set(e, "machine", m.Key)
	set(e, "generation", strconv.Itoa(m.Generation))
	set(e, "fingerprint", m.Fingerprint)
	set(e, "run", m.Run)
	set(e, "folder", m.Folder)
	set(e, "born", m.Born)
	set(e, "former", strings.Join(m.Former, " "))
	set(e, "data", words(m.Data))
	set(e, "stage", string(m.Stage))
	set(e, "seal", m.Seal)
	set(e, "request", m.Request)
	set(e, "owner", m.Owner)
	set(e, "until", m.Until)
	set(e, "keep", m.Keep)
	set(e, "extended", m.Extended)
	for _, name := range slices.Sorted(maps.Keys(m.Labels)) {
		l := e.CreateElement("label")
		l.CreateAttr("name", name)
		l.CreateAttr("value", m.Labels[name])
	}
	if p.path != "" {
		c := e.CreateElement("parent")
		c.CreateAttr("path", plainText(p.path))
		c.CreateAttr("changed", p.changed)
		c.CreateAttr("size", p.size.String())
	}
	if m.Spec != nil {
		spec, err := json.Marshal(m.Spec)
		if err != nil { // only values of our own types, which marshal
			panic(err)
		}
		e.CreateElement("spec").SetText(string(spec))
	}
	return e
}

func words(ids []uuid.UUID) string {
	all := make([]string, len(ids))
	for i, id := range ids {
		all[i] = id.String()
	}
	return strings.Join(all, " ")
}

// setMark puts a mark into a definition.
func (d *definition) setMark(m contract.Mark, p parent) {
	metadata := child(d.root, "metadata")
	for _, e := range metadata.ChildElements() {
		if e.NamespaceURI() == namespace {
			metadata.RemoveChild(e)
		}
	}
	e := withMark(m, p)
	e.Space = prefix
	e.CreateAttr("xmlns:"+prefix, namespace)
	metadata.AddChild(e)
}

// mark reads the mark; nil where there is none, or none that can be read: such
// a machine is not ours to touch.
func (d *definition) mark() (*contract.Mark, parent) {
	var e *etree.Element
	for _, found := range d.root.FindElements("./metadata/*") {
		if found.NamespaceURI() == namespace && found.Tag == "mark" {
			e = found
		}
	}
	if e == nil {
		return nil, parent{}
	}
	ledger, err := uuid.Parse(e.SelectAttrValue("ledger", ""))
	generation, err2 := strconv.Atoi(e.SelectAttrValue("generation", ""))
	if err != nil || err2 != nil {
		return nil, parent{}
	}
	m := &contract.Mark{Ledger: ledger, Key: e.SelectAttrValue("machine", ""), Generation: generation,
		Fingerprint: e.SelectAttrValue("fingerprint", ""), Run: e.SelectAttrValue("run", ""), Folder: e.SelectAttrValue("folder", "")}
	m.Born, m.Former = e.SelectAttrValue("born", ""), strings.Fields(e.SelectAttrValue("former", ""))
	if len(m.Former) == 0 {
		m.Former = nil
	}
	for _, word := range strings.Fields(e.SelectAttrValue("data", "")) {
		of, err := uuid.Parse(word)
		if err != nil {
			return nil, parent{}
		}
		m.Data = append(m.Data, of)
	}
	m.Stage, m.Seal = contract.Stage(e.SelectAttrValue("stage", "")), e.SelectAttrValue("seal", "")
	m.Request = e.SelectAttrValue("request", "")
	m.Owner, m.Until = e.SelectAttrValue("owner", ""), e.SelectAttrValue("until", "")
	m.Keep, m.Extended = e.SelectAttrValue("keep", ""), e.SelectAttrValue("extended", "")
	m.Notes = textAt(d.root, "./description")
	var p parent
	for _, c := range e.ChildElements() {
		switch c.Tag {
		case "label":
			if m.Labels == nil {
				m.Labels = map[string]string{}
			}
			m.Labels[c.SelectAttrValue("name", "")] = c.SelectAttrValue("value", "")
		case "parent":
			p = parent{path: c.SelectAttrValue("path", ""), changed: c.SelectAttrValue("changed", "")}
			p.size, _ = machine.ParseSize(c.SelectAttrValue("size", ""))
		case "spec":
			var spec machine.Spec
			if json.Unmarshal([]byte(c.Text()), &spec) == nil {
				m.Spec = &spec
			}
		}
	}
	return m, p
}

// describe writes what people read in any other tool: the title and the notes.
func (d *definition) describe(m contract.Mark, name string) {
	title := name
	if m.Owner != "" {
		title = fmt.Sprintf("%s (%s)", name, m.Owner)
	}
	without(d.root, "./title")
	without(d.root, "./description")
	text(d.root, plainText(strings.ReplaceAll(title, "\n", " ")), "title")
	if m.Notes != "" {
		text(d.root, plainText(m.Notes), "description")
	}
}
