package batch

import (
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/seed"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

const setupText = `mintbatch: 1
sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/quay"}, vessel: {kind: gateway, url: "https://127.0.0.1:1/vessel"}}
templates: {deb12-base: {guest: linux, memory: 2GiB, cpus: 1}, win-chart: {guest: windows, answers: none}}
naming: {longest: 24, reserved: [x-gate], presets: {tide-gauge: {prefix: bms-tide-, pattern: "[a-z-]+[0-9]{2}", hostname: follows, lowercase: true}}}
networks:
  survey: {subnet: [198.51.100.0/24, "2001:db8:b0a7::/64"], gateway: [198.51.100.1, "2001:db8:b0a7::1"], dns: [198.51.100.2, "2001:db8:b0a7::2"], search: brackwater.example, pools: {nodes: {ranges: 198.51.100.100-198.51.100.102}}}
  chart: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, pools: {a: {ranges: 203.0.113.10-203.0.113.11}, b: {ranges: 203.0.113.20}}}
defaults: {site: quay, template: deb12-base, domain: brackwater.example, network: survey}
presets:
  sonar-node: {cpus: 4, packages: [lz4], firstboot: clock, login: survey, password: none}
  broken: {memory: "4"}
  sonar-base: {memory: 2GiB, cpus: 2, packages: [base]}
  sonar-big: {from: sonar-base, memory: 16GiB, packages: [big], notes: "{machine} is {index}, number {number}, of {owner}; {{machine}} {see wiki}"}
  tide-gauge: {}
firstboot: {clock: {packages: [chrony]}}
`

// build reads a sheet of the setup above up to the addresses.
func build(t *testing.T, rows string, held ...address.Reservation) ([]*Wanted, finding.List) {
	t.Helper()
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	require.Empty(t, found)
	table, found := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte(rows), Rules: s.Rules()})
	wanted, more := Build(table, s)
	found = append(found, more...)
	_, more = Assign(wanted, s, Past{Ledger: uuid.UUID{15: 1}, Held: held})
	return wanted, append(found, more...).Sorted()
}

func TestValuesComeFromRowPresetTemplateDefaults(t *testing.T) {
	wanted, found := build(t, "machine,preset,memory,hostname,cpus\nBMS-Sonar-01,sonar-node,4.0GiB,,\nbms-tide-01,,,gauge,1.0\n")
	require.Empty(t, found)
	first, second := wanted[0], wanted[1]
	assert.Equal(t, machine.Shape{CPUs: 4, Memory: 4 * machine.GiB}, first.Shape)
	assert.Equal(t, machine.Shape{CPUs: 1, Memory: 2 * machine.GiB}, second.Shape)
	assert.Equal(t, []string{"lz4", "chrony"}, first.Guest.Packages)
	assert.Equal(t, "bms-sonar-01.brackwater.example", first.Guest.FQDN())
	assert.Equal(t, "gauge", second.Guest.Hostname)
	assert.Equal(t, "quay", first.Site)
	assert.True(t, first.Adapters[0].DHCP, "no address means DHCP")
	for column, from := range map[string]string{"memory": "row", "cpus": "preset sonar-node", "template": "defaults", "notes": ""} {
		assert.Equal(t, from, first.Origin(column).From, column)
	}
	assert.Equal(t, "template deb12-base", second.Origin("memory").From)
	assert.Equal(t, "mintbatch.yaml:3:48", second.Origin("memory").At.String())
}

func TestPresetsBuildOnOneAnother(t *testing.T) {
	wanted, found := build(t, "machine,preset,owner,disks\n\"bms-[09-10,x]\",sonar-big,tide desk,\"20G, 100G:bulk:full\"\n")
	require.Empty(t, found[1:], "only that bms-x has no number")
	w := wanted[1]
	assert.Equal(t, machine.Shape{CPUs: 2, Memory: 16 * machine.GiB, Disks: []machine.Disk{
		{Size: 20 * machine.GiB, Kind: machine.ThinDisk}, {Size: 100 * machine.GiB, Store: "bulk", Kind: machine.FullDisk}}}, w.Shape)
	assert.Equal(t, []string{"base", "big"}, w.Guest.Packages)
	assert.Equal(t, "bms-10 is 2, number 10, of tide desk; {machine} {see wiki}", w.Mark.Notes)
	assert.Equal(t, "preset sonar-base", w.Origin("cpus").From)
	assert.Equal(t, w.Mark.Notes, w.Origin("notes").Value)
}

