package plan

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/inspect"
	"mintbatch/internal/core/machine"
)

// A template's knowledge counts for what the machine needs, and while the disk is the same.
func TestLacking(t *testing.T) {
	answered := machine.Spec{Power: machine.On, Guest: machine.Guest{Answers: "cloud-init"}}
	bare := machine.Spec{Power: machine.On, Guest: machine.Guest{Answers: machine.NoAnswers, Confirm: machine.CallHome}}
	roomy := answered
	roomy.Shape.Disk = 20 * machine.GiB
	uefi := bare
	uefi.Clone.Firmware = machine.UEFI
	at := contract.Template{Name: "deb12-base", Disk: 8 * machine.GiB, Changed: "today"}
	for _, c := range []struct {
		spec    machine.Spec
		codes   []string
		changed string
		want    string
	}{
		{answered, []string{"no-cloud-init", "no-growpart"}, "today", "there is no cloud-init, so clones do not read their answers"},
		{answered, []string{"no-cloud-init"}, "yesterday", ""},
		{answered, []string{"no-agent"}, "today", "there is no guest agent, so clones cannot be confirmed by their site"},
		{bare, []string{"no-agent", "no-cloud-init"}, "today", ""},
		{roomy, []string{"no-growpart"}, "today", "the root file system does not grow with the disk"},
		{uefi, nil, "today", "it does not boot with uefi"},
		{bare, []string{"left-logs", "left-machine-id", "left-mail"}, "today", "clones get what is left on it: left-machine-id"},
	} {
		s := inspect.Summary{Changed: c.changed, At: time.Now(), System: inspect.Linux, Boot: []string{"bios"}, Codes: c.codes}
		told := map[string]bool{}
		found := lacking(at, s, finding.Position{File: "sheet.csv"}, c.spec, told)
		if c.want == "" {
			assert.Empty(t, found, c.codes)
		} else if assert.Len(t, found, 1, c.codes) {
			assert.Equal(t, "template deb12-base: "+c.want, found[0].Message)
		}
		assert.Empty(t, lacking(at, s, finding.Position{File: "sheet.csv"}, c.spec, told), "once for each cell")
	}
}
