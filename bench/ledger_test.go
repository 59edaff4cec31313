package bench

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/address"
	"mintbatch/internal/core/assign"
	"mintbatch/internal/core/batch"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/core/setup"
	"mintbatch/internal/core/sheet"
	"mintbatch/internal/ledger"
)

// full makes a folder with a sheet of n machines and a ledger that has made them
// all, and builds the program.
func full(b *testing.B, n int) (dir, program string) {
	b.Helper()
	dir, program, _, _ = fullOf(b, n, setupText)
	return dir, program
}

func fullOf(b *testing.B, n int, setupText string) (dir, program string, id uuid.UUID, made []ledger.Machine) {
	b.Helper()
	dir = b.TempDir()
	program = filepath.Join(dir, "mintbatch")
	out, err := exec.Command("go", "build", "-o", program, "../cmd/mintbatch").CombinedOutput()
	require.NoError(b, err, string(out))
	text := "sheet: m.csv\nledger: l\n" + setupText
	content := rows(n)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "mintbatch.yaml"), []byte(text), 0o600))
	require.NoError(b, os.WriteFile(filepath.Join(dir, "m.csv"), content, 0o600))
	s, found := setup.Read(nil, setup.File{Name: "mintbatch.yaml", Content: []byte(text)})
	require.Empty(b, found)
	table, _ := sheet.Read(sheet.Source{Name: "m.csv", Content: content, Rules: s.Rules()})
	wanted, found := batch.Build(table, s)
	require.Empty(b, found)
	l, err := ledger.Open(b.Context(), filepath.Join(dir, "l"))
	require.NoError(b, err)
	reserved, found := assign.Addresses(wanted, s, assign.Past{Ledger: l.ID})
	require.Empty(b, found)
	all := make([]ledger.Machine, len(wanted))
	held := map[string][]address.Reservation{}
	for r := range reserved {
		held[r.Machine] = append(held[r.Machine], r)
	}
	for i, w := range wanted {
		all[i].Key, all[i].Generation, all[i].Slim, all[i].State = w.Key, 1, *w.Slim, proof.Made
	}
	slots := make(chan struct{}, 500) // written together, they are durable together
	for _, m := range all {
		slots <- struct{}{}
		go func() {
			defer func() { <-slots }()
			if err := l.Restore(b.Context(), "r", m, held[m.Name], ""); err != nil {
				panic(err)
			}
		}()
	}
	for range cap(slots) {
		slots <- struct{}{}
	}
	require.NoError(b, l.Close())
	// What stays of the journal of their mint.
	db, err := sql.Open("sqlite", filepath.Join(dir, "l"))
	require.NoError(b, err)
	_, err = db.Exec(`INSERT INTO timings (site, machine, what, at, steps)
		SELECT m.site, m.name, 'made', m.changed, string_agg(s.column1 || ' ' || m.changed || ' ' || m.changed, ' ') FROM machines m,
			(VALUES ('reserve'), ('clone'), ('shape'), ('wire'), ('seed'), ('start'), ('confirm'), ('record')) s GROUP BY m.site, m.name`)
	require.NoError(b, err)
	require.NoError(b, db.Close())
	return dir, program, l.ID, all
}

// measured runs a program and prints the most memory that it had, in KiB, and how many
// seconds it took. A child of this very process would be told to have had what this one
// has.
const measured = `import os, sys, time
began = time.time()
pid = os.posix_spawnp(sys.argv[1], sys.argv[1:], os.environ, file_actions=[(os.POSIX_SPAWN_OPEN, 1, "/dev/null", os.O_WRONLY, 0)])
_, status, usage = os.wait4(pid, 0)
print(usage.ru_maxrss, time.time() - began)
sys.exit(status != 0)`

// What it costs to look at a ledger of 100,000 machines, time and memory of the
// whole program; beside it a check of the same sheet, which reads the ledger, too, and
// the ledger alone by its database's own program.
func BenchmarkBigLedger(b *testing.B) {
	n := sizes(100_000)[0]
	dir, program := full(b, n)
	for _, c := range []struct {
		name string
		args []string
	}{
		{"list", []string{program, "list", "--offline", "--json"}},
		{"unchanged-proof", []string{program, "proof", "--offline", "--json"}},
		{"yardstick-check", []string{program, "check"}},
		{"yardstick-sqlite3", []string{"sqlite3", "l", "SELECT * FROM machines ORDER BY site, name; SELECT * FROM reservations"}},
	} {
		b.Run(c.name, func(b *testing.B) {
			if _, err := exec.LookPath(c.args[0]); err != nil {
				b.Skip("skipped: it is not installed")
			}
			most := 0
			for b.Loop() {
				run := exec.Command("python3", append([]string{"-c", measured}, c.args...)...)
				run.Dir = dir
				out, err := run.Output()
				require.NoError(b, err, string(out))
				kib, err := strconv.Atoi(strings.Fields(string(out))[0])
				require.NoError(b, err)
				most = max(most, kib)
			}
			b.ReportMetric(float64(most)/1024, "MiB")
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
		})
	}
}

// How long a run checks the ledger for damage before it begins.
func BenchmarkHoldBigLedger(b *testing.B) {
	for _, n := range sizes(1000, 100_000) {
		dir, _ := full(b, n)
		b.Run(fmt.Sprintf("machines=%d", n), func(b *testing.B) {
			for b.Loop() {
				l, err := ledger.Open(b.Context(), filepath.Join(dir, "l"))
				require.NoError(b, err)
				require.NoError(b, l.Lock(b.Context(), "bench", nil))
				require.NoError(b, l.Close())
			}
		})
	}
}