func TestRangesCountUp(t *testing.T) {
	wanted, found := build(t, "machine,address\n\"bms-[quay,vessel]-[01-02]\",198.51.100.40+\n")
	require.Empty(t, found)
	var got []string
	for _, w := range wanted {
		got = append(got, w.Name+" "+w.Guest.Hostname+" "+w.Adapters[0].Addresses[0].String())
	}
	assert.Equal(t, []string{"bms-quay-01 bms-quay-01 198.51.100.40/24", "bms-quay-02 bms-quay-02 198.51.100.41/24",
		"bms-vessel-01 bms-vessel-01 198.51.100.42/24", "bms-vessel-02 bms-vessel-02 198.51.100.43/24"}, got)
}

func TestAdaptersGetTheirOwnFamiliesAndOneWayOut(t *testing.T) {
	wanted, found := build(t, "machine,address,network.2,address.2\nx,2001:db8:b0a7::9,chart,203.0.113.9\ny,198.51.100.9,chart,203.0.113.8\n")
	require.Empty(t, found)
	x, y := wanted[0].Adapters, wanted[1].Adapters
	assert.Equal(t, "[2001:db8:b0a7::1] [2001:db8:b0a7::2]", strings.Join([]string{sprint(x[0].Gateways), sprint(x[0].DNS)}, " "))
	assert.Equal(t, "[203.0.113.1]", sprint(x[1].Gateways), "the first with IPv4")
	assert.Equal(t, "[198.51.100.1]", sprint(y[0].Gateways))
	assert.Empty(t, y[1].Gateways, "one IPv4 way out is enough")
	assert.NotEqual(t, x[0].MAC, x[1].MAC)
}

