package main

import (
	"bytes"
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

	"mintbatch/internal/ledger/servertest"
)

// Sixteen processes at a time mint overlapping sheets on one ledger, and many of
// them are killed: in the end no address, MAC or machine is there twice, and no
// reservation without its machine.
func TestACrowdOnOneLedger(t *testing.T) {
	t.Parallel()
	for name, ledger := range map[string]func() string{"file": func() string { return "mintbatch.ledger" }, "shared": func() string { return servertest.Database(t) }} {
		t.Run(name, func(t *testing.T) {
			dir, _ := served(t, 2000)
			setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
			require.NoError(t, err)
			write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "ledger: mintbatch.ledger", "ledger: "+ledger(), 1))
			for i := range 4 {
				rows := "machine,preset,address\n"
				for n := i * 8; n < i*8+20; n++ {
					rows += fmt.Sprintf("bms-tide-%02d,tide-gauge,pool\n", n)
				}
				write(t, dir, fmt.Sprintf("sheet-%d.csv", i), rows)
			}
			seed := uint64(time.Now().UnixNano())
			t.Logf("seed %d", seed)
			chance := rand.New(rand.NewPCG(seed, 1))
			type round struct {
				sheet int
				after time.Duration // until it is killed; 0 if it is not
			}
			number := 40
			if whole() {
				number = 200
			}
			rounds := make(chan round, number)
			for i := range cap(rounds) {
				r := round{sheet: chance.IntN(4)}
				if i%8 != 0 {
					r.after = time.Duration(20+chance.IntN(500)) * time.Millisecond
				}
				rounds <- r
			}
			close(rounds)
			var all sync.WaitGroup
			for range 16 {
				all.Go(func() {
					for r := range rounds {
						var said bytes.Buffer
						c := exec.Command("mintbatch", "mint", "--yes", "--sheet", fmt.Sprintf("sheet-%d.csv", r.sheet))
						c.Dir, c.Stdout, c.Stderr = dir, &said, &said
						if !assert.NoError(t, c.Start()) {
							return
						}
						if r.after > 0 {
							time.AfterFunc(r.after, func() { _ = c.Process.Kill() })
						}
						if err := c.Wait(); r.after == 0 {
							assert.NoError(t, err, said.String())
						}
					}
				})
			}
			all.Wait()
			for i := range 4 {
				out, err := command(t, dir, "mintbatch", "mint", "--yes", "--sheet", fmt.Sprintf("sheet-%d.csv", i))
				require.NoError(t, err, out)
			}
			names := map[string]bool{}
			for _, n := range sandboxMachines(dir) {
				assert.False(t, names[n], "%s is there twice", n)
				names[n] = true
			}
			assert.Len(t, names, 44)
			out, err := command(t, dir, "mintbatch", "list", "--json")
			require.NoError(t, err, out)
			var listed listing
			require.NoError(t, json.Unmarshal([]byte(out), &listed))
			has := map[string]string{}
			for _, m := range listed.Machines {
				for _, a := range m.Spec.Adapters {
					for _, one := range append(a.Addresses, a.MAC) {
						assert.Empty(t, has[one], "%s is of %s and of %s", one, has[one], m.Name)
						has[one] = m.Name
					}
				}
			}
			assert.Len(t, has, 88)
			out, err = command(t, dir, "mintbatch", "ledger", "check")
			assert.NoError(t, err, out)
			out, err = command(t, dir, "mintbatch", "pool", "list", "--csv", "nodes")
			require.NoError(t, err)
			assert.Contains(t, out, "survey,nodes,lowest,80,36,44,0,0,0,0")
		})
	}
}
