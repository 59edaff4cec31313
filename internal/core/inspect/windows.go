package inspect

import (
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"www.velocidex.com/golang/regparser"
)

// windows looks at a Windows system.
func (i *Inspection) windows(g *guest) {
	s := &i.System
	s.Kind = Windows
	software := hive(g.reader("/Windows/System32/config/SOFTWARE"))
	about := software(`Microsoft\Windows NT\CurrentVersion`)
	s.Name, s.ID = about["productname"], about["editionid"]
	s.Version = strings.Trim(strings.Join([]string{about["currentbuild"], about["ubr"]}, "."), ".")
	switch state := software(`Microsoft\Windows\CurrentVersion\Setup\State`)["imagestate"]; state {
	case "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE", "IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT":
		s.Generalized = true
	default:
		i.add("not-generalized", slices.DeleteFunc([]string{state}, func(s string) bool { return s == "" })...)
	}
	for _, driver := range []string{"viostor", "vioscsi", "netkvm", "balloon", "vioser"} {
		if g.exists("/Windows/System32/drivers/" + driver + ".sys") {
			s.Drivers = append(s.Drivers, driver)
		}
	}
	if !slices.Contains(s.Drivers, "viostor") && !slices.Contains(s.Drivers, "vioscsi") {
		i.add("no-drivers")
	}
	s.Agent = g.first("/Program Files/Qemu-ga/qemu-ga.exe", "/Program Files/qemu-ga/qemu-ga.exe", "/Program Files (x86)/Qemu-ga/qemu-ga.exe")
	if s.Agent == "" {
		i.add("no-agent")
	}
	s.SSH = g.first("/Windows/System32/OpenSSH/sshd.exe")
	i.files(g)
	if pending := software(`Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending`); len(pending) > 0 {
		i.add("pending-updates", path.Join("SOFTWARE", "RebootPending"))
	}
}

// hive reads the keys of a registry: their values in text, by their names in lower case. Of one
// that is damaged there may be none.
func hive(content io.ReaderAt) func(key string) map[string]string {
	return func(key string) map[string]string {
		values := map[string]string{}
		if content == nil {
			return values
		}
		defer func() { _ = recover() }() // what is damaged may lead its reader astray
		registry, err := regparser.NewRegistry(content)
		if err != nil {
			return values
		}
		k := registry.OpenKey(key)
		if k == nil {
			return values
		}
		for _, v := range k.Values() {
			data := v.ValueData()
			if data == nil {
				continue
			}
			text := data.String
			if data.Type == regparser.REG_DWORD {
				text = fmt.Sprint(data.Uint64)
			}
			values[strings.ToLower(v.ValueName())] = strings.TrimRight(text, "\x00")
		}
		return values
	}
}