func TestFindingsOfCells(t *testing.T) {
	for _, c := range []struct{ code, rows, says string }{
		{"missing-machine", "machine,cpus\n,2\n", "row 2, column 1 (machine): the row has no machine name"},
		{"bad-range", "machine\nx-[1-\n", "'[' without ']'"},
		{"too-many-machines", "machine\nx-[1-999999999]\n", "more than 200000 machines"},
		{"bad-hostname", "machine\nbms_sonar\n", `'_' is not a letter`},
		{"bad-hostname", "machine,hostname\nx-[1-2],y\n", "one host name for a range"},
		{"bad-hostname", "machine,hostname\nx,a.b\n", "column 2 (hostname)"},
		{"duplicate-machine", "machine\nx\nX\n", "machine X is already in m.csv, row 2"},
		{"unknown-preset", "machine,preset\nx,sonar-nod\n", "did you mean sonar-node?"},
		{"unknown-template", "machine,template\nx,deb12\n", `unknown template "deb12" (did you mean deb12-base?)`},
		{"unknown-site", "machine,site\nx,quai\n", "did you mean quay?"},
		{"unknown-network", "machine,network\nx,surve\n", "did you mean survey?"},
		{"unknown-firstboot", "machine,firstboot\nx,clok\n", "did you mean clock?"},
		{"unknown-pool", "machine,address\nx,pool:node\n", "it has nodes"},
		{"unknown-pool", "machine,network,address\nx,chart,pool\n", "pool:a or pool:b"},
		{"bad-size", "machine,memory\nx,4\n", "the unit is missing"},
		{"bad-size", "machine,disk\nx,1500KiB\n", "whole number of MiB"},
		{"bad-size", "machine,preset\nx,broken\n", "mintbatch.yaml:11:20"},
		{"bad-cpus", "machine,cpus\nx,2.5\n", "whole number from 1"},
		{"bad-clone", "machine,clone\nx,thin\n", `linked or full, not "thin"`},
		{"bad-power", "machine,power\nx,yes\n", "on or off"},
		{"bad-address", "machine,address\nx,198.51.100.0\n", "network address"},
		{"bad-address", "machine,address\nx,198.51.100.255\n", "broadcast"},
		{"bad-address", "machine,address\nx,198.51.100.1\n", "is the gateway"},
		{"bad-address", "machine,address\nx,203.0.113.7\n", "is not in network survey"},
		{"duplicate-address", "machine,address\nx,198.51.100.7\ny,198.51.100.7\n", "already in m.csv, row 2, column 2 (address)"},
		{"pool-exhausted", "machine,address\nx-[1-4],pool\n", "and 4 are wanted: none is left for x-4"},
		{"missing-network", "machine,network.3\nx,chart\n", "network.3 is given but network.2 is not"},
		{"bad-mac", "machine,mac\nx,03:00:5e:10:00:01\n", "multicast"},
		{"duplicate-mac", "machine,mac\nx,02:00:5e:10:00:01\ny,02-00-5e-10-00-01\n", "already in m.csv, row 2"},
		{"literal-password", "machine,password\nx,hunter2\n", "must not stand in a cell"},
		{"no-recipients", "machine,login\nx,survey\n", "secret keygen"},
		{"bad-login", "machine,login,password\nx,Über,none\n", "lower-case"},
		{"bad-key", "machine,login,password,keys\nx,survey,none,ssh-rsa nonsense\n", "not an SSH public key"},
		{"bad-disks", "machine,disks\nx,20G:a:b:c\n", "size:store:kind"},
		{"bad-disks", "machine,disks\nx,\"20G, 5\"\n", "the unit is missing"},
		{"bad-placeholder", "machine,notes\nx,on {hosst}\n", "{hosst} is no placeholder (did you mean host?"},
		{"bad-placeholder", "machine,notes,owner\nx,{owner},{notes}\n", "in a circle"},
		{"bad-placeholder", "machine,notes\nx,n {number}\n", "x has no number"},
		{"bad-name", "machine\nbrackwater-marine-survey-station\n", "the longest possible is brackwater-marine-survey"},
		{"bad-name", "machine\nx-gate\n", "is reserved"},
		{"bad-name", "machine,preset\nx,tide-gauge\n", `does not begin with "bms-tide-"`},
		{"bad-name", "machine,preset\nbms-tide-x,tide-gauge\n", "does not match the setup's pattern"},
		{"bad-hostname", "machine,preset,hostname\nbms-tide-01,tide-gauge,gauge\n", "leave it empty"},
		{"bad-windows-name", "machine,template\nbms-chart-station-1,win-chart\n", "the longest possible is bms-chart-stati"},
		{"bad-windows-name", "machine,template\n0815,win-chart\n", "all digits"},
		{"shared-hostname", "machine,hostname\nx,\ny,x\n", "is also that of m.csv, row 2"},
		{"shared-password", "machine,login,password\nx-[1-2],survey,secret:field\n", "also that of others"},
		{"not-answered", "machine,template,login,password\nx,win-chart,survey,none\n", "takes no answers"},
		{"not-answered", "machine,licence\nx,secret:win\n", "no use for a licence"},
		{"licence-in-clear", "machine,notes\nx,AAAAA-BBBBB-CCCCC-DDDDD-EEEEE\n", "a licence key stands here in clear"},
		{"secret-in-clear", "machine,notes\nx,password: hunter2\n", "looks like a secret"},
		{"missing-login", "machine,keys\nx,ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGKW4uLuQ+V4Wl+yQkVGdAqGLyWSAJZZ977D8kOoSLso\n", "no login to use them"},
		{"bad-timezone", "machine,timezone\nx,Europe/Osloo\n", "IANA"},
		{"bad-date", "machine,until\nx,31.3.2027\n", "2027-03-31"},
		{"bad-labels", "machine,labels\nx,=3\n", "rack=3"},
		{"bad-domain", "machine,domain\nx,a..b\n", "label"},
		{"bad-checkpoint", "machine,checkpoint\nx,a b\n", "host name"},
	} {
		_, found := build(t, c.rows)
		var all []string
		codes := map[string]bool{}
		for _, f := range found {
			all = append(all, f.Error())
			codes[f.Code] = true
		}
		assert.True(t, codes[c.code], "%q: %s", c.rows, all)
		assert.Contains(t, strings.Join(all, "\n"), c.says, c.rows)
		assert.NotContains(t, sprint(found), "hunter2")
		assert.NotContains(t, sprint(found), "BBBBB-CCCCC")
	}
}

