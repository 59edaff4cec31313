package batch_test

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

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/kinds"
	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
)

const setupText = `mintbatch: 1
sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/quay"}, vessel: {kind: gateway, url: "https://127.0.0.1:1/vessel"}}
templates: {deb12-base: {guest: linux, memory: 2GiB, cpus: 1}, win-chart: {guest: windows, answers: none}}
naming: {max_length: 24, reserved: [x-gate], presets: {tide-gauge: {prefix: bms-tide-, pattern: "[a-z-]+[0-9]{2}", hostname: same, lowercase: true}}}
networks:
  survey: {subnet: [198.51.100.0/24, "2001:db8:b0a7::/64"], gateway: [198.51.100.1, "2001:db8:b0a7::1"], dns: [198.51.100.2, "2001:db8:b0a7::2"], search: brackwater.example, pools: {nodes: {ranges: 198.51.100.100-198.51.100.102}}}
  chart: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, pools: {a: {ranges: 203.0.113.10-203.0.113.11}, b: {ranges: 203.0.113.20}}}
defaults: {site: quay, template: deb12-base, domain: brackwater.example, network: survey}
presets:
  sonar-node: {cpus: 4, packages: [lz4], firstboot: clock, login: survey, password: none}
  broken: {memory: "4"}
  sonar-base: {memory: 2GiB, cpus: 2, packages: [base]}
  sonar-big: {extends: sonar-base, memory: 16GiB, packages: [big], notes: "{machine} is {index}, number {number}, of {owner}; {{machine}} {see wiki}"}
  tide-gauge: {}
firstboot: {clock: {packages: [chrony]}}
`

// built reads a sheet of the setup above up to the addresses.
func built(t *testing.T, rows string, held ...address.Reservation) ([]*batch.Wanted, finding.List) {
	t.Helper()
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	require.Empty(t, found)
	table, found := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte(rows), Rules: s.Rules()})
	wanted, more := batch.Build(table, s)
	found = append(found, more...)
	_, more = assign.Addresses(wanted, s, assign.Past{Ledger: uuid.UUID{15: 1}, Held: held})
	return wanted, append(found, more...).Sorted()
}

func TestValuesComeFromRowPresetTemplateDefaults(t *testing.T) {
	wanted, found := built(t, "machine,preset,memory,hostname,cpus\nBMS-Sonar-01,sonar-node,4.0GiB,,\nbms-tide-01,,,gauge,1.0\n")
	require.Empty(t, found)
	first, second := wanted[0], wanted[1]
	assert.Equal(t, machine.Shape{CPUs: 4, Memory: 4 * machine.GiB}, first.Spec().Shape)
	assert.Equal(t, machine.Shape{CPUs: 1, Memory: 2 * machine.GiB}, second.Spec().Shape)
	assert.Equal(t, []string{"lz4", "chrony"}, first.Spec().Guest.Packages)
	assert.Equal(t, "bms-sonar-01.brackwater.example", first.Spec().Guest.FQDN())
	assert.Equal(t, "gauge", second.Spec().Guest.Hostname)
	assert.Equal(t, "quay", first.Site)
	assert.True(t, first.Adapters[0].DHCP, "no address means DHCP")
	for column, from := range map[string]string{"memory": "row", "cpus": "preset sonar-node", "template": "defaults", "notes": ""} {
		assert.Equal(t, from, first.Origin(column).From, column)
	}
	assert.Equal(t, "template deb12-base", second.Origin("memory").From)
	assert.Equal(t, "mintbatch.yaml:3:48", second.Origin("memory").At.String())
}

