package mailbox

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A message is handed over once it is taken, and else each time; nothing outside of the mailbox is.
func TestMaildir(t *testing.T) {
	dir := t.TempDir()
	_, err := OpenMaildir(dir)
	require.ErrorContains(t, err, "no Maildir")
	for _, folder := range []string{"new", "cur", "tmp"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, folder), 0o700))
	}
	secret := filepath.Join(t.TempDir(), "secret")
	for path, text := range map[string]string{"new/1.a": "one", "cur/2.b:2,S": "two", "new/.3": "hidden", "tmp/4.c": "not whole"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, path), []byte(text), 0o600))
	}
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	require.NoError(t, os.Symlink(secret, filepath.Join(dir, "new", "5.link")))
	m, err := OpenMaildir(dir)
	require.NoError(t, err)
	defer m.Close()
	look := func(take string, fails error) (seen map[string]string, failed error) {
		seen = map[string]string{}
		failed = m.Messages(t.Context(), func(id string, read func() ([]byte, error)) (bool, error) {
			raw, err := read()
			require.NoError(t, err)
			seen[id] = string(raw)
			return id == take, fails
		})
		return seen, failed
	}
	both := map[string]string{"1.a": "one", "2.b": "two"}
	seen, err := look("", nil)
	require.NoError(t, err)
	assert.Equal(t, both, seen)
	seen, err = look("1.a", errors.New("no"))
	assert.Error(t, err)
	assert.Equal(t, both, seen, "what fails does not keep others")
	seen, err = look("1.a", nil)
	require.NoError(t, err)
	assert.Equal(t, both, seen)
	seen, err = look("", nil)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"2.b": "two"}, seen)
	assert.FileExists(t, filepath.Join(dir, ".taken", "cur", "1.a:2,S"))
}
