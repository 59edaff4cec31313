package mint

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/site"
	"mintbatch/internal/site/gateway"
)

// open prepares a site of the setup; nothing is sent to it yet.
func (b *Batch) open(name string, log *slog.Logger) (site.Site, error) {
	s := b.Setup.Sites[name]
	token, err := b.resolve(s.Token)
	if err != nil {
		return nil, fmt.Errorf("site %s: its token: %w: %w", name, site.ErrUnreachable, err)
	}
	return gateway.New(gateway.Options{URL: s.URL, Token: token, Fingerprint: s.Fingerprint, Logger: log})
}

// resolve follows a reference to where the value stands.
func (b *Batch) resolve(r setup.Reference) (string, error) {
	kind, name, _ := strings.Cut(string(r), ":")
	switch kind {
	case "env":
		v, ok := os.LookupEnv(name)
		if !ok {
			return "", fmt.Errorf("the environment variable %s is not set", name)
		}
		return v, nil
	case "file":
		content, err := os.ReadFile(b.path(name))
		if err != nil {
			var p *os.PathError
			if errors.As(err, &p) {
				err = p.Err
			}
			return "", fmt.Errorf("the file %s cannot be read: %w", b.path(name), err)
		}
		return strings.TrimRight(string(content), "\r\n"), nil
	}
	return string(r), nil
}

// slots tells how many machines of a site are worked on side by side.
func (b *Batch) slots(name string) int {
	if n := b.Setup.Sites[name].Machines; n > 0 {
		return n
	}
	return 8
}
