// Package unattend writes the answer file that Windows Setup reads when a
// generalized image starts for the first time (Unattended Windows Setup
// Reference), and the scripts that do what no setting does.
package unattend

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
)

// Label is the volume label of the seed. Windows looks for the answer file on
// all removable media ("Implicit Answer File Search Order").
const Label = "ANSWERS"

// names are those under which an answer file is looked for in the top folder
// of removable media.
var names = []string{"Autounattend.xml", "Unattend.xml"}

// Files writes the answers of a machine. The same input gives the same bytes.
// Text that XML cannot hold is an answers.ErrText.
func Files(in answers.Input) ([]answers.File, error) {
	in.Guest = in.Guest.Whole()
	early, late := scripts(in)
	document := answers.El("unattend", specialize(in, early), oobe(in, late)).With("xmlns", "urn:schemas-microsoft-com:unattend", "xmlns:wcm", wcm)
	content, err := document.Document()
	if err != nil {
		return nil, err
	}
	var files []answers.File
	for _, name := range names {
		files = append(files, answers.File{Name: name, Content: content})
	}
	for _, s := range append(early, late...) {
		files = append(files, answers.File{Name: s.name, Content: s.content})
	}
	return append(files, carried(in)...), nil
}

// wcm is the namespace of the attributes by which lists are kept apart.
const wcm = "http://schemas.microsoft.com/WMIConfig/2002/State"

type element = answers.Element

// component is one of the parts that Windows is configured by.
func component(in answers.Input, name string, settings ...*element) *element {
	return answers.El("component", settings...).With("name", name, "processorArchitecture", string(cmp.Or(in.Guest.Windows.Arch, "amd64")),
		"publicKeyToken", "31bf3856ad364e35", "language", "neutral", "versionScope", "nonSxS")
}

// item is an element of a list.
func item(name string, children ...*element) *element {
	return answers.El(name, children...).With("wcm:action", "add")
}

func keyed(name string, i int, text string) *element {
	return (&element{Name: name, Text: text}).With("wcm:action", "add", "wcm:keyValue", fmt.Sprint(i+1))
}

var leaf, group = answers.Leaf, answers.El

// pass keeps those components that have something to say.
func pass(name string, components ...*element) *element {
	p := group("settings").With("pass", name)
	for _, c := range components {
		p.Add(c.IfAny())
	}
	return p
}

func specialize(in answers.Input, early []script) *element {
	g := in.Guest
	w := g.Windows
	zone, _ := Zone(g.Timezone)
	run := group("RunSynchronous")
	for i, s := range early {
		run.Add(item("RunSynchronousCommand", leaf("Description", s.name), leaf("Order", i+1), leaf("Path", s.line()), leaf("WillReboot", "Never")))
	}
	return pass("specialize",
		component(in, "Microsoft-Windows-Shell-Setup", leaf("ComputerName", g.Hostname), leaf("ProductKey", g.Licence),
			leaf("RegisteredOrganization", w.Organization), leaf("RegisteredOwner", w.Owner), leaf("TimeZone", zone)),
		component(in, "Microsoft-Windows-UnattendedJoin", join(in).IfAny()),
		component(in, "Microsoft-Windows-TCPIP", interfaces(in.Adapters).IfAny()),
		component(in, "Microsoft-Windows-DNS-Client", dns(in)...),
		component(in, "Microsoft-Windows-TerminalServices-LocalSessionManager", only(remote(w, "desktop"), leaf("fDenyTSConnections", false))),
		component(in, "Microsoft-Windows-TerminalServices-RDP-WinStationExtensions", only(remote(w, "desktop"), leaf("UserAuthentication", 1))),
		component(in, "Networking-MPSSVC-Svc", firewall(w).IfAny()),
		component(in, "Microsoft-Windows-Deployment", run.IfAny()),
	)
}

func only(is bool, e *element) *element {
	if !is {
		return nil
	}
	return e
}

func remote(w machine.Windows, what machine.RemoteAccess) bool {
	return slices.Contains(w.Remote, what)
}

