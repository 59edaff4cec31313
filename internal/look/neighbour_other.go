//go:build !linux

package look

import (
	"context"
	"errors"
	"net/netip"
)

func neighbours(context.Context, []netip.Addr, Options) (map[netip.Addr]string, error) {
	return nil, errors.New("only known on Linux; use echo")
}
