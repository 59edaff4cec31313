package unattend

import (
	"encoding/xml"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/seal"
)

// hostile is text that trips writers of XML and shells.
var hostile = []string{"a & b <c> \"d\" 'e' ]]> --> <![CDATA[", "&#0; &amp;", "%PATH% %1 ^& | > <", "$(x) `x` ‘y’ \u2028", " lead and trail ", "tab\tnl\nend", "😀 漢字 עברית", strings.Repeat("long ", 500)}

func whole(text string) answers.Input {
	in := answers.Input{Instance: "i", Home: "http://198.51.100.2:8700/v1/home/c0ffee"}
	in.Guest = machine.Guest{Answers: Name, Hostname: "BMS-CHART-01", Domain: "brackwater.example", Login: "chart", Password: machine.Generate,
		Timezone: "Europe/Oslo", Locale: "nb_NO.UTF-8", Licence: "AAAAA-BBBBB-CCCCC-DDDDD-EEEEE", Firstboot: &machine.Firstboot{
			Early: []string{text}, Commands: []string{text, "echo " + text}, Keyboard: "nb-NO", Proxy: "http://proxy:3128", NoProxy: []string{"a"}, NTP: []string{"198.51.100.3"},
			Files: []machine.GuestFile{{Path: `C:\it's\x.txt`, Text: text}}, Trust: []string{"-----BEGIN CERTIFICATE-----"}, End: "reboot",
			Logins:  map[string]machine.Login{"Administrator": {Password: machine.Generate}, "ops": {Name: text, Groups: []string{"Users", "Backup Operators"}, Password: machine.Generate, Expire: machine.SwitchOn}},
			Volumes: []machine.Volume{{Disk: 1, Letter: "d", Label: "charts"}, {Disk: 2, Filesystem: "refs"}},
			Windows: machine.Windows{Owner: text, Organization: text, Language: "en-US", Remote: []machine.RemoteAccess{"desktop", "management"},
				Join: machine.Join{Domain: "brackwater.example", Account: `BMS\joiner`, Password: text, Unit: "OU=a,DC=b"}}}}
	in.Secrets.Clear = map[string]string{"chart": "p&<1", "Administrator": text, "ops": "x"}
	in.Adapters = []machine.Adapter{
		{Card: machine.Card{MAC: "02:00:00:00:00:0a"}, Interface: machine.Interface{MTU: 1400, Addressing: machine.Addressing{Addresses: []netip.Prefix{netip.MustParsePrefix("203.0.113.7/24"), netip.MustParsePrefix("2001:db8::7/64")}, Gateways: []netip.Addr{netip.MustParseAddr("203.0.113.1"), netip.MustParseAddr("2001:db8::1")}, DNS: []netip.Addr{netip.MustParseAddr("203.0.113.2")}, Search: []string{"brackwater.example", "b.example"}, Routes: []machine.Route{{To: netip.MustParsePrefix("198.51.100.0/24"), Via: netip.MustParseAddr("203.0.113.9")}}}}},
		{Card: machine.Card{MAC: "02:00:00:00:00:0b"}, Interface: machine.Interface{NoIPv6: true, Addressing: machine.Addressing{DHCP: true}}},
		{Card: machine.Card{MAC: "02:00:00:00:00:0c"}, Interface: machine.Interface{Addressing: machine.Addressing{SLAAC: true}}},
	}
	return in
}

