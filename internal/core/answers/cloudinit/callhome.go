package cloudinit

import _ "embed"

// callUnit is the service by which a guest reports. It is tried at each boot until somebody
// has heard, and then removed.
const callUnit = "mintbatch-call-home.service"

const startCall = "systemctl daemon-reload && systemctl enable --now --no-block " + callUnit

const callService = `[Unit]
Description=Report this machine once to the computer that made it
After=network.target

[Service]
ExecStart=/usr/bin/env python3 /etc/mintbatch/call-home.py

[Install]
WantedBy=multi-user.target
`

//go:embed callhome.py
var callScript string