// What programs and people write in more than one way is read as it is meant.
func TestCellsAsPeopleWriteThem(t *testing.T) {
	wanted, found := built(t, "machine,address,until,labels,locale,RAM_MB\nx.leg.example.,198.51.100.7/24,2027-03-31T00:00:00Z,\"place=\"\"row 3\"\"; tier=a\",sr_RS@latin,4 096\n"+
		"y,\"198.51.100.8, 2001:db8:b0a7::8\",2027-03-31 00:00:00,a b=c,C.UTF-8,\"1.024,0\"\n")
	require.Empty(t, found)
	x, y := wanted[0], wanted[1]
	assert.Equal(t, "x leg.example x.leg.example", strings.Join([]string{x.Name, x.Spec().Guest.Domain, x.Spec().Guest.FQDN()}, " "))
	assert.Equal(t, "198.51.100.7/24", x.Adapters[0].Addresses[0].String())
	assert.Equal(t, "2027-03-31 2027-03-31", x.Info.Until+" "+y.Info.Until)
	assert.Equal(t, map[string]string{"place": "row 3", "tier": "a"}, x.Info.Labels)
	assert.Equal(t, map[string]string{"a": "", "b": "c"}, y.Info.Labels)
	assert.Equal(t, 4*machine.GiB, x.Spec().Shape.Memory)
	assert.Equal(t, machine.GiB, y.Spec().Shape.Memory)
}

// A wrong word is told once where it stands, with the machines that it touches; of
// many findings of a kind the first are reported and the others counted.
func TestAFindingIsToldOnce(t *testing.T) {
	_, found := built(t, "machine,address\nx-[01-12],pool:nope\n")
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Message, "affects 12 machines: x-01, x-02, x-03 and 9 more")
	_, found = built(t, "machine,preset\nx-[1-2],broken\ny,broken\n")
	require.Len(t, found, 1)
	assert.Equal(t, "mintbatch.yaml", found[0].At.File)
	assert.Contains(t, found[0].Message, "affects 3 machines: x-1, x-2, y")
	_, found = built(t, "machine,cpus\n"+strings.Repeat(",2\n", 1000))
	require.Len(t, found, finding.Most+1)
	assert.Equal(t, 1000, found.Count(finding.Error))
	for _, f := range found {
		assert.Equal(t, "missing-machine", f.Code, "nothing follows from a name that is missing")
	}
}

func TestPresetsBuildOnOneAnother(t *testing.T) {
	wanted, found := built(t, "machine,preset,owner,disks\n\"bms-[09-10,x]\",sonar-big,tide desk,\"20G, 100G:bulk:full\"\n")
	require.Empty(t, found[1:], "only that bms-x contains no number")
	w := wanted[1]
	assert.Equal(t, machine.Shape{CPUs: 2, Memory: 16 * machine.GiB, Disks: []machine.Disk{
		{Size: 20 * machine.GiB, Kind: machine.ThinDisk}, {Size: 100 * machine.GiB, Store: "bulk", Kind: machine.FullDisk}}}, w.Spec().Shape)
	assert.Equal(t, []string{"base", "big"}, w.Spec().Guest.Packages)
	assert.Equal(t, "bms-10 is 2, number 10, of tide desk; {machine} {see wiki}", w.Info.Notes)
	assert.Equal(t, "preset sonar-base", w.Origin("cpus").From)
	assert.Equal(t, w.Info.Notes, w.Origin("notes").Value)
}

// Machines of a sheet are in memory together, and yet each is what it would be alone.
func TestMachinesHaveNothingOfEachOther(t *testing.T) {
	heading := "machine,preset,site,cpus,memory,disk,disks,hostname,domain,login,notes,owner,labels,until,power,after,aliases,timezone,network.2,address.2,mac\n"
	fields := []string{"sonar-node", "vessel", "2", "3GiB", "20G", "5G", "other", "leg.example", "pilot", "some notes", "tide desk", "leg=1", "2027-03-01", "off", "bms-x-01", "gate", "Europe/Oslo", "chart", "203.0.113.77", "02:00:5e:10:00:01"}
	var rows []string
	for range 2 { // what two rows have in common stands apart, and together
		for i, field := range fields {
			cells := make([]string, len(fields))
			cells[i] = field
			if slices.Contains([]string{"20G", "203.0.113.77"}, field) { // which need another's
				cells[max(i-1, 0)] = fields[max(i-1, 0)]
			}
			rows = append(rows, fmt.Sprintf("bms-x-%02d,%s\n", len(rows)+1, strings.Join(cells, ",")))
		}
	}
	together, _ := built(t, heading+strings.Join(rows, ""))
	require.Len(t, together, len(rows))
	for i, row := range rows {
		alone, _ := built(t, heading+row)
		require.Len(t, alone, 1)
		one, other := together[i].Spec(), alone[0].Spec()
		for k := range one.Adapters { // those of the second batch of addresses are taken
			one.Adapters[k].Addresses, other.Adapters[k].Addresses = nil, nil
		}
		assert.Equal(t, other, one, row)
	}
	before := together[3].Spec().Fingerprint()
	together[2].Change(func(s *machine.Spec) { s.Guest.Login, s.Info.Owner, s.Clone.Template = "x", "y", "z" })
	assert.Equal(t, before, together[3].Spec().Fingerprint())
	assert.Equal(t, "x y z", strings.Join([]string{together[2].Spec().Guest.Login, together[2].Info.Owner, together[2].Spec().Clone.Template}, " "))
}

