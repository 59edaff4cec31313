package bench

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// away lets an address of this computer be as far away as one whose answers take a while,
// and returns the address that it has then.
func away(tb testing.TB, address string, answers time.Duration) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(tb, err)
	tb.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", address)
			if err != nil {
				_ = near.Close()
				continue
			}
			go carry(near, far, answers/2)
			go carry(far, near, answers/2)
		}
	}()
	return listener.Addr().String()
}

// carry hands on what arrives, each part after a while, until one side ends.
func carry(from io.ReadCloser, to io.WriteCloser, after time.Duration) {
	type part struct {
		due     time.Time
		content []byte
	}
	parts := make(chan part, 1<<10)
	go func() {
		for p := range parts {
			time.Sleep(time.Until(p.due))
			_, _ = to.Write(p.content)
		}
		_ = to.Close()
	}()
	defer close(parts)
	for {
		room := make([]byte, 32<<10)
		n, err := from.Read(room)
		if n > 0 {
			parts <- part{time.Now().Add(after), room[:n]}
		}
		if err != nil {
			return
		}
	}
}