func TestAFindingOfASharedCellIsToldOnce(t *testing.T) {
	_, found := build(t, "machine,preset\nx-[1-50],broken\ny,broken\n")
	assert.Len(t, found, 1)
}

func TestAddressesHeldByOthers(t *testing.T) {
	held := address.Reservation{Holder: address.Holder{Site: "quay", Machine: "old", Adapter: 1}, Network: "survey", Addr: addr("198.51.100.100"), Pool: "nodes"}
	wanted, found := build(t, "machine,address\nx,pool\n", held)
	require.Empty(t, found)
	assert.Equal(t, "198.51.100.101/24", wanted[0].Adapters[0].Addresses[0].String())
	s, _ := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	again := slices.Clone(wanted[0].Adapters)
	Assign(wanted, s, Past{Ledger: uuid.UUID{15: 1}, Held: []address.Reservation{held}})
	assert.Equal(t, again, wanted[0].Adapters, "asked again, the same comes out")
	_, found = build(t, "machine,address\nx,198.51.100.100\n", held)
	require.Len(t, found, 1)
	assert.Equal(t, "address-in-use", found[0].Code)
	assert.Contains(t, found[0].Message, "held by old")
}

func sprint[T any](v T) string { return fmt.Sprint(v) }

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

// However placeholders multiply, they come to an end at once.
func TestPlaceholdersCannotExplode(t *testing.T) {
	cell := func(word string) string { return strings.Repeat("{"+word+"}", 1000) }
	_, found := build(t, "machine,notes,owner,labels,folder\nx,"+cell("owner")+","+cell("folder")+",,"+cell("notes")+"\n")
	assert.Contains(t, sprint(found), "in a circle")
	_, found = build(t, "machine,notes,owner,hostname,folder\nx,"+cell("owner")+","+cell("folder")+",,"+strings.Repeat("x", 1000)+"\n")
	assert.Contains(t, sprint(found), "longer than 32,767")
}

func FuzzPlaceholders(f *testing.F) {
	for _, s := range []string{"{machine}", "{number} {{x}}", "{notes}", "{owner}{", "{address.2}"} {
		f.Add(s)
	}
	s, _ := setup.Read(nil, setup.File{Name: "m", Content: []byte(setupText)})
	f.Fuzz(func(_ *testing.T, text string) {
		table := &sheet.Table{File: "m", Columns: []sheet.Column{{Name: "machine"}, {Name: "notes"}, {Name: "address", Adapter: 1}},
			Rows: []sheet.Row{{Number: 2, Cells: []string{"bms-[01-02]", text, text}}}}
		wanted, _ := Build(table, s)
		Assign(wanted, s, Past{})
	})
}

