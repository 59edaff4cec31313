package libvirt

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
)

// examination looks for what its arguments name, by kind and name in turn, and
// prints yes or no for each. It changes nothing. Of a port it is looked whether
// the kernel listens at it (proc(5), /proc/net/tcp).
const examination = `while [ $# -gt 1 ]; do
  case $1 in
  file) [ -e "$2" ] ;;
  mount) mountpoint -q "$2" 2>/dev/null || grep -qF " $2 " /proc/mounts ;;
  service) systemctl is-active --quiet -- "$2" ;;
  port) grep -qi ":$(printf %04X "$2") [0-9A-F]*:[0-9A-F]* 0A" /proc/net/tcp /proc/net/tcp6 ;;
  *) false ;;
  esac && echo yes || echo no
  shift 2
done`

// windowsExamination is examination for a Windows guest. What to look for comes by
// standard input, so that nothing has to be quoted.
const windowsExamination = `foreach ($c in ([Console]::In.ReadToEnd() | ConvertFrom-Json)) {
  $there = switch ($c.kind) {
    'file' { Test-Path -LiteralPath $c.name }
    'service' { (Get-Service -Name ([WildcardPattern]::Escape($c.name)) -ErrorAction SilentlyContinue).Status -eq 'Running' }
    'port' { [bool](Get-NetTCPConnection -State Listen -LocalPort $c.name -ErrorAction SilentlyContinue) }
  }
  if ($there) { 'yes' } else { 'no' }
}`

// Examine implements site.Site, by the guest's agent.
func (s *Site) Examine(ctx context.Context, id uuid.UUID, checks []contract.Check) ([]contract.Check, error) {
	var lacks []contract.Check
	err := retry(ctx, func() error {
		d, err := s.find(ctx, id)
		if err != nil {
			return err
		}
		order := powershell(windowsExamination)
		if d.isWindows(ctx) {
			asked, err := json.Marshal(checks)
			if err != nil {
				return err
			}
			order["input-data"] = base64.StdEncoding.EncodeToString(asked)
		} else {
			arguments := []string{"-c", examination, "sh"}
			for _, c := range checks {
				arguments = append(arguments, string(c.Kind), c.Name)
			}
			order = map[string]any{"path": "/bin/sh", "arg": arguments, "capture-output": true}
		}
		said, err := d.execute(ctx, order)
		if err != nil {
			return err
		}
		answers := strings.Fields(said)
		if len(answers) != len(checks) {
			return fmt.Errorf("the guest answers %q", said)
		}
		lacks = nil
		for i, c := range checks {
			if answers[i] != "yes" {
				lacks = append(lacks, c)
			}
		}
		return nil
	})
	return lacks, err
}