// join joins a domain: with the password of the machine's own account, which is called an unsecure join, or with another account's.
func join(in answers.Input) *element {
	w := in.Guest.Windows
	e := group("Identification")
	if in.Guest.Joins != "" {
		e.Add(leaf("JoinDomain", in.Guest.Joins), leaf("MachinePassword", in.Secrets.Account), leaf("UnsecureJoin", true))
		return e
	}
	if w.Join.Domain == "" {
		e.Add(leaf("JoinWorkgroup", w.Workgroup))
		return e
	}
	j := w.Join
	domain, user := j.Domain, j.Account
	if before, after, ok := strings.Cut(j.Account, `\`); ok {
		domain, user = before, after
	}
	e.Add(group("Credentials", leaf("Domain", domain), leaf("Password", j.Password), leaf("Username", user)),
		leaf("JoinDomain", j.Domain), leaf("MachineObjectOU", j.Unit))
	return e
}

// joined reports whether a guest is in a domain.
func joined(g machine.Guest) bool { return g.Joins != "" || g.Windows.Join.Domain != "" }

// firewall opens the groups of rules, by the resources that name them in every
// language: Remote Desktop and Windows Remote Management.
func firewall(w machine.Windows) *element {
	e := group("FirewallGroups")
	for _, g := range []struct {
		what          machine.RemoteAccess
		key, resource string
	}{
		{"desktop", "RemoteDesktop", "@FirewallAPI.dll,-28752"}, {"management", "RemoteManagement", "@FirewallAPI.dll,-30267"},
	} {
		if remote(w, g.what) {
			e.Add(group("FirewallGroup", leaf("Active", true), leaf("Group", g.resource), leaf("Profile", "all")).With("wcm:action", "add", "wcm:keyValue", g.key))
		}
	}
	return e
}

// identifier names an adapter by its MAC address.
func identifier(a machine.Adapter) *element {
	return leaf("Identifier", strings.ToUpper(strings.ReplaceAll(a.MAC, ":", "-")))
}

func has(a machine.Adapter, is4 bool) bool {
	return slices.ContainsFunc(a.Addresses, func(p netip.Prefix) bool { return p.Addr().Is4() == is4 })
}

func interfaces(adapters []machine.Adapter) *element {
	all := group("Interfaces")
	for i, a := range adapters {
		e := item("Interface", group("Ipv4Settings", leaf("DhcpEnabled", a.DHCP), only(i > 0, leaf("Metric", 100*(i+1)))))
		if has(a, false) || a.DHCP6 || a.SLAAC {
			e.Add(group("Ipv6Settings", leaf("DhcpEnabled", a.DHCP6), leaf("RouterDiscoveryEnabled", a.SLAAC || a.DHCP6)))
		}
		e.Add(identifier(a))
		unicast := group("UnicastIpAddresses")
		for n, p := range a.Addresses {
			unicast.Add(keyed("IpAddress", n, p.String()))
		}
		routes := group("Routes")
		route := func(to, via string) {
			routes.Add(item("Route", leaf("Identifier", len(routes.Children)), leaf("Metric", 10), leaf("NextHopAddress", via), leaf("Prefix", to)))
		}
		for _, g := range a.Gateways {
			route(map[bool]string{true: "0.0.0.0/0", false: "::/0"}[g.Is4()], g.String())
		}
		for _, r := range a.Routes {
			route(r.To.String(), r.Via.String())
		}
		e.Add(unicast.IfAny(), routes.IfAny())
		all.Add(e)
	}
	return all
}

func dns(in answers.Input) []*element {
	all, suffixes := group("Interfaces"), group("DNSSuffixSearchOrder")
	var search []string
	for _, a := range in.Adapters {
		order := group("DNSServerSearchOrder")
		for n, d := range a.DNS {
			order.Add(keyed("IpAddress", n, d.String()))
		}
		if len(order.Children) > 0 {
			all.Add(item("Interface", order, identifier(a)))
		}
		for _, s := range a.Search {
			if !slices.Contains(search, s) {
				search = append(search, s)
			}
		}
	}
	for n, s := range search {
		suffixes.Add(keyed("DomainName", n, s))
	}
	domain := in.Guest.Domain
	if joined(in.Guest) {
		domain = "" // it is the domain's
	}
	return []*element{leaf("DNSDomain", domain), suffixes.IfAny(), all.IfAny()}
}

// AdministratorName is the account that every Windows guest has.
const AdministratorName = "Administrator"

func oobe(in answers.Input, late []script) *element {
	g := in.Guest
	locale := cmp.Or(machine.LanguageTag(g.Locale), "en-US")
	return pass("oobeSystem",
		component(in, "Microsoft-Windows-International-Core", leaf("InputLocale", cmp.Or(g.Keyboard, locale)), leaf("SystemLocale", locale),
			leaf("UILanguage", cmp.Or(g.Windows.Language, "en-US")), leaf("UserLocale", locale)),
		component(in, "Microsoft-Windows-Shell-Setup", logon(in, late), firstLogon(late).IfAny(),
			group("OOBE", leaf("HideEULAPage", true), leaf("HideLocalAccountScreen", true), leaf("HideOEMRegistrationScreen", true),
				leaf("HideOnlineAccountScreens", true), leaf("HideWirelessSetupInOOBE", true), leaf("ProtectYourPC", 3)),
			accounts(in).IfAny()),
	)
}

// logon lets the first login come in by itself, as often as its commands need.
func logon(in answers.Input, late []script) *element {
	g := in.Guest
	times := g.Windows.Logons
	if times == 0 && len(late) > 0 {
		times = 1
	}
	all := in.Guest.Accounts()
	if times == 0 || len(all) == 0 || in.Secrets.Clear[all[0].User] == "" {
		return nil
	}
	domain := ""
	if joined(g) {
		domain = g.Hostname // the account is its own, not the domain's
	}
	return group("AutoLogon", leaf("Domain", domain), leaf("Enabled", true), leaf("LogonCount", times),
		secretValue("Password", in.Secrets.Clear[all[0].User]), leaf("Username", all[0].User))
}

func secretValue(name, clear string) *element {
	return group(name, &element{Name: "Value", Text: clear}, leaf("PlainText", true))
}

func firstLogon(late []script) *element {
	e := group("FirstLogonCommands")
	for i, s := range late {
		e.Add(item("SynchronousCommand", leaf("CommandLine", s.line()), leaf("Description", s.name), leaf("Order", i+1), leaf("RequiresUserInput", false)))
	}
	return e
}

func accounts(in answers.Input) *element {
	all, local := group("UserAccounts"), group("LocalAccounts")
	for _, a := range in.Guest.Accounts() {
		clear := in.Secrets.Clear[a.User]
		if strings.EqualFold(a.User, AdministratorName) {
			all.Add(secretValue("AdministratorPassword", clear))
			continue
		}
		groups := a.Groups
		if len(groups) == 0 {
			groups = []string{map[bool]string{true: "Administrators", false: "Users"}[a.Main]}
		}
		local.Add(item("LocalAccount", leaf("DisplayName", a.Name), leaf("Group", strings.Join(groups, ";")), leaf("Name", a.User), secretValue("Password", clear)))
	}
	all.Add(local.IfAny())
	return all
}
