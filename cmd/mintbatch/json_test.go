package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every document of --json is as its schema in docs says, for machines with everything, of a run
// with failures, and where there is nothing.
func TestDocumentsFollowTheirSchemas(t *testing.T) {
	t.Parallel()
	schemas := map[string]*jsonschema.Schema{}
	files, err := filepath.Glob("../../docs/schemas/*.json")
	require.NoError(t, err)
	for _, file := range files {
		path, err := filepath.Abs(file)
		require.NoError(t, err)
		c := jsonschema.NewCompiler()
		c.AssertFormat()
		schemas["mintbatch/"+strings.TrimSuffix(filepath.Base(file), ".json")+"/1"], err = c.Compile(path)
		require.NoError(t, err, file)
	}
	dir, _ := served(t, 500)
	seen := map[string]bool{}
	document := func(args ...string) {
		c := exec.Command("mintbatch", append(args, "--json")...)
		c.Dir = dir
		out, _ := c.Output()
		var d any
		require.NoError(t, json.Unmarshal(out, &d), "%s: %s", args, out)
		name, _ := d.(map[string]any)["schema"].(string)
		require.NotNil(t, schemas[name], "%s: %s", args, name)
		assert.NoError(t, schemas[name].Validate(d), "%s", args)
		seen[name] = true
	}
	all := func() {
		for _, args := range [][]string{{"check"}, {"proof"}, {"list"}, {"list", "--offline"}, {"list", "--at", "0m"}, {"verify"}, {"history"}, {"runs"}, {"pool", "list"},
			{"survey"}, {"template", "list"}, {"template", "inspect", "deb12-base"}, {"secret", "list"}, {"secret", "export"}, {"ledger", "check"}, {"sweep", "--within", "100000"}, {"outbox", "list"}, {"quota"}, {"setup", "check", "--sites"}, {"retire", "--strays", "--yes"}} {
			document(args...)
		}
	}
	require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "signer")).Run())
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", string(setup)+"libraries: {stick: {folder: stick, signers: file:signer.pub, sign: file:signer}}\nquotas: {all: {machines: 500}}\nrequests: {sources: {desk: {folder: requests}}, rules: {all: {set: {site: quay}}}}\n")
	all()
	write(t, dir, "machines.csv", long)
	document("mint", "--yes")
	all()
	for _, args := range [][]string{{"show", "bms-tide-01"}, {"show", "--why", "bms-tide-01"}, {"show", "--answers", "bms-tide-01"}, {"runs", "show"}, {"pool", "show", "survey/nodes"}, {"find", "bms-tide-01"}, {"checkpoint", "list"}, {"ledger", "rebuild", "--yes"},
		{"accept", "--yes", "bms-tide-01"}, {"remake", "--yes", "bms-tide-01"}, {"retire", "--yes", "bms-tide-02"}, {"template", "blank", "empty", "--size", "1MiB", "--site", "quay", "--store", "quay-fast", "--yes"}, {"power", "off", "--yes", "bms-tide-01"},
		{"template", "seal", "bms-tide-01", "--as", "deb12-base", "--site", "quay", "--dry"}, {"library", "add", "empty", "--site", "quay", "--yes"}, {"library", "list"}} {
		document(args...)
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "requests"), 0o700))
	write(t, dir, "requests/r.csv", "machine,preset\nbms-req-01,tide-gauge\n")
	require.NoError(t, os.Chtimes(filepath.Join(dir, "requests/r.csv"), time.Time{}, time.Now().Add(-time.Minute)))
	out, err := command(t, dir, "mintbatch", "intake", "--once")
	require.NoError(t, err, out)
	document("request", "list")
	document("request", "show", strings.Fields(out)[2])
	write(t, dir, "machines.csv", strings.Replace(long, "bms-tide-09,tide-gauge,deb12-base,survey,pool", "bms-tide-09,no-such-preset,deb12-base,survey,198.51.900.1", 1))
	document("check")
	write(t, dir, "machines.csv", strings.Replace(long, "chart,203.0.113.20", "chart,203.0.113.21", 1))
	document("proof")
	require.NoError(t, os.Remove(filepath.Join(dir, "machines.csv")))
	write(t, dir, "machines.csv", "machine,site,preset,address\nbms-tide-03,quay,tide-gauge,pool\n")
	all()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "class/templates"), 0o700))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "usb"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "raw"), make([]byte, 1<<20), 0o600))
	document("disk", "convert", "raw", "class/templates/deb12.vhdx")
	document("disk", "check", "class/templates/deb12.vhdx")
	write(t, dir, "class.yaml", fmt.Sprintf(folderSetup, "class"))
	write(t, dir, "class.csv", "machine\nbms-desk-1\n")
	document("mint", "--yes", "--setup", "class.yaml")
	document("handout", "usb", "--setup", "class.yaml")
	for name := range schemas {
		assert.True(t, seen[name], "no document %s was seen", name)
	}
}