func TestRangesCountUp(t *testing.T) {
	wanted, found := built(t, "machine,address\n\"bms-[quay,vessel]-[01-02]\",198.51.100.40+\n")
	require.Empty(t, found)
	var got []string
	for _, w := range wanted {
		got = append(got, w.Name+" "+w.Spec().Guest.Hostname+" "+w.Adapters[0].Addresses[0].String())
	}
	assert.Equal(t, []string{"bms-quay-01 bms-quay-01 198.51.100.40/24", "bms-quay-02 bms-quay-02 198.51.100.41/24",
		"bms-vessel-01 bms-vessel-01 198.51.100.42/24", "bms-vessel-02 bms-vessel-02 198.51.100.43/24"}, got)
}

func TestAdaptersGetTheirOwnFamiliesAndOneWayOut(t *testing.T) {
	wanted, found := built(t, "machine,address,network.2,address.2\nx,2001:db8:b0a7::9,chart,203.0.113.9\ny,198.51.100.9,chart,203.0.113.8\n")
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
		{"literal-placeholder", "machine,notes\nx,of {Owner}\n", "write the placeholder as {owner}"},
		{"literal-placeholder", "machine,notes\nx,{ VM name }\n", "write the placeholder as {machine}"},
		{"bad-domain", "machine,domain\nx.leg.example,quay.example\n", "the machine name has domain leg.example"},
		{"bad-address", "machine,address\nx,198.51.100.7/25\n", "the prefix length 24, not 25"},
		{"bad-address", "machine,address\nx,none 198.51.100.7\n", "contradict each other"},
		{"bad-address", "machine,address\nx,dhcp dhcp:pool\n", "contradict each other"},
		{"bad-address", "machine,address\nx," + many(257, func(i int) string { return fmt.Sprintf("2001:db8:b0a7::%x", i+16) }) + "\n", "at most 256 addresses"},
		{"bad-labels", "machine,labels\nx,\"place=\"\"row 3\"\n", "is not a label"},
		{"bad-locale", "machine,locale\nx,nb-NO\n", "write for example nb_NO.UTF-8"},
		{"bad-locale", "machine,locale\nx,xx_NO\n", "no language has the code"},
		{"bad-date", "machine,until\nx,2027-03-31 12:00\n", "is not a date"},
		{"bad-size", "machine,memory\nx,1.000GiB\n", "may mean 1000 or 1"},
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
		{"pool-exhausted", "machine,address\nx-[1-4],pool\n", "4 needed; none left for x-4"},
		{"missing-network", "machine,network.3\nx,chart\n", "network.3 is given but network.2 is not"},
		{"bad-mac", "machine,mac\nx,03:00:5e:10:00:01\n", "multicast"},
		{"duplicate-mac", "machine,mac\nx,02:00:5e:10:00:01\ny,02-00-5e-10-00-01\n", "already in m.csv, row 2"},
		{"literal-password", "machine,password\nx,hunter2\n", "must not stand in a cell"},
		{"no-recipients", "machine,login\nx,survey\n", "secret keygen"},
		{"bad-login", "machine,login,password\nx,Über,none\n", "write a letter"},
		{"bad-key", "machine,login,password,keys\nx,survey,none,ssh-rsa nonsense\n", "not an SSH public key"},
		{"bad-disks", "machine,disks\nx,20G:a:b:c\n", "size:store:kind"},
		{"bad-disks", "machine,disks\nx,\"20G, 5\"\n", "the unit is missing"},
		{"bad-placeholder", "machine,notes\nx,on {hosst}\n", "unknown placeholder {hosst} (did you mean host?"},
		{"bad-placeholder", "machine,notes,owner\nx,{owner},{notes}\n", "in a circle"},
		{"bad-placeholder", "machine,notes\nx,n {number}\n", "x contains no number"},
		{"bad-name", "machine\nbrackwater-marine-survey-station\n", "shorten it, for example to brackwater-marine-survey"},
		{"bad-name", "machine\nx-gate\n", "is reserved"},
		{"bad-name", "machine,preset\nx,tide-gauge\n", `does not begin with "bms-tide-"`},
		{"bad-name", "machine,preset\nbms-tide-x,tide-gauge\n", "does not match the setup's pattern"},
		{"bad-hostname", "machine,preset,hostname\nbms-tide-01,tide-gauge,gauge\n", "leave it empty"},
		{"bad-windows-name", "machine,template\nbms-chart-station-1,win-chart\n", "shorten it, for example to bms-chart-stati"},
		{"bad-windows-name", "machine,template\n0815,win-chart\n", "all digits"},
		{"shared-hostname", "machine,hostname\nx,\ny,x\n", "is also used by m.csv, row 2"},
		{"shared-password", "machine,login,password\nx-[1-2],survey,secret:field\n", "shares its password with others"},
		{"not-answered", "machine,template,login,password\nx,win-chart,survey,none\n", "has answers: none"},
		{"not-answered", "machine,licence\nx,secret:win\n", "does not use a licence"},
		{"licence-in-clear", "machine,notes\nx,AAAAA-BBBBB-CCCCC-DDDDD-EEEEE\n", "the cell contains a licence key in clear text"},
		{"secret-in-clear", "machine,notes\nx,password: hunter2\n", "looks like a secret"},
		{"missing-login", "machine,keys\nx,ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGKW4uLuQ+V4Wl+yQkVGdAqGLyWSAJZZ977D8kOoSLso\n", "without a login"},
		{"bad-timezone", "machine,timezone\nx,Europe/Osloo\n", "IANA"},
		{"bad-date", "machine,until\nx,31.3.2027\n", "2027-03-31"},
		{"bad-labels", "machine,labels\nx,=3\n", "rack=3"},
		{"literal-placeholder", "machine,notes\nx,of {Owner}\n", "write the placeholder as {owner}"},
		{"literal-placeholder", "machine,notes\nx,{ VM name }\n", "write the placeholder as {machine}"},
		{"bad-domain", "machine,domain\nx,a..b\n", "label"},
		{"bad-checkpoint", "machine,checkpoint\nx,a_b\n", "letters, digits and hyphens"},
		{"bad-checkpoint", "machine,checkpoint\nx,ready@noon\n", "must be confirmed or confirmed-off"},
		{"bad-checkpoint", "machine,checkpoint\nx,a A@confirmed\n", "two checkpoints are named A"},
		{"bad-checkpoint", "machine,checkpoint,power\nx,a@confirmed,off\n", "is not confirmed"},
		{"bad-after", "machine,after\nx,[a\n", "neither a machine, a preset nor a label"},
	} {
		_, found := built(t, c.rows)
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
	_, found := built(t, "machine,preset\nx-[1-50],broken\ny,broken\n")
	assert.Len(t, found, 1)
}

