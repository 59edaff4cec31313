// Package ovfenv writes the environment document of the Open Virtualization
// Format (DMTF DSP0243, section 11 of version 2), which a guest reads from the
// file ovf-env.xml of a CD (section 11.2, the ISO transport).
package ovfenv

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"maps"
	"slices"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/machine"
)

// Label is the volume label of the CD; readers go by the file's name.
const Label = "OVF-ENV"

const (
	environment = "http://schemas.dmtf.org/ovf/environment/1"
	instance    = "http://www.w3.org/2001/XMLSchema-instance"
)

// Files writes the document. The same input gives the same bytes. Text that XML
// cannot hold is an answers.ErrText.
func Files(in answers.Input) ([]answers.File, error) {
	properties := answers.El("PropertySection")
	for _, p := range Properties(in) {
		properties.Add((&answers.Element{Name: "Property"}).With("oe:key", p[0], "oe:value", p[1]))
	}
	document := answers.El("Environment",
		answers.El("PlatformSection", answers.Leaf("Kind", "Mint Batch"), answers.Leaf("Version", "1"), answers.Leaf("Locale", cmp.Or(machine.LanguageTag(in.Guest.Locale), "en"))),
		properties,
	).With("xmlns", environment, "xmlns:oe", environment, "xmlns:xsi", instance, "oe:id", in.Name)
	content, err := document.Document()
	return []answers.File{{Name: "ovf-env.xml", Content: content}}, err
}

// Properties are what the row says, under names that guests commonly look for,
// and the row's own properties, which replace those of the same name. The value
// of user-data is cloud-init's, in base64.
func Properties(in answers.Input) [][2]string {
	g := in.Guest
	var all [][2]string
	add := func(key, value string) {
		if _, own := g.Properties[key]; value != "" && !own {
			all = append(all, [2]string{key, value})
		}
	}
	add("instance-id", in.Instance)
	add("hostname", g.Hostname)
	add("fqdn", g.FQDN())
	add("domain", g.Domain)
	add("login", g.Login)
	add("public-keys", strings.Join(g.Keys, "\n"))
	add("timezone", g.Timezone)
	for i, a := range in.Adapters {
		n := fmt.Sprintf(".%d", i+1)
		add("mac"+n, a.MAC)
		add("address"+n, strings.Join(answers.Words(a.Addresses), " "))
		add("gateway"+n, strings.Join(answers.Words(a.Gateways), " "))
		add("dns"+n, strings.Join(answers.Words(a.DNS), " "))
		add("search"+n, strings.Join(a.Search, " "))
	}
	add("network-config", base64.StdEncoding.EncodeToString(cloudinit.NetworkConfig(in)))
	add("user-data", base64.StdEncoding.EncodeToString(cloudinit.UserData(in)))
	for _, key := range slices.Sorted(maps.Keys(g.Properties)) {
		all = append(all, [2]string{key, g.Properties[key]})
	}
	return all
}
