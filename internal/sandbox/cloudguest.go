package sandbox

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"io"
	"mime"
	"mime/multipart"
	"net/mail"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/pattern"
	"mintbatch/internal/core/seal"
)

// cloudInit does what cloud-init does with a NoCloud seed, as far as a
// simulated guest can, and returns the instance id.
func (g *guest) cloudInit(files map[string][]byte) string {
	meta, network := g.document(files, "meta-data"), g.document(files, "network-config")
	g.configure(network, g.userData(files["user-data"]), meta)
	return g.text(meta, "instance-id")
}

func (g *guest) configure(network, user, meta map[string]any) {
	g.name(meta, user)
	g.network(network)
	g.logins(user)
	g.hostKey(user)
	g.report.Timezone = g.text(user, "timezone")
	g.makes(user)
}

// mounted finds where the script for a volume mounts it; the script itself is quoted.
var mounted = pattern.Lazy(`mountpoint -q [\\']*([^'\\]+)`)

// makes notes the files, services and ports that the guest would have.
func (g *guest) makes(user map[string]any) {
	files, _ := user["write_files"].([]any)
	texts := map[string]string{}
	defer func() { g.stages = planStages(texts) }()
	for _, f := range files {
		if f, ok := f.(map[string]any); ok {
			g.has = append(g.has, contract.Check{Kind: contract.File, Name: g.text(f, "path")})
			texts[g.text(f, "path")] = g.text(f, "content")
			if m := homeURL().FindString(g.text(f, "content")); g.text(f, "path") == "/etc/mintbatch/call-home" {
				g.home = m
			}
		}
	}
	commands, _ := user["runcmd"].([]any)
	for _, c := range commands {
		line, _ := c.(string)
		if list, _ := c.([]any); len(list) == 3 {
			script, _ := list[2].(string)
			g.cleans = g.cleans || strings.HasPrefix(script, seal.Mark)
		}
		if service, ok := strings.CutPrefix(line, "systemctl enable --now "); ok {
			g.has = append(g.has, contract.Check{Kind: contract.Service, Name: service})
		}
	}
	early, _ := user["bootcmd"].([]any)
	for _, c := range early {
		line, _ := c.(string)
		for _, m := range mounted().FindAllStringSubmatch(line, -1) {
			g.has = append(g.has, contract.Check{Kind: contract.Mount, Name: m[1]})
		}
	}
	if len(g.report.Logins) > 0 {
		g.has = append(g.has, contract.Check{Kind: contract.Service, Name: "ssh"}, contract.Check{Kind: contract.Port, Name: "22"})
	}
}

