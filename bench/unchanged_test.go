package bench

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/sandbox"
)

// What it costs to mint a batch of 10,000 machines that are all as they should
// be, and how often the site is asked for that; beside it reading the sheet alone.
func BenchmarkUnchangedMint(b *testing.B) {
	n := sizes(10_000)[0]
	where := b.TempDir()
	plan := sandbox.DemoPlan()
	first, err := sandbox.Open(sandbox.Options{Dir: where, Plan: plan})
	require.NoError(b, err)
	text := strings.Replace(setupText, `sites: {quay: {kind: gateway, url: "https://127.0.0.1:1/quay"}}`,
		fmt.Sprintf(`sites: {quay: {kind: gateway, url: "%s/quay", fingerprint: "%s", token: "file:%s/token"}}`, first.URL, first.Fingerprint, where), 1)
	dir, program, id, made := fullOf(b, n, text)
	var lines bytes.Buffer
	for _, m := range made {
		spec := m.Spec()
		mark := contract.Mark{Ledger: id, Key: m.String(), Generation: 1, Stage: contract.StageMade, Fingerprint: spec.Fingerprint(), Info: m.Info, Spec: &spec}
		one, err := json.Marshal(map[string]any{"site": m.Site, "id": machine.Identity(id, m.Key, 1), "name": m.Name, "template": "deb12-base", "kind": "linked", "host": "quay-hv1",
			"store": "quay-fast", "shape": map[string]any{"cpus": 4, "memory": "8GiB"}, "power": "on", "mark": mark})
		require.NoError(b, err)
		lines.Write(append(one, '\n'))
	}
	ctx, end := context.WithCancel(b.Context())
	gone := make(chan struct{})
	go func() { _ = first.Serve(ctx); close(gone) }()
	end()
	<-gone
	require.NoError(b, os.WriteFile(filepath.Join(where, "machines.jsonl"), lines.Bytes(), 0o600))
	s, err := sandbox.Open(sandbox.Options{Dir: where})
	require.NoError(b, err)
	serving, stop := context.WithCancel(b.Context())
	defer stop()
	go func() { _ = s.Serve(serving) }()
	for _, c := range []struct {
		name string
		args []string
	}{{"mint", []string{"--verbose", "mint", "--yes"}}, {"yardstick-check-alone", []string{"check"}}} {
		b.Run(c.name, func(b *testing.B) {
			calls := 0
			for b.Loop() {
				run := exec.Command(program, c.args...)
				run.Dir = dir
				out, err := run.CombinedOutput()
				require.NoError(b, err, string(out[max(0, len(out)-2000):]))
				calls = bytes.Count(out, []byte("performing request"))
				require.True(b, c.name != "mint" || bytes.Contains(out, []byte("Nothing to do")), string(out))
			}
			b.ReportMetric(float64(calls), "site-calls")
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/machine")
		})
	}
}
