package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const folderSetup = `mintbatch: 1
sheet: %[1]s.csv
ledger: %[1]s.ledger
sites: {classroom: {kind: folder, path: class, format: vhdx, describe: [ovf]}}
templates: {deb12: {guest: linux}}
networks: {lab: {subnet: 198.51.100.0/24}}
defaults: {template: deb12, network: lab, address: none, password: none, power: "off", clone: linked}
`

// Two operators, each with a ledger of their own, want the same names in one folder, and are killed at odd moments again and again:
// each name becomes one whole machine of one of them, and nothing else is left.
func TestOperatorsOfOneFolder(t *testing.T) {
	t.Parallel()
	rounds := 3
	if whole() {
		rounds = 200
	}
	seed := uint64(time.Now().UnixNano())
	chance := rand.New(rand.NewPCG(seed, 0))
	for round := range rounds {
		dir := t.TempDir()
		run := func(killed time.Duration, args ...string) (string, error) {
			c := exec.Command("mintbatch", args...)
			c.Dir = dir
			var out strings.Builder
			c.Stdout, c.Stderr = &out, &out
			require.NoError(t, c.Start())
			if killed > 0 {
				time.AfterFunc(killed, func() { _ = c.Process.Kill() })
			}
			err := c.Wait()
			return out.String(), err
		}
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "class", "templates"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), make([]byte, 1<<20), 0o600))
		said, err := run(0, "disk", "convert", "raw", "class/templates/deb12.vhdx")
		require.NoError(t, err, said)
		for _, who := range []string{"a", "b"} { // which have a machine each: nobody takes over a whole ledger
			write(t, dir, who+".yaml", fmt.Sprintf(folderSetup, who))
			write(t, dir, who+".csv", "machine\nbms-"+who+"\n")
			said, err := run(0, "mint", "--yes", "--setup", who+".yaml")
			require.NoError(t, err, said)
			write(t, dir, who+".csv", "machine\nbms-"+who+"\nbms-pc-[1-5]\n")
		}
		var both sync.WaitGroup
		for _, who := range []string{"a", "b"} {
			var moments []time.Duration
			for range chance.IntN(4) {
				moments = append(moments, time.Duration(1+chance.IntN(150))*time.Millisecond)
			}
			both.Go(func() {
				for _, at := range moments {
					_, _ = run(at, "mint", "--yes", "--setup", who+".yaml")
				}
				_, _ = run(0, "mint", "--yes", "--setup", who+".yaml")
			})
		}
		both.Wait()
		for _, who := range []string{"a", "b"} { // what the other was at is his by now, or free
			_, _ = run(0, "mint", "--yes", "--setup", who+".yaml")
		}
		owned := map[string]int{}
		for _, who := range []string{"a", "b"} {
			text, _ := run(0, "verify", "--json", "--setup", who+".yaml")
			var verdicts struct {
				Verdicts []struct {
					Name string `json:"name"`
					OK   bool   `json:"ok"`
					Why  string `json:"why"`
				} `json:"machines"`
			}
			text = text[:strings.LastIndex(text, "}")+1]
			require.NoError(t, json.Unmarshal([]byte(text), &verdicts), "seed %d: %s", seed, text)
			for _, v := range verdicts.Verdicts {
				if v.OK {
					owned[v.Name]++
				} else {
					assert.Contains(t, v.Why, "taken", "seed %d, round %d: %s", seed, round, v.Name)
				}
			}
		}
		assert.Len(t, owned, 7, "seed %d, round %d", seed, round)
		entries, err := os.ReadDir(filepath.Join(dir, "class"))
		require.NoError(t, err)
		for _, e := range entries {
			if n, is := owned[e.Name()]; is {
				assert.Equal(t, 1, n, "seed %d, round %d: %s", seed, round, e.Name())
				continue
			}
			assert.Contains(t, []string{".mintbatch", "templates"}, e.Name(), "seed %d, round %d", seed, round)
		}
	}
}

// In a folder that is full, not to be written to, or gone, what fails is told, nothing is lost, and the same command goes on once that is over.
func TestFolderOnAFullDisk(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("a small disk is mounted by root")
	}
	dir := t.TempDir()
	class := filepath.Join(dir, "class")
	require.NoError(t, os.Mkdir(class, 0o700))
	mount := func(args ...string) {
		out, err := command(t, dir, "mount", append(args, class)...)
		require.NoError(t, err, out)
	}
	mount("-t", "tmpfs", "-o", "size=24m", "tmpfs")
	t.Cleanup(func() { _ = exec.Command("umount", "-l", class).Run() })
	write(t, dir, "a.yaml", strings.NewReplacer("clone: linked", "clone: full", "kind: folder", "kind: folder, parallel: 1").Replace(fmt.Sprintf(folderSetup, "a"))) // so that two fit, and not parts of three
	write(t, dir, "a.csv", "machine\nbms-pc-[1-3]\n")
	for _, line := range []string{"mkdir class/templates", "head -c 4M /dev/urandom >raw", "mintbatch disk convert raw class/templates/deb12.vhdx", "head -c 11M /dev/zero >class/filler"} {
		said, err := command(t, dir, "sh", "-c", line)
		require.NoError(t, err, said)
	}
	mint := func() (string, error) { return command(t, dir, "mintbatch", "mint", "--yes", "--setup", "a.yaml") }
	said, err := mint()
	require.Error(t, err)
	assert.Contains(t, said, "no space left on device")
	require.NoError(t, os.Remove(filepath.Join(class, "filler")))
	mount("-o", "remount,ro")
	said, err = mint()
	require.Error(t, err)
	assert.Contains(t, said, "read-only file system")
	mount("-o", "remount,rw")
	require.NoError(t, exec.Command("umount", "-l", class).Run())
	require.NoError(t, os.Remove(class))
	said, err = mint() // the stick was pulled
	require.Error(t, err)
	assert.Contains(t, said, "site classroom: the site cannot be reached")
	require.NoError(t, os.Mkdir(class, 0o700))
	mount("-t", "tmpfs", "-o", "size=64m", "tmpfs") // another one, without anything of it: nothing is believed deleted and made again
	for _, line := range []string{"mkdir class/templates", "mintbatch disk convert raw class/templates/deb12.vhdx"} {
		said, err := command(t, dir, "sh", "-c", line)
		require.NoError(t, err, said)
	}
	said, err = mint()
	require.Error(t, err)
	assert.Contains(t, said, "does not list 2 of the 2 machines that were made there; its answer is not trusted")
	said, err = command(t, dir, "mintbatch", "mint", "--yes", "--accept-missing", "--setup", "a.yaml")
	require.NoError(t, err, said)
	said, err = command(t, dir, "mintbatch", "verify", "--setup", "a.yaml")
	require.NoError(t, err, said)
}
