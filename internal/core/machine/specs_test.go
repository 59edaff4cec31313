package machine

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func specOf(hostname, addr string) Spec {
	return Spec{Guest: Guest{Hostname: hostname}, Adapters: []Adapter{{Interface: Interface{Addressing: Addressing{Addresses: []netip.Prefix{netip.MustParsePrefix(addr + "/24")}}}}}}
}

func written(s Spec) string {
	text, err := json.Marshal(s)
	if err != nil {
		panic(err)
	}
	return string(text)
}

// Whatever was decoded before, a spec comes to what its text says, and so does one that is no text of this program.
func FuzzSpecs(f *testing.F) {
	m := specOf("bms-sonar-01", "198.51.100.7")
	m.Preset, m.Shape.Disks, m.Guest.Keys = "sonar-node", []Disk{{Size: GiB}}, PublicKeys{"ssh-ed25519 A"}
	m.Info = Info{Owner: `tide "desk"`, Labels: map[string]string{"leg": "north"}}
	m.Guest.Firstboot = &Firstboot{Packages: []string{"chrony"}}
	first := written(m)
	f.Add(first, first)
	other := m
	other.Guest.Hostname, other.Info, other.Adapters = `}{,"`, Info{Notes: "[\\"}, specOf("", "198.51.100.8").Adapters
	f.Add(first, written(other))
	for _, change := range [][2]string{{`"hostname":`, `"HOSTNAME":"x","hostname":`}, {`"info":{`, `"info":{"notes":"a"},"info":{`}, {`"cpus"`, `"cpu"`},
		{`"adapters":`, `"adapters": `}, {`"adapters":[`, `"adapters":null,"x":[`}, {`"power":""`, `"power":""}`}, {`"hostname"`, `"host\u006eame"`}, {`"hostname":"bms-sonar-01"`, `"hostname":null`}, {`{`, ``}} {
		f.Add(first, strings.Replace(first, change[0], change[1], 1))
		f.Add(strings.Replace(first, change[0], change[1], 1), first)
	}
	f.Fuzz(func(t *testing.T, before, text string) {
		d := Specs{}
		var earlier, want, got Spec
		_ = d.Decode(before, &earlier)
		was := written(earlier)
		failed := json.Unmarshal([]byte(text), &want)
		err := d.Decode(text, &got)
		require.Equal(t, failed == nil, err == nil)
		if err == nil {
			assert.Equal(t, want, got)
			for i := range got.Adapters { // what is the machine's own is nobody else's
				got.Adapters[i].Addresses = append(got.Adapters[i].Addresses[:0], netip.Prefix{})
			}
		}
		assert.Equal(t, was, written(earlier))
	})
}

func TestSpecsHaveInCommonWhatTheySayAlike(t *testing.T) {
	d := Specs{}
	m, other := specOf("a", "198.51.100.7"), specOf("b", "198.51.100.8")
	m.Guest.Firstboot = &Firstboot{Packages: []string{"chrony"}}
	other.Guest.Firstboot, other.Info.Owner = m.Guest.Firstboot, "tide desk"
	var first, second Spec
	require.NoError(t, d.Decode(written(m), &first))
	require.NoError(t, d.Decode(written(other), &second))
	assert.Equal(t, other, second)
	assert.Same(t, first.Guest.Firstboot, second.Guest.Firstboot)
}
