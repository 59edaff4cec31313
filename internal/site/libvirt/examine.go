package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/survey"
)

// examination looks for what its arguments name, by kind and name in turn, and
// prints yes or no for each. It changes nothing. Of a port it is looked whether
// the kernel listens at it (proc(5), /proc/net/tcp).
const examination = `while [ $# -gt 1 ]; do
  case $1 in
  file) [ -e "$2" ] ;;
  service) systemctl is-active --quiet -- "$2" ;;
  port) grep -qi ":$(printf %04X "$2") [0-9A-F]*:[0-9A-F]* 0A" /proc/net/tcp /proc/net/tcp6 ;;
  *) false ;;
  esac && echo yes || echo no
  shift 2
done`

// Examine implements site.Site, by the guest's agent.
func (s *Site) Examine(ctx context.Context, id uuid.UUID, checks []survey.Check) ([]survey.Check, error) {
	var lacks []survey.Check
	err := again(ctx, func() error {
		d, err := s.find(ctx, id)
		if err != nil {
			return err
		}
		var system struct {
			ID string `json:"id"`
		}
		if d.agent(ctx, "guest-get-osinfo", nil, &system) == nil && system.ID == "mswindows" {
			return errors.New("a Windows guest is not looked into yet")
		}
		arguments := []string{"-c", examination, "sh"}
		for _, c := range checks {
			arguments = append(arguments, string(c.Kind), c.Name)
		}
		said, err := d.execute(ctx, map[string]any{"path": "/bin/sh", "arg": arguments, "capture-output": true})
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
