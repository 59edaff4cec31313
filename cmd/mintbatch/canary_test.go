package main

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// canaries are secrets that are put wherever a setup can refer to one.
const canaries = 50

// traces are the forms in which a secret would be found: as it is, and in
// base64, wherever in it the secret begins.
func traces(secret string) (all [][]byte) {
	all = append(all, []byte(secret))
	for skip := range 3 {
		encoded := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x", skip) + secret))
		all = append(all, []byte(encoded[4:len(encoded)-4]))
	}
	return all
}

// Whatever a full run leaves behind and says, no secret is in it in clear: not
// in the ledger, the proof, the files, the reports, at the site or in a log.
func TestNoSecretIsLeftInClear(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	var contents, logins strings.Builder
	value := func(i int) string {
		if i >= 20 && i < 30 { // licences, which have a form
			return fmt.Sprintf("CANA%d-RYRYR-SINGS-ALOUD-%05X", i%10, i*7919)
		}
		return fmt.Sprintf("canary-%02d-sings-%x", i, i*7919)
	}
	for i := range canaries {
		set := exec.Command("mintbatch", "secret", "set", fmt.Sprintf("canary-%d", i))
		set.Dir, set.Stdin = dir, strings.NewReader(value(i)+"\n")
		out, err := set.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	rows := "machine,preset,login,password,licence,firstboot,template\n"
	for i := 0; i < 10; i++ { // of each kind of guest
		rows += fmt.Sprintf("bms-tide-%02d,tide-gauge,survey,secret:canary-%d,,all,\n", i+50, i)
		rows += fmt.Sprintf("bms-chart-%02d,chart-desk,chart,secret:canary-%d,secret:canary-%d,charts join,\n", i+50, i+10, i+20)
	}
	rows += "bms-tide-71,tide-gauge,survey,generate,,props,ovf\nbms-tide-72,tide-gauge,survey,secret:canary-48,,,own\n"
	for i := 30; i < 40; i++ {
		fmt.Fprintf(&contents, "{path: /etc/c%d, content: \"secret:canary-%d\"}, ", i, i)
		fmt.Fprintf(&logins, "l%d: {password: \"secret:canary-%d\"}, ", i, i+5)
	}
	write(t, dir, "more.yaml", `templates:
  ovf: {source: deb12-base, guest: linux, answers: ovf-env}
  own: {source: deb12-base, guest: linux, answers: files, custom_answers: {label: A, files: {name: sandbox.json, text: '{"hostname": {{json .hostname}}, "fqdn": {{json .fqdn}}, "logins": [{{json .login}}], "addresses": { {{range .adapters}}{{json .mac}}: {{json .addresses}}{{end}} }, "x": {{json .password}} }'}}}
firstboot:
  all: {files: [`+contents.String()+`], logins: {`+logins.String()+`}, user_data: "secret:canary-46", commands: ["secret:canary-47"]}
  join: {windows: {workgroup: "", join_domain: {domain: brackwater.example, account: joiner, password: "secret:canary-45"}}}
  props: {properties: {key: "secret:canary-49"}}
`)
	// User data of one's own has to begin like some.
	write(t, dir, "userdata", "#!/bin/sh\necho "+value(46)+"\n")
	set := exec.Command("sh", "-c", "mintbatch secret set canary-46 < userdata && rm userdata")
	set.Dir = dir
	out, err := set.CombinedOutput()
	require.NoError(t, err, string(out))
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "      workgroup: CHARTS\n", "", 1))
	write(t, dir, "machines.csv", rows)

	var said bytes.Buffer
	for _, line := range []string{"check", "proof --files answers --json", "mint --yes --verbose", "list --json", "show --json bms-tide-50", "show bms-tide-50 --answers", "show bms-chart-50 --answers --json",
		"show bms-chart-50 --changes", "verify --json", "runs --json", "secret list --json", "report --workbook made.csv --known-hosts known", "remake --yes bms-chart-51 bms-tide-51", "proof"} {
		args := append(strings.Fields(line), "--setup", "mintbatch.yaml", "--setup", "more.yaml")
		out, err := command(t, dir, "mintbatch", args...)
		require.NoError(t, err, "%s: %s", line, out)
		said.WriteString(out)
	}
	write(t, dir, "said", said.String())
	looked := 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := os.ReadFile(path)
		looked++
		for i := range canaries {
			for _, trace := range traces(value(i)) {
				assert.False(t, bytes.Contains(content, trace), "secret %d is in %s as %s", i, path, trace)
			}
		}
		return err
	}))
	assert.Greater(t, looked, 60)
}
