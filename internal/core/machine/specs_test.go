package machine

import (
	"encoding/json"
	"fmt"
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
	twice := strings.Replace(first, `"guest":`, `"INFO":{"notes":"b"},"guest":`, 1)
	f.Add(twice, strings.Replace(twice, "tide", "sonar", 1))
	f.Fuzz(func(t *testing.T, before, text string) {
		d := Specs{}
		var want Spec
		var earlier, got Slim
		_ = d.Decode(before, &earlier)
		was := written(earlier.Spec())
		failed := json.Unmarshal([]byte(text), &want)
		err := d.Decode(text, &got)
		require.Equal(t, failed == nil, err == nil)
		if err == nil {
			assert.Equal(t, want, got.Spec())
			for i := range got.Adapters { // what is the machine's own is nobody else's
				got.Adapters[i].Addresses = append(got.Adapters[i].Addresses[:0], netip.Prefix{})
			}
		}
		assert.Equal(t, was, written(earlier.Spec()))
	})
}

func TestSpecsHaveInCommonWhatTheySayAlike(t *testing.T) {
	d := Specs{}
	m, other := specOf("a", "198.51.100.7"), specOf("b", "198.51.100.8")
	m.Guest.Firstboot = &Firstboot{Packages: []string{"chrony"}}
	other.Guest.Firstboot, other.Info.Owner = m.Guest.Firstboot, "tide desk"
	var first, second Slim
	require.NoError(t, d.Decode(written(m), &first))
	require.NoError(t, d.Decode(written(other), &second))
	assert.Equal(t, other, second.Spec())
	assert.Same(t, first.Common(), second.Common())
}

// The yardstick is the decoder that decodes all of each spec.
func BenchmarkSpecs(b *testing.B) {
	texts := make([]string, 256)
	for i := range texts {
		s := specOf(fmt.Sprintf("bms-sonar-%03d", i), fmt.Sprintf("198.51.100.%d", i))
		s.Preset, s.Template, s.Clone = "sonar-node", "deb12-base", Clone{Template: "deb12-base", Kind: Linked}
		s.Shape = Shape{CPUs: 4, Memory: 8 * GiB}
		s.Adapters[0].Card = Card{Network: "survey", MAC: fmt.Sprintf("52:54:00:00:00:%02x", i)}
		s.Adapters[0].DNS = []netip.Addr{netip.MustParseAddr("198.51.100.2")}
		s.Guest.Answers, s.Guest.Domain, s.Guest.Login, s.Guest.Password, s.Guest.Timezone = "cloud-init", "brackwater.example", "survey", NoPassword, "UTC"
		s.Guest.Firstboot = &Firstboot{Packages: []string{"chrony"}}
		s.Info, s.Power = Info{Owner: "sonar desk", Notes: fmt.Sprintf("row %d, first leg", i)}, On
		texts[i] = written(s)
	}
	var specs Specs
	for name, decode := range map[string]func(text string) error{
		"decode":         func(text string) error { return specs.Decode(text, new(Slim)) },
		"yardstick-json": func(text string) error { return json.Unmarshal([]byte(text), new(Spec)) },
	} {
		b.Run(name, func(b *testing.B) {
			for i := range b.N {
				if err := decode(texts[i%len(texts)]); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
