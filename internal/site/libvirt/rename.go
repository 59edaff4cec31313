package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/site"
)

// Rename implements site.Site. A machine is shut down for it.
func (s *Site) Rename(ctx context.Context, id uuid.UUID, name string, mark contract.Mark, restart contract.Restart) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error { return d.rename(ctx, name, mark, restart) })
}

// rename gives the machine another name and another mark. What networks keep for it under its
// old name is given up.
func (d *domain) rename(ctx context.Context, name string, mark contract.Mark, restart contract.Restart) error {
	def, on, err := d.state(ctx)
	if err != nil {
		return err
	}
	if has, _ := def.mark(); has == nil || has.Ledger != mark.Ledger {
		return errNotMarked
	}
	if d.dom.Name != name {
		if err := d.nameIsFree(ctx, name); err != nil {
			return err
		}
		if on && restart == contract.NoRestart {
			return fmt.Errorf("%w: this change needs a restart, which the row forbids", site.ErrRefused)
		}
		if on {
			if err := d.shutDown(ctx); err != nil {
				return fmt.Errorf("shut it down to rename it: %w", err)
			}
		}
		if err := d.dropLeases(ctx, def); err != nil {
			return err
		}
		err := d.call(ctx, func(l daemon) error {
			_, err := l.DomainRename(d.dom, rpc.OptString{name}, 0)
			return err
		})
		if err != nil {
			return err
		}
		d.dom.Name = name
	}
	if err := d.record(ctx, mark); err != nil || !on {
		return err
	}
	return d.start(ctx)
}

// newName is what tells a Linux guest its host name. Its cloud-init, if it has one, takes a
// name that is not what it has set itself for one that somebody has chosen.
const newName = `set -e
if command -v hostnamectl >/dev/null && hostnamectl set-hostname "$1" 2>/dev/null; then :; else echo "$1" >/etc/hostname; hostname "$1"; fi
line="$2 $1"; [ "$1" != "$2" ] || line=$1
if grep -q '^127\.0\.1\.1[[:space:]]' /etc/hosts; then sed -i "s/^127\.0\.1\.1[[:space:]].*/127.0.1.1 $line/" /etc/hosts; else echo "127.0.1.1 $line" >>/etc/hosts; fi
if [ -d /etc/cloud/cloud.cfg.d ]; then printf 'preserve_hostname: true\nmanage_etc_hosts: false\n' >/etc/cloud/cloud.cfg.d/99-mintbatch-name.cfg; fi
echo told`

// TellName implements site.Teller, by the guest's agent.
func (s *Site) TellName(ctx context.Context, id uuid.UUID, hostname, fqdn string) (contract.Task, error) {
	return s.on(ctx, id, func(ctx context.Context, d *domain) error {
		if d.isWindows(ctx) {
			return fmt.Errorf("%w: Windows takes a name only with a restart", site.ErrRefused)
		}
		said, err := d.execute(ctx, map[string]any{"path": "/bin/sh", "arg": []string{"-c", newName, "sh", hostname, fqdn}, "capture-output": true})
		if err == nil && strings.TrimSpace(said) != "told" {
			err = errors.New("the guest did not take it")
		}
		if err != nil {
			return fmt.Errorf("%w: %w", site.ErrRefused, err)
		}
		return nil
	})
}
