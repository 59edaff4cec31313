//go:build !windows

package main

import (
	"bytes"
	"io"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// both is what a program has said so far, while it still speaks.
type both struct {
	mu   sync.Mutex
	said bytes.Buffer
}

// Write implements io.Writer.
func (b *both) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.said.Write(p)
}

func (b *both) has(text string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return strings.Contains(strings.Join(strings.Fields(b.said.String()), " "), text)
}

// Whoever waits for a run that stands at its question is told so, and goes on once it was
// answered.
func TestWaitingForAQuestion(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	asks := exec.Command("mintbatch", "mint", "bms-tide-01")
	asks.Dir = dir
	screen, err := pty.Start(asks)
	require.NoError(t, err)
	defer screen.Close()
	var asked both
	go func() { _, _ = io.Copy(&asked, screen) }()
	require.Eventually(t, func() bool { return asked.has("Type yes to go ahead:") }, 20*time.Second, 20*time.Millisecond)

	var waited both
	waits := exec.Command("mintbatch", "mint", "--yes", "bms-tide-02")
	waits.Dir, waits.Stdout, waits.Stderr = dir, &waited, &waited
	require.NoError(t, waits.Start())
	require.Eventually(t, func() bool { return waited.has("and waits for an answer to its question") }, 20*time.Second, 20*time.Millisecond, waited.said.String())
	_, err = io.WriteString(screen, "yes\n")
	require.NoError(t, err)
	require.NoError(t, asks.Wait())
	require.NoError(t, waits.Wait(), waited.said.String())
	assert.True(t, waited.has("new 1 done"))

	// Killed at its question, it is in nobody's way, and nothing is left of it.
	asks = exec.Command("mintbatch", "mint", "bms-tide-03")
	asks.Dir = dir
	screen, err = pty.Start(asks)
	require.NoError(t, err)
	defer screen.Close()
	var again both
	go func() { _, _ = io.Copy(&again, screen) }()
	require.Eventually(t, func() bool { return again.has("Type yes to go ahead:") }, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, asks.Process.Kill())
	_ = asks.Wait()
	out, err := command(t, dir, "mintbatch", "mint", "--yes", "bms-tide-03")
	require.NoError(t, err, out)
	assert.Contains(t, out, "new 1 done")
	assert.NotContains(t, out, "question")
}
