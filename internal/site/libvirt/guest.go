package libvirt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/site"
)

// Machine implements site.Site.
func (s *Site) Machine(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	var m *contract.Machine
	err := retry(ctx, func() error {
		d, err := s.find(ctx, id)
		if err != nil {
			return err
		}
		m, err = d.describe(ctx, id)
		if err == nil && (m.Power == machine.Off || m.Report != nil && m.Report.Finished) {
			s.consoles.forget(id)
		}
		if err == nil && m.Power == machine.On && (m.Report == nil || !m.Report.Finished) {
			s.consoles.watch(d, id)
			m.Console = s.consoles.last(id)
		}
		return err
	})
	return m, err
}

func (d *domain) describe(ctx context.Context, id uuid.UUID) (*contract.Machine, error) {
	var stats []rpc.DomainStatsRecord
	err := d.call(ctx, func(l daemon) (err error) {
		stats, err = l.ConnectGetAllDomainStats([]rpc.Domain{d.dom}, uint32(rpc.DomainStatsState|rpc.DomainStatsBlock), 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	if len(stats) == 0 {
		return nil, fmt.Errorf("libvirt returned nothing about machine %s", id)
	}
	seen, err := d.readDomain(ctx, stats[0])
	if err != nil {
		return nil, err
	}
	m := seen.machine(d.name, nil)
	m.Files = seen.definition.files()
	if m.Checkpoints, err = d.checkpoints(ctx); err != nil {
		return nil, err
	}
	if pool, err := d.storeFor(ctx, seen.definition, ""); err == nil {
		m.Store = pool.Name
	}
	if m.Power == machine.Off {
		return &m, nil
	}
	var live string
	if err := d.call(ctx, func(l daemon) (err error) {
		live, err = l.DomainGetXMLDesc(d.dom, 0)
		return err
	}); err != nil {
		return nil, err
	}
	if now, err := parseDefinition(live); err == nil {
		m.Display = now.display(d.calls.url.Hostname())
	}
	m.Report = d.report(ctx, seen.definition)
	return &m, nil
}

// display is the address of the machine's screen.
func (d *definition) display(host string) string {
	g := d.root.FindElement("./devices/graphics[@port]")
	if g == nil || g.SelectAttrValue("port", "-1") == "-1" {
		return ""
	}
	listen := g.SelectAttrValue("listen", "127.0.0.1")
	if host == "" || listen != "0.0.0.0" && listen != "::" {
		host = listen
	}
	return g.SelectAttrValue("type", "") + "://" + host + ":" + g.SelectAttrValue("port", "")
}

// report asks the guest's agent; where there is none, the leases of the
// networks tell at least that the guest has come up.
func (d *domain) report(ctx context.Context, def *definition) *contract.Report {
	var host struct {
		Name string `json:"host-name"`
	}
	if err := d.agent(ctx, "guest-get-host-name", nil, &host); err != nil {
		return d.leases(ctx, def)
	}
	r := &contract.Report{Hostname: host.Name, Addresses: map[string][]string{}}
	var interfaces []struct {
		MAC       string `json:"hardware-address"`
		Addresses []struct {
			Address string `json:"ip-address"`
			Prefix  int    `json:"prefix"`
		} `json:"ip-addresses"`
	}
	if err := d.agent(ctx, "guest-network-get-interfaces", nil, &interfaces); err != nil {
		return r // it is not up for it yet
	}
	for _, i := range interfaces {
		for _, a := range i.Addresses {
			mac := strings.ToLower(i.MAC)
			r.Addresses[mac] = append(r.Addresses[mac], fmt.Sprintf("%s/%d", a.Address, a.Prefix))
		}
	}
	if d.has(ctx, "/run/cloud-init/enabled") && !d.has(ctx, "/run/cloud-init/result.json") {
		return r // it is still at it; a guest that is booting is not kept from it by more
	}
	said, err := d.execute(ctx, d.shell(ctx))
	switch {
	case errors.Is(err, errNotAllowed):
		r.Finished, r.Partial = true, "its agent does not run commands, so the login and the end of the first boot were not checked"
	case err == nil:
		queryOutput(r, said)
	}
	return r
}

// guestQuery is what the guest is asked; it changes nothing.
const guestQuery = `printf 'fqdn=%s\n' "$(hostname -f 2>/dev/null)"
zone=$(readlink /etc/localtime) # by the name that was set, not by that of its file
case $zone in */zoneinfo/*) ;; *) zone=$(readlink -f /etc/localtime) ;; esac
case $zone in */zoneinfo/*) ;; *) zone=$(cat /etc/timezone 2>/dev/null) ;; esac
printf 'timezone=%s\n' "$(echo "$zone" | sed 's|.*/zoneinfo/||')"
printf 'hostkey=%s\n' "$(cut -d' ' -f1,2 /etc/ssh/ssh_host_ed25519_key.pub 2>/dev/null)"
for f in /run/systemd/resolve/resolv.conf /run/resolvconf/resolv.conf /run/NetworkManager/no-stub-resolv.conf /etc/resolv.conf; do
  [ -r $f ] && while read -r word server _; do case "$word $server" in "nameserver 127."*|"nameserver ::1") ;; "nameserver "*) echo "dns=${server%%%*}" ;; esac; done <$f
done
printf 'machineid=%s\n' "$(cat /etc/machine-id 2>/dev/null)"
sed 's/^/stage=/' /var/lib/mintbatch/stages.jsonl 2>/dev/null
printf 'instance=%s\n' "$(cat /var/lib/cloud/data/instance-id 2>/dev/null)"
getent passwd | awk -F: '($3 >= 1000 || $3 == 0) && $3 < 65000 {print "login=" $1}'
if [ -d /run/cloud-init ] && [ ! -e /run/cloud-init/disabled ]; then
  [ -s /run/cloud-init/result.json ] && printf 'result=%s\n' "$(tr -d '\n' </run/cloud-init/result.json)"
else echo finished=yes; fi`

// windowsGuestQuery is probe for a Windows guest. Setup is over once the image's
// state is complete.
const windowsGuestQuery = `$p = Get-ItemProperty 'HKLM:\SYSTEM\CurrentControlSet\Services\Tcpip\Parameters'
'fqdn=' + ($p.Hostname + '.' + $p.Domain).TrimEnd('.')
'timezone=' + (Get-TimeZone).Id
Get-LocalUser | ForEach-Object { 'login=' + $_.Name }
Get-Content -Encoding utf8 C:\ProgramData\mintbatch\stages.jsonl -ErrorAction SilentlyContinue | ForEach-Object { 'stage=' + $_.TrimStart([char]0xfeff) }
if ((Get-ItemProperty 'HKLM:\SOFTWARE\Microsoft\Windows\CurrentVersion\Setup\State').ImageState -eq 'IMAGE_STATE_COMPLETE') { 'finished=yes' }`

// shell is the order by which the guest's agent is to run the probe.
func (d *domain) shell(ctx context.Context) map[string]any {
	if d.isWindows(ctx) {
		return powershell(windowsGuestQuery)
	}
	return map[string]any{"path": "/bin/sh", "arg": []string{"-c", guestQuery}, "capture-output": true}
}

func (d *domain) isWindows(ctx context.Context) bool {
	var system struct {
		ID string `json:"id"`
	}
	return d.agent(ctx, "guest-get-osinfo", nil, &system) == nil && system.ID == "mswindows"
}

// powershell is the order by which a Windows guest's agent is to run a script.
func powershell(script string) map[string]any {
	return map[string]any{"path": "powershell.exe", "arg": []string{"-NoProfile", "-NonInteractive", "-Command", script}, "capture-output": true}
}

// queryOutput reads what the probe has said.
func queryOutput(r *contract.Report, said string) {
	r.Logins = []string{}
	for line := range strings.Lines(said) {
		name, value, _ := strings.Cut(strings.TrimRight(line, "\r\n"), "=")
		switch name {
		case "fqdn":
			r.FQDN = value
		case "timezone":
			r.Timezone = value
		case "hostkey":
			r.HostKey = value
		case "dns":
			if !slices.Contains(r.DNS, value) {
				r.DNS = append(r.DNS, value)
			}
		case "instance":
			r.Instance = value
		case "machineid":
			r.MachineID = value
		case "login":
			r.Logins = append(r.Logins, value)
		case "stage":
			var s contract.StageReport
			if json.Unmarshal([]byte(value), &s) == nil {
				r.TakeStage(s)
			}
		case "finished":
			r.Finished = true
		case "result":
			// cloud-init writes it last of all; see its "Exported errors".
			var result struct {
				V1 struct {
					Errors []string `json:"errors"`
				} `json:"v1"`
			}
			if err := json.Unmarshal([]byte(value), &result); err != nil {
				return // it is being written
			}
			r.Finished, r.Errors = true, result.V1.Errors
		}
	}
}

// agentSeconds is how long the agent may take for an answer.
const agentSeconds = 20

// agent gives the guest's agent an order (QEMU Guest Agent Protocol Reference).
func (d *domain) agent(ctx context.Context, order string, arguments, into any) error {
	command, err := json.Marshal(struct {
		Execute   string `json:"execute"`
		Arguments any    `json:"arguments,omitempty"`
	}{order, arguments})
	if err != nil {
		return err
	}
	var answer rpc.OptString
	err = d.call(ctx, func(l daemon) (err error) {
		answer, err = l.QEMUDomainAgentCommand(d.dom, string(command), agentSeconds, 0)
		return err
	})
	if err != nil {
		return err
	}
	if len(answer) == 0 {
		return errors.New("the agent's answer is empty")
	}
	var frame struct {
		Return json.RawMessage `json:"return"`
	}
	if err := json.Unmarshal([]byte(answer[0]), &frame); err != nil {
		return fmt.Errorf("the agent's answer cannot be read: %w", err)
	}
	return json.Unmarshal(frame.Return, into)
}

// has reports whether a file can be opened in the guest. No program is started
// there for it.
func (d *domain) has(ctx context.Context, file string) bool {
	var handle int
	if err := d.agent(ctx, "guest-file-open", map[string]string{"path": file, "mode": "r"}, &handle); err != nil {
		return false
	}
	var nothing any
	_ = d.agent(ctx, "guest-file-close", map[string]int{"handle": handle}, &nothing)
	return true
}

// errNotAllowed means that the guest's agent was told to run no commands.
var errNotAllowed = errors.New("the guest agent does not run commands")

// execute lets the guest run a program and returns what it prints.
func (d *domain) execute(ctx context.Context, order map[string]any) (string, error) {
	var begun struct {
		PID int `json:"pid"`
	}
	err := d.agent(ctx, "guest-exec", order, &begun)
	if err != nil {
		if notAllowed(err) {
			return "", errNotAllowed
		}
		return "", err
	}
	for range 60 {
		var status struct {
			Exited bool   `json:"exited"`
			Output string `json:"out-data"`
		}
		if err := d.agent(ctx, "guest-exec-status", map[string]int{"pid": begun.PID}, &status); err != nil {
			return "", err
		}
		if status.Exited {
			said, err := base64.StdEncoding.DecodeString(status.Output)
			return string(said), err
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
	return "", errors.New("the command in the guest did not finish")
}

// RunScript implements site.Runner. The agent is not waited for: the script may stop it.
func (s *Site) RunScript(ctx context.Context, id uuid.UUID, script site.Script) error {
	return retry(ctx, func() error {
		d, err := s.find(ctx, id)
		if err != nil {
			return err
		}
		var nothing any
		if err := d.agent(ctx, "guest-ping", nil, &nothing); err != nil {
			return fmt.Errorf("%w: %w", site.ErrNotReady, err)
		}
		var begun struct {
			PID int `json:"pid"`
		}
		err = d.agent(ctx, "guest-exec", execution(script), &begun)
		if err != nil && notAllowed(err) {
			return fmt.Errorf("%w: %w", site.ErrRefused, errNotAllowed)
		}
		return err
	})
}

// execution is what the agent is told to run. Windows takes no long arguments: its scripts come by standard input.
func execution(s site.Script) map[string]any {
	if s.PowerShell {
		return map[string]any{"path": "powershell.exe", "arg": []string{"-NoProfile", "-NonInteractive", "-ExecutionPolicy", "Bypass", "-Command", "Invoke-Expression ([Console]::In.ReadToEnd())"},
			"input-data": base64.StdEncoding.EncodeToString([]byte(s.Text))}
	}
	return map[string]any{"path": "/bin/sh", "arg": []string{"-c", s.Text, "sh", "wait"}}
}

// notAllowed reports that an agent was told not to run commands.
func notAllowed(err error) bool {
	return slices.ContainsFunc([]string{"disabled", "CommandNotFound", "not been found"}, func(word string) bool { return strings.Contains(err.Error(), word) })
}

// leases looks for the machine's adapters among the leases of the networks.
func (d *domain) leases(ctx context.Context, def *definition) *contract.Report {
	r := &contract.Report{Addresses: map[string][]string{}}
	for _, e := range def.devices().SelectElements("interface") {
		network, mac := attr(e, "./source", "network"), attr(e, "./mac", "address")
		if network == "" {
			continue
		}
		_ = d.call(ctx, func(l daemon) error {
			net, err := l.NetworkLookupByName(network)
			if err != nil {
				return err
			}
			leases, _, err := l.NetworkGetDhcpLeases(net, rpc.OptString{mac}, 1, 0)
			for _, lease := range leases {
				r.Addresses[mac] = append(r.Addresses[mac], fmt.Sprintf("%s/%d", lease.Ipaddr, lease.Prefix))
				if len(lease.Hostname) > 0 {
					r.Hostname = lease.Hostname[0]
				}
				r.Partial = "its agent does not answer; its addresses are from the DHCP leases of network " + network
			}
			return err
		})
	}
	if r.Partial == "" {
		return nil
	}
	return r
}