// Every answer file is as our schema of the vendor's reference says.
func TestEveryAnswerFileIsValid(t *testing.T) {
	if _, err := exec.LookPath("xmllint"); err != nil {
		t.Skip("skipped: xmllint is not installed")
	}
	small := answers.Input{Secrets: answers.Secrets{Clear: map[string]string{"Administrator": "x"}}}
	small.Guest = machine.Guest{Hostname: "x", Firstboot: &machine.Firstboot{Logins: map[string]machine.Login{"Administrator": {Password: machine.Generate}},
		Windows: machine.Windows{Arch: "arm64", Workgroup: "CHARTS"}}}
	own := small
	own.Guest.Joins, own.Secrets.Account = "brackwater.example", `p<&"1`
	assert.Contains(t, string(content(mustFiles(t, own), "Unattend.xml")), "<JoinDomain>brackwater.example</JoinDomain>")
	all := []answers.Input{small, own}
	for _, text := range hostile {
		all = append(all, whole(text))
	}
	for _, in := range all {
		files, err := Files(in)
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "Unattend.xml")
		require.NoError(t, os.WriteFile(path, content(files, "Unattend.xml"), 0o600))
		out, err := exec.Command("xmllint", "--nonet", "--noout", "--schema", "../../../../docs/unattend.xsd", path).CombinedOutput()
		assert.NoError(t, err, "%s\n%s", out, content(files, "Unattend.xml"))
	}
	broken := strings.ReplaceAll(string(content(mustFiles(t, whole("x")), "Unattend.xml")), "<DhcpEnabled>true<", "<DhcpEnabled>perhaps<")
	path := filepath.Join(t.TempDir(), "broken.xml")
	require.NoError(t, os.WriteFile(path, []byte(broken), 0o600))
	assert.Error(t, exec.Command("xmllint", "--nonet", "--noout", "--schema", "../../../../docs/unattend.xsd", path).Run(), "the schema finds what is wrong")
}

func mustFiles(t *testing.T, in answers.Input) []answers.File {
	files, err := Files(in)
	require.NoError(t, err)
	return files
}

func content(files []answers.File, name string) []byte {
	for _, f := range files {
		if f.Name == name {
			return f.Content
		}
	}
	return nil
}

// Whatever a text holds, it comes out of the XML as it went in, or is refused.
func TestTextsArriveUnchanged(t *testing.T) {
	for _, text := range hostile {
		var d struct {
			Settings []struct {
				Components []struct {
					RegisteredOwner string
					Administrator   string `xml:"UserAccounts>AdministratorPassword>Value"`
				} `xml:"component"`
			} `xml:"settings"`
		}
		files := mustFiles(t, whole(text))
		require.NoError(t, xml.Unmarshal(content(files, "Autounattend.xml"), &d))
		assert.Equal(t, text, d.Settings[0].Components[0].RegisteredOwner)
		assert.Equal(t, text, d.Settings[1].Components[1].Administrator)
		assert.Equal(t, text, string(content(files, "file-01.bin")), "a carried file, to the byte")
		assert.Equal(t, files, mustFiles(t, whole(text)), "reproducible")
	}
	for _, bad := range []string{"\x00", "\x1b[0m", "a\x0bb", "\ufffe"} {
		_, err := Files(whole(bad))
		assert.ErrorIs(t, err, answers.ErrText, "%q", bad)
	}
}

func TestScriptsAndTheirLines(t *testing.T) {
	in := whole("net user & echo 100%")
	files := mustFiles(t, in)
	text := string(content(files, "Unattend.xml"))
	for _, s := range []string{"<ComputerName>BMS-CHART-01<", "<TimeZone>W. Europe Standard Time<", "<Identifier>02-00-00-00-00-0A<", "<Prefix>0.0.0.0/0<", "<UserLocale>nb-NO<",
		"<LogonCount>1<", "<Username>joiner<", "<Domain>BMS<", "@FirewallAPI.dll,-28752", "<Domain>BMS-CHART-01<", "<Group>Users;Backup Operators<"} {
		assert.Contains(t, text, s)
	}
	assert.Equal(t, "@chcp 65001 >nul\r\nnet user & echo 100%\r\n", string(content(files, "before-01.cmd")))
	prepared := string(content(files, "before-00.ps1"))
	for _, s := range []string{`'C:\it''s\x.txt'`, "'02-00-00-00-00-0B' | Disable-NetAdapterBinding", "-NlMtuBytes 1400", "-eq 'data-1'", "-DriveLetter D", "-FileSystem REFS", "\ufeff", "Enable-PSRemoting"} {
		assert.Contains(t, prepared, s)
	}
	assert.Contains(t, string(content(files, "logon-00.ps1")), "net user 'ops' /logonpasswordchg:yes")
	early, late := scripts(in)
	for _, s := range append(early, late...) {
		assert.LessOrEqual(t, len(s.line()), 259, "the longest path that RunSynchronousCommand takes")
	}
	in.Guest.Windows.Shell = "powershell"
	assert.Equal(t, "\ufeffnet user & echo 100%\r\n", string(content(mustFiles(t, in), "logon-01.ps1")))
	assert.Equal(t, "'it''s ‘‘so’’'", Quoted("it's ‘so’"))
}

