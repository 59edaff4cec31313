package sandbox

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/pattern"
)

// stage is a stage as a simulated guest knows it.
type stage struct {
	Name    string `json:"name"`
	Restart bool   `json:"restart,omitempty"`
	Code    int    `json:"code,omitempty"` // with which it will end
}

// stageTime is how long a stage takes, before the sandbox's speed divides it.
const stageTime = 5 * time.Second

var exits = pattern.Lazy(`(?m)^exit ([0-9]+)$`)

// planStages reads the stages from the files that a guest was told to write. A stage with the
// command `exit 3` ends with that code; whatever else it says is not done.
func planStages(files map[string]string) (all []stage) {
	if json.Unmarshal([]byte(files["/etc/mintbatch/stages/plan.json"]), &all) != nil {
		return nil
	}
	for i := range all {
		if m := exits().FindStringSubmatch(files["/etc/mintbatch/stages/"+twoDigits(i+1)+".sh"]); m != nil {
			all[i].Code, _ = strconv.Atoi(m[1])
		}
	}
	return all
}

// windowsStages reads the stages from the files of a Windows guest's seed.
func windowsStages(files map[string][]byte) (all []stage) {
	if json.Unmarshal(files["stage-plan.json"], &all) != nil {
		return nil
	}
	for i := range all {
		for _, kind := range []string{".cmd", ".ps1"} {
			if m := exits().FindSubmatch(bytes.ReplaceAll(files["stage-"+twoDigits(i+1)+kind], []byte("\r"), nil)); m != nil {
				all[i].Code, _ = strconv.Atoi(string(m[1]))
			}
		}
	}
	return all
}

func twoDigits(n int) string { return strings.Repeat("0", 2-len(strconv.Itoa(n))) + strconv.Itoa(n) }

// stagesAt adds to a report how far the guest is with its stages, which it began when it had
// booted. It returns false while the guest restarts, and answers nothing.
func (s *Sandbox) stagesAt(all []stage, booted, now time.Time, r *contract.Report) bool {
	at := booted
	for _, one := range all {
		if now.Before(at) {
			return false
		}
		told := contract.StageReport{Name: one.Name, State: "begun"}
		if at = at.Add(s.stepTime(stageTime)); now.Before(at) {
			r.Stages = append(r.Stages, told)
			return true
		}
		told.State, told.Seconds, told.Code = "done", stageTime.Seconds(), one.Code
		if one.Code != 0 {
			told.State, told.Output = "failed", []string{"a simulated failure"}
		}
		r.Stages = append(r.Stages, told)
		if one.Code != 0 {
			return true
		}
		if one.Restart {
			at = at.Add(s.stepTime(bootTime))
		}
	}
	r.StagesOver = len(all) > 0 && !now.Before(at)
	return !now.Before(at)
}
