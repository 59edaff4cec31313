//go:build unix

package main

import (
	"archive/zip"
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

// Two intakes on one ledger, both killed at odd moments again and again: each request is answered once, and made once.
func TestIntakesThatAreKilled(t *testing.T) {
	t.Parallel()
	for name, ledger := range map[string]string{"file": "mintbatch.ledger", "server": servertest.Database(t)} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			intakesKilled(t, ledger)
		})
	}
}

func intakesKilled(t *testing.T, ledger string) {
	rounds := 2
	if whole() {
		rounds = 100
	}
	seed := uint64(time.Now().UnixNano())
	chance := rand.New(rand.NewPCG(seed, 0))
	dir, _ := served(t, 200)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", strings.Replace(string(setup), "ledger: mintbatch.ledger", "ledger: "+ledger, 1)+
		"requests: {sources: {desk: {folder: requests}}, rules: {all: {unapproved: 9, set: {site: quay}}}}\n")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "requests"), 0o700))
	intake := func(killed time.Duration) {
		c := exec.Command("mintbatch", "intake", "--once")
		c.Dir = dir
		var out strings.Builder
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, c.Start())
		if killed > 0 {
			time.AfterFunc(killed, func() { _ = c.Process.Kill() })
		}
		if err := c.Wait(); killed == 0 {
			assert.NoError(t, err, "seed %d: %s", seed, out.String())
		}
	}
	for round := range rounds {
		for _, sheet := range []string{fmt.Sprintf("machine,preset,network,address\nbms-r%d-[1-2],tide-gauge,survey,dhcp\n", round), "machine,preset\nbms-x,nothing\n"} {
			path := filepath.Join(dir, "requests", fmt.Sprintf("%d-%d.csv", round, len(sheet)))
			require.NoError(t, os.WriteFile(path, []byte(sheet), 0o600))
			require.NoError(t, os.Chtimes(path, time.Time{}, time.Now().Add(-time.Minute+time.Duration(round)*time.Millisecond)))
		}
		for range 3 {
			var both sync.WaitGroup
			for range 2 {
				after := time.Duration(20+chance.IntN(500)) * time.Millisecond
				both.Go(func() { intake(after) })
			}
			both.Wait()
		}
		intake(0)
		intake(0) // what the other one was about to do
		names := sandboxMachines(dir)
		require.Len(t, names, 2, "seed %d: %s", seed, names)
		out, err := command(t, dir, "mintbatch", "retire", "--yes", "bms-*") // there is no room for all of them
		require.NoError(t, err, out)
	}
	out, err := command(t, dir, "mintbatch", "request", "list", "--all", "--json")
	require.NoError(t, err, out)
	var listed struct {
		Requests []struct{ Request, State, Sheet string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &listed))
	assert.Len(t, listed.Requests, 2*rounds, "seed %d", seed)
	out, err = command(t, dir, "mintbatch", "history")
	require.NoError(t, err, out)
	for _, r := range listed.Requests {
		files, err := filepath.Glob(filepath.Join(dir, "requests", "answers", r.Request, "*.txt"))
		require.NoError(t, err)
		ends := map[string]int{"done": 2, "faulty": 1}
		assert.Len(t, files, ends[r.State], "seed %d: %s is %s: %s", seed, r.Sheet, r.State, files)
		assert.NotZero(t, ends[r.State], "seed %d: %s is %s", seed, r.Sheet, r.State)
		assert.Equal(t, 1, strings.Count(out, "request "+r.Request+": "+r.State), "seed %d: %s", seed, r.Sheet)
	}
	left, err := filepath.Glob(filepath.Join(dir, "requests", "*.csv"))
	require.NoError(t, err)
	assert.Empty(t, left)
	half, err := filepath.Glob(filepath.Join(dir, "requests", "answers", "*", "*.tmp"))
	require.NoError(t, err)
	assert.Empty(t, half, "seed %d", seed)
	out, err = command(t, dir, "mintbatch", "ledger", "check")
	assert.NoError(t, err, out)
}