// A grammar of PowerShell understands every script of ours, whatever texts are in it.
func TestScriptsAreWellFormed(t *testing.T) {
	if _, err := os.Stat(filepath.Join(os.Getenv("MINTBATCH_NODE"), "node_modules", "tree-sitter-powershell")); err != nil {
		t.Skip("MINTBATCH_NODE names no folder with tree-sitter-powershell")
	}
	parse := []string{"testdata/parse.js"}
	for _, text := range hostile[1:4] {
		in, dir := whole(text), t.TempDir()
		in.Guest.Early, in.Guest.Commands = nil, nil
		in.Guest.Stages = []machine.Stage{{Name: "roles", Commands: []string{"dir"}, Restart: machine.SwitchOn}, {Name: "charts", Commands: []string{"dir"}, As: machine.AsLogin}}
		sealing := answers.File{Name: "seal.ps1", Content: []byte(seal.WindowsScript(seal.Order{Hook: []byte(text)}))}
		for _, f := range append(mustFiles(t, in), sealing) {
			if path := filepath.Join(dir, f.Name); strings.HasSuffix(f.Name, ".ps1") {
				require.NoError(t, os.WriteFile(path, f.Content, 0o600))
				parse = append(parse, path)
			}
		}
	}
	parse = append(parse, "../../../handout/takein/take-in.ps1")
	require.Greater(t, len(parse), 15)
	out, err := exec.Command("node", append([]string{"--liftoff-only"}, parse...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Empty(t, string(out))
	broken := filepath.Join(t.TempDir(), "broken.ps1")
	require.NoError(t, os.WriteFile(broken, []byte("if ($x { }"), 0o600))
	out, err = exec.Command("node", "--liftoff-only", "testdata/parse.js", broken).CombinedOutput()
	require.NoError(t, err)
	assert.Contains(t, string(out), "broken.ps1:1", "it finds what is wrong")
}

// The table knows every zone that people write, and nothing that is none.
func TestZones(t *testing.T) {
	for iana, windows := range map[string]string{"Europe/Oslo": "W. Europe Standard Time", "UTC": "UTC", "Etc/UTC": "UTC", "Asia/Kolkata": "India Standard Time", "Asia/Calcutta": "India Standard Time",
		"America/Argentina/Buenos_Aires": "Argentina Standard Time", "Europe/Kyiv": "FLE Standard Time", "Europe/Kiev": "FLE Standard Time", "GMT": "UTC", "Europe/London": "GMT Standard Time"} {
		got, known := Zone(iana)
		assert.True(t, known, iana)
		assert.Equal(t, windows, got, iana)
	}
	for guest, same := range map[string]bool{"Europe/Oslo": true, "W. Europe Standard Time": true, "Europe/Berlin": false, "UTC": false} {
		assert.Equal(t, same, SameZone("Europe/Oslo", guest), guest)
	}
	assert.True(t, SameZone("UTC", "Etc/UTC"))
	assert.False(t, SameZone("Atlantis", "Mu"))
	_, known := Zone("Atlantis")
	assert.False(t, known)
	unknown := 0
	for name := range zones() {
		if _, err := time.LoadLocation(name); err != nil {
			unknown++
		}
	}
	assert.Less(t, unknown, 20, "the table's names are those of the IANA database")
}

func FuzzText(f *testing.F) {
	for _, s := range hostile {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		files, err := Files(whole(s))
		if err != nil {
			return
		}
		if err := xml.Unmarshal(content(files, "Unattend.xml"), new(struct{})); err != nil {
			t.Fatal(err)
		}
	})
}
