package kinds

import (
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/answers/ovfenv"
	"mintbatch/internal/core/answers/own"
	"mintbatch/internal/core/answers/unattend"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

func input(kind machine.AnswersKind) answers.Input {
	m := machine.Machine{Key: machine.Key{Site: "quay", Name: "bms-sonar-01"}}
	m.Guest = machine.Guest{Answers: kind, Hostname: "bms-sonar-01", Domain: "brackwater.example", Login: "survey", Password: machine.Generate, Keys: []string{"ssh-ed25519 AAAA a<b"}, Timezone: "UTC",
		Firstboot: &machine.Firstboot{Properties: map[string]string{"leg": `north & "south" <é>`, "fqdn": "own"}, Commands: []string{"echo it's", "yes"}}}
	m.Adapters = []machine.Adapter{{Card: machine.Card{Network: "survey", MAC: "02:00:00:00:00:01"}, Interface: machine.Interface{Addressing: machine.Addressing{Addresses: []netip.Prefix{netip.MustParsePrefix("198.51.100.7/24")}, Gateways: []netip.Addr{netip.MustParseAddr("198.51.100.1")}}}}}
	m.Info.Labels = map[string]string{"rack": "3"}
	return answers.Hidden(m, "i-1")
}

// reader makes cloud-init's own data sources read an image as a guest would,
// the mount alone replaced: it takes root.
const reader = `
import sys, json, subprocess, tempfile
from cloudinit import util, helpers, distros, settings
from cloudinit.sources import DataSourceNoCloud, DataSourceOVF
image, kind, which = sys.argv[1:4]
def mount_cb(device, callback, data=None, mtype=None, update_env_for_mount=None):
    d = tempfile.mkdtemp()
    if kind == "iso": subprocess.check_output(["xorriso", "-osirrox", "on", "-indev", image, "-extract", "/", d], stderr=subprocess.DEVNULL)
    else: subprocess.check_call(["mcopy", "-n", "-i", image, "::*", d])
    return callback(d, data) if data is not None else callback(d)
util.mount_cb = mount_cb
label = subprocess.check_output(["blkid", "-p", "-o", "value", "-s", "LABEL", image]).decode().strip()
fs = subprocess.check_output(["blkid", "-p", "-o", "value", "-s", "TYPE", image]).decode().strip()
def find(criteria=None, *a, **k):
    return ["/dev/sr0"] if criteria in (None, "TYPE=" + fs, "LABEL=" + label, "LABEL_FATBOOT=" + label) else []
util.find_devs_with = find
util.mounts = lambda: {}
d = tempfile.mkdtemp()
paths = helpers.Paths({"cloud_dir": d, "run_dir": d})
cfg = dict(settings.CFG_BUILTIN); cfg["datasource"] = {"NoCloud": {}}
distro = distros.fetch("debian")("debian", {}, paths)
if which == "NoCloud":
    ds = DataSourceNoCloud.DataSourceNoCloud(cfg, distro, paths)
    assert ds._get_data()
    ud = ds.userdata_raw
    json.dump({"meta": ds.metadata, "user": ud if isinstance(ud, str) else ud.decode(), "network": ds.network_config}, sys.stdout)
else:
    content = DataSourceOVF.transport_iso9660()
    md, ud, cfg = DataSourceOVF.read_ovf_environment(content, read_network=True)
    json.dump({"meta": md, "user": ud.decode(), "all": DataSourceOVF.get_properties(content)}, sys.stdout)
`

func TestCloudInitReadsTheSeed(t *testing.T) {
	for _, program := range []string{"cloud-init", "xorriso", "mcopy", "blkid"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("skipped: %s is not installed", program)
		}
	}
	for _, c := range []struct {
		answers machine.AnswersKind
		image   media.Kind
		source  string
	}{{cloudinit.Name, media.ISOKind, "NoCloud"}, {cloudinit.Name, media.FATKind, "NoCloud"}, {ovfenv.Name, media.ISOKind, "OVF"}} {
		in := input(c.answers)
		made, err := Write(in)
		require.NoError(t, err)
		made.Kind = c.image
		image, err := made.Image()
		require.NoError(t, err)
		path := filepath.Join(t.TempDir(), "seed")
		require.NoError(t, os.WriteFile(path, image, 0o600))
		out, err := exec.Command("/usr/bin/python3", "-c", reader, path, string(c.image), c.source).Output()
		var failed *exec.ExitError
		if err != nil && assert.ErrorAs(t, err, &failed) {
			t.Fatalf("%s", failed.Stderr)
		}
		var got struct {
			Meta, Network map[string]any
			All           map[string]string
			User          string
		}
		require.NoError(t, json.Unmarshal(out, &got), "%s", out)
		assert.Equal(t, "i-1", got.Meta["instance-id"])
		assert.Equal(t, "bms-sonar-01", got.Meta["local-hostname"])
		assert.Contains(t, got.User, "#cloud-config\n")
		assert.Contains(t, got.User, `"echo it's"`)
		if c.answers == cloudinit.Name {
			assert.NotNil(t, got.Network["ethernets"])
			continue
		}
		assert.Equal(t, `north & "south" <é>`, got.All["leg"])
		assert.Equal(t, "own", got.All["fqdn"], "the row's own property counts")
		assert.Equal(t, "198.51.100.7/24", got.All["address.1"])
	}
}

func TestAnswersOfOnesOwn(t *testing.T) {
	in := input(own.Name)
	in.Guest.Own = &machine.OwnAnswers{Label: "CONFIG", Kind: "fat", Files: []machine.OwnFile{
		{Name: "a.json", Text: `{"h": {{json .hostname}}, "l": {{json .properties.leg}}, "net": {{json .adapters}}, "k": {{json .logins}}}`},
		{Name: "b.txt", Text: `{{range .adapters}}{{.mac}} {{join "," .addresses}}{{end}} {{.labels.rack}} {{shell (index .commands 0)}} {{base64 .hostname}} {{.password}}`},
		{Name: "c.xml", Text: `<x>{{xml .properties.leg}}</x>`},
	}}
	made, err := Write(in)
	require.NoError(t, err)
	assert.Equal(t, media.FATKind, made.Kind)
	var a map[string]any
	require.NoError(t, json.Unmarshal(made.Files[0].Content, &a))
	assert.Equal(t, `north & "south" <é>`, a["l"])
	assert.Equal(t, "02:00:00:00:00:01 198.51.100.7/24 3 'echo it'\\''s' "+base64.StdEncoding.EncodeToString([]byte("bms-sonar-01"))+" "+answers.Marker, string(made.Files[1].Content))
	var x string
	require.NoError(t, xml.Unmarshal(made.Files[2].Content, &x))
	assert.Equal(t, `north & "south" <é>`, x)
	for _, bad := range []string{"{{.hostnam}}", "{{.labels.none}}", "{{index .adapters 7}}", "{{.properties.x}}"} {
		in.Guest.Own.Files = []machine.OwnFile{{Name: "a", Text: bad}}
		_, err := Write(in)
		assert.Error(t, err, bad)
	}
	assert.Error(t, own.Parse(machine.OwnFile{Text: "{{if}}"}))
}

// A text is in the seed as it was in the row, or the seed is refused.
func TestXMLKindsRefuseWhatTheyCannotHold(t *testing.T) {
	for _, kind := range []machine.AnswersKind{unattend.Name, ovfenv.Name} {
		in := input(kind)
		in.Guest.Properties = map[string]string{"x": "\x01"}
		in.Guest.Windows.Owner = "\x01"
		_, err := Write(in)
		assert.ErrorIs(t, err, answers.ErrText)
	}
}
