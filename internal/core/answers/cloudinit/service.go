package cloudinit

import "fmt"

// service is a systemd unit of ours that runs a Python script at each boot until the script
// has disabled it.
type service struct{ name, does, after, script string }

// start is the command by which the guest begins to run it.
func (s service) start() string {
	return "systemctl daemon-reload && systemctl enable --now --no-block " + s.name
}

// file adds the unit's file.
func (s service) file(add func(path, content, mode, owner string)) {
	add("/etc/systemd/system/"+s.name, fmt.Sprintf("[Unit]\nDescription=%s\nAfter=%s\n\n[Service]\nExecStart=/usr/bin/env python3 %s\n\n[Install]\nWantedBy=multi-user.target\n", s.does, s.after, s.script), "0644", "")
}
