package sandbox

import (
	"bytes"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"github.com/kdomanski/iso9660"
	"golang.org/x/crypto/ssh"

	"mintbatch/internal/core/survey"
)

// boot is what a guest makes of its first boot: it looks for a volume labelled
// cidata, reads the answers there and reports what it found. Without a
// readable seed it comes up as the template was: its name, and no address.
func boot(template TemplatePlan, adapters []adapter, seed []byte) (report survey.Report, instance string) {
	g := guest{report: survey.Report{Hostname: template.Hostname, Addresses: map[string][]string{}, Finished: true}}
	files, err := readSeed(seed)
	if err != nil {
		g.fault("seed: %s", err)
		return g.report, ""
	}
	meta, network, user := g.document(files, "meta-data"), g.document(files, "network-config"), g.document(files, "user-data")
	if user != nil && !bytes.HasPrefix(files["user-data"], []byte("#cloud-config\n")) {
		g.fault("user-data: does not begin with #cloud-config")
		user = nil
	}
	g.name(meta, user)
	g.network(network, adapters)
	g.logins(user)
	g.hostKey(user)
	g.report.Timezone = g.text(user, "timezone")
	return g.report, g.text(meta, "instance-id")
}

// readSeed returns the files of a NoCloud seed. The library that reads it
// panics on some broken images; to a guest they are merely unreadable.
func readSeed(seed []byte) (files map[string][]byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			files, err = nil, fmt.Errorf("the volume is broken: %v", p)
		}
	}()
	if len(seed) == 0 {
		return nil, fmt.Errorf("no volume labelled cidata")
	}
	image, err := iso9660.OpenImage(bytes.NewReader(seed))
	if err != nil {
		return nil, err
	}
	label, err := image.Label()
	if err != nil || !strings.EqualFold(strings.TrimSpace(label), "cidata") {
		return nil, fmt.Errorf("no volume labelled cidata")
	}
	root, err := image.RootDir()
	if err != nil {
		return nil, err
	}
	children, err := root.GetChildren()
	if err != nil {
		return nil, err
	}
	files = map[string][]byte{}
	for _, c := range children {
		if files[c.Name()], err = io.ReadAll(c.Reader()); err != nil {
			return nil, err
		}
	}
	return files, nil
}

type guest struct{ report survey.Report }

func (g *guest) fault(format string, args ...any) {
	g.report.Errors = append(g.report.Errors, fmt.Sprintf(format, args...))
}

func (g *guest) document(files map[string][]byte, name string) map[string]any {
	content, ok := files[name]
	if !ok {
		g.fault("seed: no file %s", name)
		return nil
	}
	v, err := parse11(content)
	m, isMap := v.(map[string]any)
	if err != nil || !isMap {
		g.fault("%s: not a YAML mapping: %v", name, err)
	}
	return m
}

// text returns a key's text; a value that YAML 1.1 takes for anything else is
// a fault, as it would be for cloud-init's schema.
func (g *guest) text(m map[string]any, key string) string {
	v, there := m[key]
	s, isText := v.(string)
	if there && !isText {
		g.fault("%s: %v is not text", key, v)
	}
	return s
}

func (g *guest) name(meta, user map[string]any) {
	name, fqdn := g.text(user, "hostname"), g.text(user, "fqdn")
	if name == "" {
		name = g.text(meta, "local-hostname")
	}
	if name != "" {
		g.report.Hostname, g.report.FQDN = name, fqdn
	}
}

func (g *guest) network(config map[string]any, adapters []adapter) {
	ethernets, _ := config["ethernets"].(map[string]any)
	for _, a := range adapters {
		for _, e := range ethernets {
			e, _ := e.(map[string]any)
			match, _ := e["match"].(map[string]any)
			if !strings.EqualFold(g.text(match, "macaddress"), a.MAC) {
				continue
			}
			var got []string
			if dhcp, ok := e["dhcp4"].(typed); ok && dhcp.text == "true" && a.Lease.IsValid() {
				got = append(got, a.Lease.String())
			}
			list, _ := e["addresses"].([]any)
			for _, v := range list {
				s, _ := v.(string)
				if p, err := netip.ParsePrefix(s); err == nil {
					got = append(got, p.String())
				} else {
					g.fault("network-config: %v is not an address", v)
				}
			}
			g.report.Addresses[a.MAC] = got
		}
	}
}

func (g *guest) logins(user map[string]any) {
	users, _ := user["users"].([]any)
	for _, u := range users {
		u, _ := u.(map[string]any)
		name := g.text(u, "name")
		hash := g.text(u, "hashed_passwd")
		keys, _ := u["ssh_authorized_keys"].([]any)
		for _, k := range keys {
			line, _ := k.(string)
			if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err != nil {
				g.fault("ssh_authorized_keys of %s: %s", name, err)
			}
		}
		if hash != "" && !strings.HasPrefix(hash, "$6$") {
			g.fault("hashed_passwd of %s is no SHA-512-crypt hash", name)
		}
		if name != "" {
			g.report.Logins = append(g.report.Logins, name)
		}
	}
}

func (g *guest) hostKey(user map[string]any) {
	keys, _ := user["ssh_keys"].(map[string]any)
	private := g.text(keys, "ed25519_private")
	if private == "" {
		return
	}
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if err != nil {
		g.fault("ssh_keys: %s", err)
		return
	}
	g.report.HostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
}