// Of a mailbox in a folder: senders whom the trusted mail server knows are taken in, up to a number within an hour; what others write in
// its name, or about other domains, counts for nothing. While no mail server answers, answers wait.
func TestMaildirOfTrustedSenders(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", string(setup)+"requests: {sources: {box: {maildir: box, trust: mx.brackwater.example}}, mail: {server: \"smtp://127.0.0.1:1\", from: mint@brackwater.example}, rules: {all: {from: \"*@brackwater.example\", set: {site: quay}}}}\n")
	for _, folder := range []string{"new", "cur", "tmp"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "box", folder), 0o700))
	}
	n := 0
	put := func(from, verdict string) string {
		n++
		name := fmt.Sprintf("box/new/%03d.x", n)
		write(t, dir, name, fmt.Sprintf("%sFrom: %s\nMessage-ID: <%d@x.example>\nContent-Type: text/csv; name=a.csv\n\nmachine,preset\nbms-q-%d,tide-gauge\n", verdict, from, n, n))
		return name
	}
	const pass = "Authentication-Results: mx.brackwater.example; dkim=pass header.d=brackwater.example\n"
	taken := []string{put("anna@brackwater.example", pass), put("bo@north.brackwater.example", "Authentication-Results: mx.brackwater.example 1; spf=pass; dmarc=pass header.from=north.brackwater.example\n")}
	taken = taken[:1] // the other one is no sender of the rule
	left := []string{put("eve@brackwater.example", ""), put("eve@brackwater.example", "Authentication-Results: mx.brackwater.example; dkim=fail header.d=brackwater.example\n"+pass),
		put("eve@brackwater.example", strings.Replace(pass, "mx.", "mail.", 1)), put("eve@brackwater.example", strings.Replace(pass, "d=brackwater", "d=elsewhere", 1)),
		put("eve@brackwater.example", strings.Replace(pass, "d=brackwater.example", "d=example", 1)), put("eve@brackwater.example", strings.Replace(pass, "d=brackwater.example", "d=water.example", 1))}
	for range 34 {
		put("anna@brackwater.example", pass)
	}
	out, err := command(t, dir, "mintbatch", "intake", "--once")
	require.Error(t, err)
	assert.Contains(t, out, "connection refused")
	assert.Equal(t, 30, strings.Count(out, ": waiting"))
	for _, name := range taken {
		assert.NoFileExists(t, filepath.Join(dir, name))
	}
	for _, name := range left {
		assert.FileExists(t, filepath.Join(dir, name))
	}
	out, err = command(t, dir, "mintbatch", "request", "list", "--json")
	require.NoError(t, err)
	assert.NotContains(t, out, "eve@")
	assert.Equal(t, 30, strings.Count(out, `"sender": "anna@brackwater.example"`))
}

// What would fill the memory is answered without being read: a file of more than 8 MiB, and a workbook that expands to more than 256.
func TestSentSheetsThatAreTooLarge(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	setup, err := os.ReadFile(filepath.Join(dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, dir, "mintbatch.yaml", string(setup)+"requests: {sources: {desk: {folder: requests}}, rules: {all: {set: {site: quay}}}}\n")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "requests"), 0o700))
	write(t, dir, "requests/long.csv", "machine,preset,notes\nbms-q-1,tide-gauge,"+strings.Repeat("x", 8<<20)+"\n")
	var book bytes.Buffer
	z := zip.NewWriter(&book)
	w, err := z.Create("xl/workbook.xml")
	require.NoError(t, err)
	for range 257 {
		_, err = w.Write(bytes.Repeat([]byte(" "), 1<<20))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	write(t, dir, "requests/wide.xlsx", book.String())
	for _, name := range []string{"long.csv", "wide.xlsx"} {
		require.NoError(t, os.Chtimes(filepath.Join(dir, "requests", name), time.Time{}, time.Now().Add(-time.Minute)))
	}
	out, err := command(t, dir, "mintbatch", "intake", "--once")
	require.NoError(t, err, out)
	answers, err := filepath.Glob(filepath.Join(dir, "requests", "answers", "*", "*.txt"))
	require.NoError(t, err)
	said := ""
	for _, a := range answers {
		text, err := os.ReadFile(a)
		require.NoError(t, err)
		said += string(text)
	}
	assert.Len(t, answers, 2, out)
	assert.Contains(t, said, "the file is larger than 8 MiB")
	assert.Contains(t, said, "the workbook expands to more than 256 MiB")
}
