package cloudinit

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"strings"

	"mintbatch/internal/core/machine"
)

// stagesService does a guest's stages, at each boot until the last is done.
var stagesService = service{"mintbatch-stages.service", "Do the stages that this machine was given", "local-fs.target", "/etc/mintbatch/stages/stages.py"}

//go:embed stages.py
var stagesScript string

// stages writes the files of a guest's stages: the order, and a script each.
func stages(all []machine.Stage, login string, add func(path, content, mode, owner string)) {
	type step struct {
		Name    string `json:"name"`
		Restart bool   `json:"restart"`
		Login   string `json:"login,omitempty"` // that does it; empty for root
	}
	plan := make([]step, len(all))
	for i, s := range all {
		plan[i] = step{Name: s.Name, Restart: s.Restart.Or(false)}
		if s.As == machine.AsLogin {
			plan[i].Login = login
		}
		add(fmt.Sprintf("/etc/mintbatch/stages/%02d.sh", i+1), "set -e\n"+strings.Join(s.Commands, "\n")+"\n", "0700", "")
	}
	order, err := json.Marshal(plan)
	if err != nil { // only names and switches
		panic(err)
	}
	add("/etc/mintbatch/stages/plan.json", string(order)+"\n", "0600", "")
	add(stagesService.script, stagesScript, "0700", "")
	stagesService.file(add)
}
