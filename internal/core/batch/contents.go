package batch

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// contents joins the first-boot contents of a row's presets and fragments: what
// a preset builds on comes first, then the preset, then the fragments.
func (b *builder) contents(r *row) *machine.Firstboot {
	key := strings.Join(r.presets, " ") + "|" + r.text("firstboot")
	c, known := b.joined[key]
	if !known {
		c = b.join(r)
		b.joined[key] = c
	}
	if !slices.ContainsFunc(slices.Collect(maps.Values(c.Properties)), func(v string) bool { return strings.Contains(v, "{") }) {
		return c
	}
	own := *c
	own.Properties = map[string]string{}
	for name, value := range c.Properties {
		own.Properties[name] = r.replace(Origin{Value: value, At: r.cell("firstboot").At})
	}
	return &own
}

func (b *builder) join(r *row) *machine.Firstboot {
	var c machine.Firstboot
	o := r.cell("firstboot")
	for _, p := range slices.Backward(r.presets) {
		c = b.setup.Presets[p].Contents.Over(c)
	}
	for _, name := range strings.Fields(o.Value) {
		fragment, known := b.setup.Firstboot[name]
		if !known {
			b.bad("unknown-firstboot", o, fmt.Sprintf("unknown firstboot fragment %q", name), b.hint("firstboot", name, definedIn(b.setup.Firstboot)))
		}
		c = fragment.Over(c)
	}
	return &c
}

// checkContents holds first-boot contents against the guest that is to carry them out.
func (b *builder) checkContents(r *row) {
	g, disks := r.spec.Guest, len(r.spec.Shape.Disks)
	bad := func(message, hint string) { b.bad("bad-volumes", b.contentsAt(r), message, hint) }
	windows := kinds.Of(g).Accounts
	for _, v := range g.Volumes {
		if v.Disk > disks {
			bad(fmt.Sprintf("the first-boot contents use data disk %d, but the machine has %s", v.Disk, finding.Plural(disks, "data disk")), "add it in the column disks, for example 20G")
		}
		if kind := v.Filesystem; kind != "" && kind.IsWindows() != windows {
			bad(fmt.Sprintf("this guest cannot create %s file systems", kind), "")
		}
	}
	large := make([]media.Large, len(g.Carry))
	for i, f := range g.Carry {
		large[i] = media.Large{Name: f.Name, Size: f.Size}
		if windows && f.Size > 4<<30-media.Sector {
			b.bad("bad-carry", b.contentsAt(r), fmt.Sprintf("Windows cannot read %s from an image: it has more than 4 GiB", f.Name), "split it")
		}
	}
	if err := media.CheckLarge(large); err != nil {
		b.bad("bad-carry", b.contentsAt(r), err.Error(), "")
	}
	names := map[string]bool{}
	for _, s := range g.Stages {
		if names[strings.ToLower(s.Name)] {
			b.bad("bad-stages", b.contentsAt(r), fmt.Sprintf("two stages are named %s", s.Name), "rename one of them")
		}
		names[strings.ToLower(s.Name)] = true
		switch {
		case s.As != machine.AsLogin:
		case g.Login == "":
			b.bad("bad-stages", b.contentsAt(r), fmt.Sprintf("stage %s is for the login, and the row has none", s.Name), "name one in the column login")
		case windows && g.Password == machine.NoPassword:
			b.bad("bad-stages", b.contentsAt(r), fmt.Sprintf("Windows cannot log %s on for stage %s: it has no password", g.Login, s.Name), "write password: generate")
		}
	}
	if len(g.Stages) > 0 && g.End != "" {
		b.bad("bad-stages", b.contentsAt(r), fmt.Sprintf("when_done: %s would end the guest in the middle of its stages", g.End), "write restart: on in the last stage, or power: confirm-then-off in the row")
	}
	if g.End == machine.EndPowerOff && r.spec.Power != machine.ConfirmThenOff {
		b.bad("bad-power", r.cell("power"), "the guest powers off at the end of its first boot, but the row has power: on", "write power: confirm-then-off, or when_done: reboot")
	}
	kind := kinds.Of(g)
	var lost []string
	if kind.Reads() {
		lost = kind.Unsupported(g)
	} else {
		lost = append(answers.If(g.Login != "", "login"), answers.If(!g.Firstboot.IsZero(), "first-boot contents")...)
	}
	if len(lost) > 0 {
		why := "the answers of template %s cannot express these settings: %s"
		if !kind.Reads() {
			why = "template %s has answers: none, so its guest does not get these settings: %s"
		}
		b.warn("not-answered", b.contentsAt(r), fmt.Sprintf(why, r.template, strings.Join(lost, ", ")), "")
	}
	if g.Licence != "" && !kind.Licence {
		b.warn("not-answered", Origin{At: r.cell("licence").At}, fmt.Sprintf("template %s does not use a licence", r.template), "remove it")
	}
}

// contentsAt is the place that gives a row its first-boot contents.
func (b *builder) contentsAt(r *row) Origin {
	o := r.cell("firstboot")
	if o.Value == "" && len(r.presets) > 0 {
		o = Origin{Value: r.presets[0], At: b.setup.Where("presets", r.presets[0])}
	}
	return o
}