func TestAddressesHeldByOthers(t *testing.T) {
	held := address.Reservation{Holder: address.Holder{Site: "quay", Machine: "old", Adapter: 1}, Network: "survey", Addr: addr("198.51.100.100"), Pool: "nodes"}
	wanted, found := built(t, "machine,address\nx,pool\n", held)
	require.Empty(t, found)
	assert.Equal(t, "198.51.100.101/24", wanted[0].Adapters[0].Addresses[0].String())
	s, _ := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	again := slices.Clone(wanted[0].Adapters)
	assign.Addresses(wanted, s, assign.Past{Ledger: uuid.UUID{15: 1}, Held: []address.Reservation{held}})
	assert.Equal(t, again, wanted[0].Adapters, "asked again, the same comes out")
	_, found = built(t, "machine,address\nx,198.51.100.100\n", held)
	require.Len(t, found, 1)
	assert.Equal(t, "address-in-use", found[0].Code)
	assert.Contains(t, found[0].Message, "held by old")
}

// many are words with blanks between them.
func many(n int, word func(i int) string) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(word(i) + " ")
	}
	return b.String()
}

func sprint[T any](v T) string { return fmt.Sprint(v) }

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

// However placeholders multiply, they come to an end at once.
func TestPlaceholdersCannotExplode(t *testing.T) {
	cell := func(word string) string { return strings.Repeat("{"+word+"}", 1000) }
	_, found := built(t, "machine,notes,owner,labels,folder\nx,"+cell("owner")+","+cell("folder")+",,"+cell("notes")+"\n")
	assert.Contains(t, sprint(found), "in a circle")
	_, found = built(t, "machine,notes,owner,hostname,folder\nx,"+cell("owner")+","+cell("folder")+",,"+strings.Repeat("x", 1000)+"\n")
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
		wanted, _ := batch.Build(table, s)
		assign.Addresses(wanted, s, assign.Past{})
	})
}

