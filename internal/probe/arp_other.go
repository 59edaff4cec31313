//go:build !linux

package probe

import (
	"context"
	"errors"
	"net/netip"
)

func askARP(context.Context, []netip.Addr, Options) (map[netip.Addr]string, error) {
	return nil, errors.New("available on Linux only; use ping")
}