// A thousand rows of hostile text: each arrives in what its guest reads as it
// stands in its cell, or was refused there.
func TestHostileRowsArriveUnchanged(t *testing.T) {
	chance := rand.New(rand.NewPCG(3, 5))
	pieces := []string{"yes", "012", "1:30", "null", "~", "<<", "a: b", "# c", "- d", "{e}", "[f]", "&g", "*h", "!i", "%j", "@k", "`l`", "|", ">", "'", `"`, `\`, "<x>", "&amp;", "]]>", "$(x)", "%PATH%",
		" ", "\t", "é", "漢", "😀", "\u202eabc", "\u200b", "\u00a0", "\u2028", "\x01", "\x7f", "\ufffe", "${y}", "{{z}}", "=1+1", "long " + strings.Repeat("x", 300)}
	var text bytes.Buffer
	w := csv.NewWriter(&text)
	require.NoError(t, w.Write([]string{"machine", "template", "locale", "notes", "firstboot"}))
	cells := map[string]string{}
	for i := range 1000 {
		var b strings.Builder
		for range 1 + chance.IntN(5) {
			b.WriteString(pieces[chance.IntN(len(pieces))])
		}
		name := fmt.Sprintf("x-%04d", i)
		cells[name] = "x" + b.String() + "x"
		require.NoError(t, w.Write([]string{name, []string{"deb12-base", "ovf"}[i%2], cells[name], cells[name], "props"}))
	}
	w.Flush()
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)}, setup.File{Name: "more.yaml", Content: []byte(
		"templates: {ovf: {guest: linux, answers: ovf-env}}\nfirstboot: {props: {properties: {text: \"{notes}\"}}}\n")})
	require.False(t, found.Failed(), found)
	table, refused := sheet.Read(sheet.Source{Name: "m.csv", Content: text.Bytes()})
	wanted, more := Build(table, s)
	refused = append(refused, more...)
	_, more = Assign(wanted, s, Past{Ledger: uuid.UUID{1}})
	at := map[int]bool{}
	for _, f := range append(refused, more...) {
		if f.Severity == finding.Error {
			at[f.At.Row] = true
		}
	}
	arrived := 0
	for _, m := range wanted {
		if at[m.Row()] {
			continue
		}
		want := strings.NewReplacer("{{z}}", "{z}").Replace(cells[m.Name])
		made, err := seed.Of(answers.Hidden(m.Machine, "i"))
		require.NoError(t, err, m.Name)
		for _, f := range made.Files {
			switch f.Name {
			case "user-data":
				var d map[string]any
				require.NoError(t, yaml.Unmarshal(f.Content, &d))
				assert.Equal(t, want, d["locale"], m.Name)
				arrived++
			case "ovf-env.xml":
				var d struct {
					Properties []struct {
						Key   string `xml:"key,attr"`
						Value string `xml:"value,attr"`
					} `xml:"PropertySection>Property"`
				}
				require.NoError(t, xml.Unmarshal(f.Content, &d))
				for _, p := range d.Properties {
					if p.Key == "text" {
						assert.Equal(t, want, p.Value, m.Name)
						arrived++
					}
				}
			}
		}
	}
	assert.Equal(t, 1000, arrived+len(at), "arrived, or refused at its cell")
	assert.Greater(t, arrived, 500)
	assert.Greater(t, len(at), 50)
}

// What others have is not given out, and no MAC address twice.
func TestPastIsMindful(t *testing.T) {
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)}, setup.File{Name: "more.yaml", Content: []byte(`sites: {quay: {macs: "52:54:00:ff"}}`)})
	require.False(t, found.Failed(), found)
	table, _ := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte("machine,address\nx-[1-2],pool\n")})
	id := uuid.UUID{15: 1}
	assigned := func(past Past) ([]*Wanted, finding.List) {
		wanted, found := Build(table, s)
		require.False(t, found.Failed(), found)
		past.Ledger = id
		_, found = Assign(wanted, s, past)
		return wanted, found
	}
	plain, _ := assigned(Past{})
	assert.True(t, strings.HasPrefix(plain[0].Adapters[0].MAC, "52:54:00:ff:"))
	seen := address.Reservation{Network: "survey", Addr: addr("198.51.100.100"), Standing: address.Seen, Note: "printer"}
	got, found := assigned(Past{Held: []address.Reservation{seen}, Foreign: map[string]string{plain[0].Adapters[0].MAC: "a printer"}})
	require.Empty(t, found)
	assert.Equal(t, "198.51.100.101/24", got[0].Adapters[0].Addresses[0].String())
	assert.NotEqual(t, plain[0].Adapters[0].MAC, got[0].Adapters[0].MAC, "another has it")
	assert.Equal(t, plain[1].Adapters[0].MAC, got[1].Adapters[0].MAC)
	kept, _ := assigned(Past{MACs: map[machine.Key][]string{{Site: "quay", Name: "x-1"}: {"52:54:00:ff:00:07"}}})
	assert.Equal(t, "52:54:00:ff:00:07", kept[0].Adapters[0].MAC, "a machine keeps what it has")

	_, found = setup.Read(nil, setup.File{Name: "m.yaml", Content: []byte("mintbatch: 1\nsites: {quay: {kind: gateway, url: 'https://127.0.0.1:1/q', macs: '01:00'}}\n" +
		"networks: {survey: {subnet: 198.51.100.0/24, pools: {a: 198.51.100.10-198.51.100.20, b: {ranges: 198.51.100.20-198.51.100.30, choice: random, pair: on}}}}\n")})
	text := fmt.Sprint(found)
	for _, part := range []string{"pools a and b both hand out 198.51.100.20", "lowest, sticky or spread", "one family only", "begins multicast addresses"} {
		assert.Contains(t, text, part)
	}
}
