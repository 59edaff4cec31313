package sandbox

import (
	"encoding/xml"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/pattern"
)

// unattended is what a simulated Windows guest understands of its answer file.
type unattended struct {
	Settings []struct {
		Pass       string `xml:"pass,attr"`
		Components []struct {
			Name         string `xml:"name,attr"`
			ComputerName string
			TimeZone     string
			DNSDomain    string
			Interfaces   []struct {
				Identifier string
				DHCP       bool     `xml:"Ipv4Settings>DhcpEnabled"`
				Router     bool     `xml:"Ipv6Settings>RouterDiscoveryEnabled"`
				Addresses  []string `xml:"UnicastIpAddresses>IpAddress"`
			} `xml:"Interfaces>Interface"`
			Accounts []struct {
				Name     string
				Password string `xml:"Password>Value"`
			} `xml:"UserAccounts>LocalAccounts>LocalAccount"`
			Administrator string `xml:"UserAccounts>AdministratorPassword>Value"`
			JoinDomain    string `xml:"Identification>JoinDomain"`
		} `xml:"component"`
	} `xml:"settings"`
}

// drive finds which letters the scripts give to data disks.
var drive = pattern.Lazy(`-DriveLetter ([A-Z])`)

// windows does what Windows Setup does with an answer file, as far as a
// simulated guest can.
func (g *guest) windows(files map[string][]byte) {
	var file unattended
	if err := xml.Unmarshal(files["unattend.xml"], &file); err != nil {
		g.fault("unattend.xml: %s", err)
		return
	}
	domain := ""
	for _, s := range file.Settings {
		for _, c := range s.Components {
			if c.ComputerName != "" {
				g.report.Hostname = c.ComputerName
			}
			if c.TimeZone != "" {
				g.report.Timezone = c.TimeZone
			}
			domain += c.DNSDomain + c.JoinDomain
			if c.Name == "Microsoft-Windows-TCPIP" {
				for _, i := range c.Interfaces {
					mac := strings.ReplaceAll(i.Identifier, "-", ":")
					if i.DHCP {
						g.lease(mac)
					}
					if i.Router {
						g.advertised(mac)
					}
					for _, a := range i.Addresses {
						g.take(mac, a)
					}
				}
			}
			for _, a := range c.Accounts {
				g.report.Logins = append(g.report.Logins, a.Name)
				if len(a.Password) < 8 {
					g.fault("the password of %s is too short", a.Name)
				}
			}
			if c.Administrator != "" {
				g.report.Logins = append(g.report.Logins, "Administrator")
			}
		}
	}
	g.stages = windowsStages(files)
	for _, content := range files {
		if m := homeURL().Find(content); m != nil {
			g.home = string(m)
		}
		for _, m := range drive().FindAllSubmatch(content, -1) {
			g.has = append(g.has, contract.Check{Kind: contract.File, Name: string(m[1]) + `:\`})
		}
	}
	g.report.FQDN = strings.TrimSuffix(strings.ToLower(g.report.Hostname)+"."+domain, ".")
}
