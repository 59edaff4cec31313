package template

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"mintbatch/internal/core/answers/ovfenv"
	"mintbatch/internal/core/column"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/ovf"
	"mintbatch/internal/core/setup"
)

// suggest is the part of a setup, in YAML, by which machines of a template are like the one in the package that it was made of: its
// networks, its further disks, which are empty, and what it can be told. It is empty where there is none of these.
func suggest(s *setup.Setup, name string, m *ovf.Machine) (string, error) {
	is := s.Templates[name]
	values := yaml.MapSlice{{Key: "guest", Value: string(is.Guest)}}
	if is.Guest == "" {
		values[0].Value = map[bool]string{true: "windows", false: "linux"}[strings.Contains(strings.ToLower(m.System), "windows")]
	}
	add := func(key, value string) {
		if value != "" && is.Values[key] == "" {
			values = append(values, yaml.MapItem{Key: key, Value: value})
		}
	}
	for n, c := range m.Cards[:min(len(m.Cards), column.MaxAdapters)] {
		key := "network"
		if n > 0 {
			key = fmt.Sprintf("network.%d", n+1)
		}
		add(key, networkOf(s, c.Network))
	}
	var disks []string
	for _, d := range m.Disks[1:] {
		if d.File == "" && d.Size > 0 {
			disks = append(disks, ((d.Size + machine.MiB - 1) / machine.MiB * machine.MiB).String())
		}
	}
	add("disks", strings.Join(disks, ", "))
	part := yaml.MapSlice{}
	if len(m.Properties) > 0 {
		if is.Answers == "" {
			values = append(values, yaml.MapItem{Key: "answers", Value: string(ovfenv.Name)})
		}
		told := yaml.MapSlice{}
		for _, p := range m.Properties {
			if slices.ContainsFunc(told, func(is yaml.MapItem) bool { return is.Key == p.Key }) {
				continue
			}
			told = append(told, yaml.MapItem{Key: p.Key, Value: strings.NewReplacer("{", "{{", "}", "}}").Replace(p.Value)})
		}
		part = yaml.MapSlice{{Key: "presets", Value: yaml.MapSlice{{Key: name, Value: yaml.MapSlice{{Key: "template", Value: name}, {Key: "properties", Value: told}}}}}}
	}
	if len(values) == 1 && len(part) == 0 {
		return "", nil
	}
	text, err := yaml.Marshal(append(yaml.MapSlice{{Key: "templates", Value: yaml.MapSlice{{Key: name, Value: values}}}}, part...))
	return string(text), err
}

// networkOf is the network of the setup that is meant by one of a package; empty if there is none.
func networkOf(s *setup.Setup, name string) string {
	for _, n := range setup.Names(s.Networks) {
		if n == name || s.NetworkSource(n) == name {
			return n
		}
	}
	return ""
}
