package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sandboxMachines reads the names of the machines that a sandbox ended with.
func sandboxMachines(dir string) []string {
	names, _ := sandboxRecords(dir)
	return names
}

// sandboxRecords is sandboxMachines, and counts the machines that are gone but for data disks.
func sandboxRecords(dir string) (names []string, loose int) {
	f, err := os.Open(filepath.Join(dir, "sandbox", "machines.jsonl"))
	if err != nil {
		return nil, 0
	}
	defer f.Close()
	last, data := map[string]string{}, map[string]bool{}
	for lines := bufio.NewScanner(f); lines.Scan(); {
		var m struct {
			ID, Site, Name string
			Gone, Kept     bool
			OnlyData       bool `json:"only_data"`
		}
		if json.Unmarshal(lines.Bytes(), &m) == nil {
			last[m.ID], data[m.ID] = m.Site+"/"+m.Name, true
			if m.Gone || m.Kept || m.OnlyData {
				delete(last, m.ID)
			}
			if m.Gone || !m.OnlyData {
				delete(data, m.ID)
			}
		}
	}
	for _, n := range last {
		names = append(names, n)
	}
	return names, len(data)
}

// command runs the program in a folder.
func command(t *testing.T, dir, name string, args ...string) (string, error) {
	t.Helper()
	c := exec.Command(name, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	return string(out), err
}

type listing struct {
	Machines []struct {
		Name, State, Identity string
		AtSite                string `json:"at_site"`
		Spec                  struct {
			Adapters []struct {
				MAC       string
				Addresses []string
			}
		}
	}
}

// Killed at every boundary of every step and run again, a batch ends as if
// nothing had happened: the same machines, each once, with the addresses that
// the proof had shown. Without MINTBATCH_FULL a third of them.
func TestKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	n, point, every := 0, time.Now().Nanosecond(), 3 // others each time
	if whole() {
		every = 1
	}
	for _, step := range []string{"reserve", "clone", "shape", "wire", "seed", "checkpoint", "record", "start", "confirm"} {
		for _, moment := range []string{"before", "begun", "acted", "ended"} {
			if point++; point%every != 0 && step+moment != "clonebegun" { // which is looked for at the end
				continue
			}
			n++
			names := []string{fmt.Sprintf("bms-sonar-%d-1", n), fmt.Sprintf("bms-sonar-%d-2", n)}
			rows := fmt.Sprintf("machine,preset,address,network,checkpoint\nbms-sonar-%d-[1-2],tide-gauge,pool,survey,fresh\n", n)
			sheet := fmt.Sprintf("%d.csv", n)
			require.NoError(t, os.WriteFile(filepath.Join(dir, sheet), []byte(rows), 0o600))
			before := proofOf(t, dir, sheet, names)

			at := names[0] + ":" + step + ":" + moment
			out, err := command(t, dir, "mintbatch-dying", append([]string{at, "mint", "--yes", "--sheet", sheet}, names...)...)
			var died *exec.ExitError
			require.True(t, errors.As(err, &died) && !died.Exited(), "%s: it did not die: %v\n%s", at, err, out)

			out, err = command(t, dir, "mintbatch", append([]string{"mint", "--yes", "--sheet", sheet}, names...)...)
			require.NoError(t, err, "%s: %s", at, out)
			out, err = command(t, dir, "mintbatch", append([]string{"mint", "--yes", "--sheet", sheet}, names...)...)
			require.NoError(t, err, "%s: %s", at, out)
			require.Contains(t, out, "Nothing to do", at)
			assert.Equal(t, before, proofOf(t, dir, sheet, names), "%s: addresses have changed", at)
			atSite := sandboxMachines(dir)
			require.Len(t, atSite, 2*n, "%s: %v", at, atSite)
		}
	}
	logs, err := command(t, dir, "sh", "-c", "cat mintbatch.runs/*.jsonl")
	require.NoError(t, err)
	assert.Regexp(t, `"step":"clone","state":"begun","earlier":"`, logs, "what had been begun is told to be gone on with")
	out, err := command(t, dir, "mintbatch", "list", "--json")
	require.NoError(t, err)
	var all listing
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all.Machines, 2*n)
	seen := map[string]string{}
	for _, m := range all.Machines {
		assert.Equal(t, "made there", m.State+" "+m.AtSite, m.Name)
		for _, value := range append(m.Spec.Adapters[0].Addresses, m.Spec.Adapters[0].MAC, m.Identity) {
			assert.Empty(t, seen[value], "%s: %s and %s", value, seen[value], m.Name)
			seen[value] = m.Name
		}
	}
}

// Killed while it retires or remakes, and run again, it leaves one machine or
// none, and the address with whom it belongs.
func TestKilledWhileRetiringAndRemaking(t *testing.T) {
	t.Parallel()
	dir, _ := served(t, 500)
	name, sheet := "bms-tide-01", "one.csv"
	require.NoError(t, os.WriteFile(filepath.Join(dir, sheet), []byte("machine,preset\n"+name+",tide-gauge\n"), 0o600))
	mustRun := func(args ...string) {
		out, err := command(t, dir, "mintbatch", append(args, "--sheet", sheet)...)
		require.NoError(t, err, "%v: %s", args, out)
	}
	die := func(at string, args ...string) {
		out, err := command(t, dir, "mintbatch-dying", append([]string{name + ":" + at}, append(args, "--sheet", sheet)...)...)
		var died *exec.ExitError
		require.True(t, errors.As(err, &died) && !died.Exited(), "%s: it did not die: %v\n%s", at, err, out)
	}
	mustRun("mint", "--yes")
	before := proofOf(t, dir, sheet, []string{name})
	for _, moment := range []string{"before", "begun", "acted", "ended"} {
		die("remove:"+strings.Replace(moment, "ended", "closed", 1), "retire", "--yes", name)
		if moment != "ended" {
			mustRun("retire", "--yes", name)
		}
		require.Empty(t, sandboxMachines(dir), moment)
		mustRun("mint", "--yes")
		require.Equal(t, before, proofOf(t, dir, sheet, []string{name}), moment)
		for _, step := range []string{"reserve", "clone", "seed", "confirm"} {
			die(step+":"+moment, "remake", "--yes", name)
			mustRun("mint", "--yes", "--allow-remake")
			require.Len(t, sandboxMachines(dir), 1, "%s %s", step, moment)
			require.Equal(t, before, proofOf(t, dir, sheet, []string{name}), "%s %s", step, moment)
		}
	}
}

// proofOf reports the addresses that a proof shows for the machines.
func proofOf(t *testing.T, dir, sheet string, names []string) string {
	t.Helper()
	out, err := command(t, dir, "mintbatch", append([]string{"proof", "--json", "--sheet", sheet}, names...)...)
	require.NoError(t, err, out)
	var p struct {
		Works []struct {
			Machine struct {
				Name     string
				Adapters []struct{ Addresses []string }
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &p))
	var words []string
	for _, w := range p.Works {
		words = append(words, w.Machine.Name, w.Machine.Adapters[0].Addresses[0])
	}
	return strings.Join(words, " ")
}