// A thousand rows of hostile text: each arrives in what its guest reads as it
// stands in its cell, or was refused there.
func TestHostileRowsArriveUnchanged(t *testing.T) {
	chance := rand.New(rand.NewPCG(3, 5))
	pieces := []string{"yes", "012", "1:30", "null", "~", "<<", "a: b", "# c", "- d", "{e}", "[f]", "&g", "*h", "!i", "%j", "@k", "`l`", "|", ">", "'", `"`, `\`, "<x>", "&amp;", "]]>", "$(x)", "%PATH%",
		" ", "\t", "é", "漢", "😀", "\u202eabc", "\u200b", "\u00a0", "\u2028", "\x01", "\x7f", "\ufffe", "${y}", "{{z}}", "=1+1", "long " + strings.Repeat("x", 300)}
	arrived, refused := 0, 0
	for range 20 {
		a, r := hostileRows(t, 50, func() string { return pieces[chance.IntN(len(pieces))] }, 1+chance.IntN(5))
		arrived, refused = arrived+a, refused+r
	}
	assert.Equal(t, 1000, arrived+refused, "arrived, or refused at its cell")
	assert.Greater(t, arrived, 500)
	assert.Greater(t, refused, 50)
}

// hostileRows makes n rows whose text is of pieces, and tells how many of them
// arrived in what a guest reads, and how many were refused.
func hostileRows(t *testing.T, n int, piece func() string, pieces int) (arrived, _ int) {
	t.Helper()
	var text bytes.Buffer
	w := csv.NewWriter(&text)
	require.NoError(t, w.Write([]string{"machine", "template", "notes", "firstboot"}))
	cells := map[string]string{}
	for i := range n {
		var b strings.Builder
		for range pieces {
			b.WriteString(piece())
		}
		name := fmt.Sprintf("x-%04d", i)
		cells[name] = "x" + b.String() + "x"
		require.NoError(t, w.Write([]string{name, "ovf", cells[name], "props"}))
	}
	w.Flush()
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)}, setup.File{Name: "more.yaml", Content: []byte(
		"templates: {ovf: {guest: linux, answers: ovf-env}}\nfirstboot: {props: {properties: {text: \"{notes}\"}}}\n")})
	require.False(t, found.Failed(), found)
	table, refused := sheet.Read(sheet.Source{Name: "m.csv", Content: text.Bytes()})
	wanted, more := batch.Build(table, s)
	refused = append(refused, more...)
	_, more = assign.Addresses(wanted, s, assign.Past{Ledger: uuid.UUID{1}})
	at := map[int]bool{}
	for _, f := range append(refused, more...) {
		if f.Severity == finding.Error {
			at[f.At.Row] = true
		}
	}
	for _, m := range wanted {
		if at[m.Row()] {
			continue
		}
		want := strings.NewReplacer("{{z}}", "{z}").Replace(cells[m.Name])
		made, err := kinds.Write(answers.Hidden(*m.Machine(), "i"))
		require.NoError(t, err, m.Name)
		for _, f := range made.Files {
			switch f.Name {
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
	return arrived, len(at)
}

// What others have is not given out, and no MAC address twice.
func TestPastIsMindful(t *testing.T) {
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)}, setup.File{Name: "more.yaml", Content: []byte(`sites: {quay: {mac_prefix: "52:54:00:ff"}}`)})
	require.False(t, found.Failed(), found)
	table, _ := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte("machine,address\nx-[1-2],pool\n")})
	id := uuid.UUID{15: 1}
	assigned := func(past assign.Past) ([]*batch.Wanted, finding.List) {
		wanted, found := batch.Build(table, s)
		require.False(t, found.Failed(), found)
		past.Ledger = id
		_, found = assign.Addresses(wanted, s, past)
		return wanted, found
	}
	plain, _ := assigned(assign.Past{})
	assert.True(t, strings.HasPrefix(plain[0].Adapters[0].MAC, "52:54:00:ff:"))
	seen := address.Reservation{Network: "survey", Addr: addr("198.51.100.100"), Standing: address.Seen, Note: "printer"}
	got, found := assigned(assign.Past{Held: []address.Reservation{seen}, Foreign: map[string]string{plain[0].Adapters[0].MAC: "a printer"}})
	require.Empty(t, found)
	assert.Equal(t, "198.51.100.101/24", got[0].Adapters[0].Addresses[0].String())
	assert.NotEqual(t, plain[0].Adapters[0].MAC, got[0].Adapters[0].MAC, "another has it")
	assert.Equal(t, plain[1].Adapters[0].MAC, got[1].Adapters[0].MAC)
	kept, _ := assigned(assign.Past{MACs: func(key machine.Key) []string { return map[string][]string{"x-1": {"52:54:00:ff:00:07"}}[key.Name] }})
	assert.Equal(t, "52:54:00:ff:00:07", kept[0].Adapters[0].MAC, "a machine keeps what it has")

	for setupText, parts := range map[string][]string{
		"sites: {quay: {kind: gateway, url: 'https://127.0.0.1:1/q', mac_prefix: '01:00'}}\nnetworks: {survey: {pools: {b: {allocation: random}}}}\n":                                                                      {"lowest, sticky or hashed", "is a multicast prefix"},
		"sites: {quay: {kind: gateway, url: 'https://127.0.0.1:1/q'}}\nnetworks: {survey: {subnet: 198.51.100.0/24, pools: {a: 198.51.100.10-198.51.100.20, b: {ranges: 198.51.100.20-198.51.100.30, dual_stack: on}}}}\n": {"pools a and b both contain 198.51.100.20", "has only one family"},
	} {
		_, found = setup.Read(nil, setup.File{Name: "m.yaml", Content: []byte("mintbatch: 1\n" + setupText)})
		for _, part := range parts {
			assert.Contains(t, fmt.Sprint(found), part)
		}
	}
}

// The values of a setup are right or told, whether or not a row names them.
func TestCheckValues(t *testing.T) {
	values := func(text string) string {
		s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)}, setup.File{Name: "more.yaml", Content: []byte(text)})
		require.Empty(t, found, text)
		var all []string
		for _, f := range assign.CheckValues(s) {
			all = append(all, f.Code+" "+f.At.File)
		}
		slices.Sort(all)
		return strings.Join(all, ", ")
	}
	broken := "bad-size mintbatch.yaml" // of the preset broken
	for text, want := range map[string]string{
		"presets: {p: {cpus: 0}}":                                 "bad-cpus more.yaml, " + broken,
		"presets: {p: {network: nope}}":                           broken + ", unknown-network more.yaml",
		"presets: {p: {template: nope}}":                          broken + ", unknown-template more.yaml",
		"presets: {p: {firstboot: nope}}":                         broken + ", unknown-firstboot more.yaml",
		"presets: {p: {address: \"pool:nope\", network: survey}}": broken + ", unknown-pool more.yaml",
		"templates: {t: {guest: linux, locale: nb-NO}}":           "bad-locale more.yaml, " + broken,
		"defaults: {timezone: Nowhere}":                           broken + ", bad-timezone more.yaml",
		"presets: {p: {login: x, notes: \"{number}\"}}":           broken,
	} {
		assert.Equal(t, want, values(text), text)
	}
}

// A command that names machines needs only their rows to be right.
func TestRowsOfOthers(t *testing.T) {
	s, _ := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)})
	rows := "machine,memory,cpus,address\nx,4GiB,1,198.51.100.7\ny,4,1,198.51.100.8\nz,4GiB,#REF!,198.51.100.9\n,4GiB,,\nw,4GiB,1,198.51.100.7\ntotal,,,\n"
	only := func(names ...string) (machines []string, codes []string) {
		named := func(name string) bool { return slices.Contains(names, name) }
		table, found := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte(rows)})
		found = batch.Rows(table, found, named)
		wanted, more := batch.BuildOnly(table, s, named)
		_, last := assign.Addresses(wanted, s, assign.Past{Named: named})
		for _, w := range wanted {
			machines = append(machines, w.Name)
		}
		for _, f := range append(append(found, more...), last...) {
			codes = append(codes, f.Code)
		}
		return machines, codes
	}
	machines, codes := only("x")
	assert.Equal(t, []string{"x", "w"}, machines, "which have no error of their own")
	assert.Empty(t, codes)
	_, codes = only("y")
	assert.Equal(t, []string{"bad-size"}, codes)
	_, codes = only("z")
	assert.Equal(t, []string{"error-value"}, codes)
	_, codes = only("w")
	assert.Equal(t, []string{"duplicate-address"}, codes)
}

// What an isolated network offers by DHCP is no way out; the routes of a network come
// along with DHCP; and what does not arrive everywhere is reported.
func TestWaysOfGuests(t *testing.T) {
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(setupText)}, setup.File{Name: "more.yaml", Content: []byte(`
networks:
  deck: {subnet: [192.0.2.0/24, "2001:db8:d::/64"], mtu: 9000, routes: [{to: 203.0.113.0/24, via: 192.0.2.9}, {to: "2001:db8:c::/48", via: "2001:db8:d::9"}]}
  link: {subnet: "2001:db8:e::/64", gateway: "fe80::1"}
`)})
	require.Empty(t, found)
	table, found := sheet.Read(sheet.Source{Name: "m.csv", Content: []byte("machine,network,address,network.2,address.2,parent.2\nx,deck,dhcp,survey,198.51.100.7,\ny,link,2001:db8:e::7,,,\nz,deck,slaac 192.0.2.7,,,\nb,deck,192.0.2.8,deck,none,bond:1\n")})
	require.Empty(t, found)
	wanted, found := batch.Build(table, s)
	require.Empty(t, found)
	_, found = assign.Addresses(wanted, s, assign.Past{Ledger: uuid.UUID{15: 1}})
	assert.Equal(t, "[198.51.100.1]", sprint(wanted[0].Adapters[1].Gateways), "the first network is isolated")
	assert.Len(t, wanted[0].Adapters[0].Routes, 1, "that of IPv4")
	assert.Equal(t, "[fe80::1]", sprint(wanted[1].Adapters[0].Gateways))
	var told []string
	for _, f := range found {
		assert.Equal(t, "not-everywhere", f.Code)
		told = append(told, f.At.String())
	}
	assert.ElementsMatch(t, []string{"m.csv, row 4, column 3 (address)", "m.csv, row 5, column 3 (address)"}, told)
}