// ovf reads an OVF environment document, in the way of cloud-init.
func (g *guest) ovf(content []byte) string {
	var document struct {
		Properties []struct {
			Key   string `xml:"key,attr"`
			Value string `xml:"value,attr"`
		} `xml:"PropertySection>Property"`
	}
	if err := xml.Unmarshal(content, &document); err != nil {
		g.fault("ovf-env.xml: %s", err)
		return ""
	}
	all := map[string]string{}
	for _, p := range document.Properties {
		all[p.Key] = p.Value
	}
	files := map[string][]byte{}
	for _, name := range []string{"user-data", "network-config"} {
		files[name], _ = base64.StdEncoding.DecodeString(all[name])
	}
	meta := map[string]any{"local-hostname": all["hostname"]}
	g.configure(g.document(files, "network-config"), g.userData(files["user-data"]), meta)
	return all["instance-id"]
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

// userData reads a cloud-config, or the cloud-configs of a multi-part document,
// each of which is laid under those before it.
func (g *guest) userData(content []byte) map[string]any {
	if content == nil {
		g.fault("seed: no file user-data")
		return nil
	}
	if bytes.HasPrefix(content, []byte("#cloud-config\n")) {
		return g.document(map[string][]byte{"user-data": content}, "user-data")
	}
	message, err := mail.ReadMessage(bytes.NewReader(content))
	if err != nil {
		g.fault("user-data: does not begin with #cloud-config and is not multipart")
		return nil
	}
	kind, parameters, err := mime.ParseMediaType(message.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(kind, "multipart/") {
		g.fault("user-data: does not begin with #cloud-config and is not multipart")
		return nil
	}
	whole := map[string]any{}
	parts := multipart.NewReader(message.Body, parameters["boundary"])
	for {
		part, err := parts.NextRawPart()
		if err != nil {
			if err != io.EOF {
				g.fault("user-data: %s", err)
			}
			return whole
		}
		var from io.Reader = part
		if part.Header.Get("Content-Transfer-Encoding") == "base64" {
			from = base64.NewDecoder(base64.StdEncoding, part)
		}
		body, err := io.ReadAll(from)
		if err != nil {
			g.fault("user-data: %s", err)
		}
		if strings.HasPrefix(part.Header.Get("Content-Type"), "text/cloud-config;") {
			whole = under(whole, g.document(map[string][]byte{"user-data": body}, "user-data"))
		}
	}
}

// under lays one cloud-config under another by the rule that our parts ask for:
// mappings key by key, lists joined, and of other values the one above.
func under(above, below map[string]any) map[string]any {
	for key, value := range below {
		switch old := above[key].(type) {
		case nil:
			above[key] = value
		case map[string]any:
			if m, ok := value.(map[string]any); ok {
				above[key] = under(old, m)
			}
		case []any:
			if list, ok := value.([]any); ok {
				above[key] = append(append([]any{}, list...), old...)
			}
		}
	}
	return above
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

func isTrue(v any) bool {
	t, ok := v.(typed)
	return ok && t.kind == "bool" && (t.text == "true" || t.text == "yes")
}

// network sets the adapters up by a configuration of either version.
func (g *guest) network(config map[string]any) {
	macs := map[string]string{} // of links, by name
	if list, ok := config["config"].([]any); ok {
		for _, item := range list {
			e, _ := item.(map[string]any)
			mac := g.text(e, "mac_address")
			if on := g.text(e, "vlan_link"); on != "" {
				mac = macs[on]
			}
			macs[g.text(e, "name")] = mac
			subnets, _ := e["subnets"].([]any)
			for _, s := range subnets {
				s, _ := s.(map[string]any)
				g.asks(s["dns_nameservers"])
				switch kind := g.text(s, "type"); kind {
				case "static":
					g.take(mac, g.text(s, "address"))
				case "dhcp4":
					g.lease(mac)
				case "dhcp6", "ipv6_slaac":
					g.advertised(mac)
				default:
					g.fault("network-config: a subnet of the type %q", kind)
				}
			}
		}
		return
	}
	for _, part := range []string{"ethernets", "bonds", "vlans"} {
		links, _ := config[part].(map[string]any)
		for name, e := range links {
			e, _ := e.(map[string]any)
			match, _ := e["match"].(map[string]any)
			macs[name] = g.text(match, "macaddress") + g.text(e, "macaddress") + macs[g.text(e, "link")]
			if servers, ok := e["nameservers"].(map[string]any); ok {
				g.asks(servers["addresses"])
			}
			if isTrue(e["dhcp4"]) {
				g.lease(macs[name])
			}
			if isTrue(e["dhcp6"]) || isTrue(e["accept-ra"]) {
				g.advertised(macs[name])
			}
			list, _ := e["addresses"].([]any)
			for _, v := range list {
				s, _ := v.(string)
				g.take(macs[name], s)
			}
		}
	}
}

// asks notes the DNS servers of a list.
func (g *guest) asks(servers any) {
	list, _ := servers.([]any)
	for _, v := range list {
		if s, ok := v.(string); ok && !slices.Contains(g.report.DNS, s) {
			g.report.DNS = append(g.report.DNS, s)
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
		if hash != "" && !strings.HasPrefix(hash, "$6$") && !strings.HasPrefix(hash, "$y$") {
			g.fault("hashed_passwd of %s is not a hash", name)
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
