package sandbox

import (
	"net/http"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// rename gives a machine another name, while it runs, too.
func (s *Sandbox) rename(c *call, r *record, want struct {
	Name string
	Mark contract.Mark
}) (contract.Task, error) {
	if other := s.inventories[c.site].names[strings.ToLower(want.Name)]; other != nil && other != r {
		return contract.Task{}, refuse(http.StatusConflict, "another machine is named %s", want.Name)
	}
	r.Name, r.Mark = want.Name, want.Mark
	return s.startTask(smallTaskTime, nil), nil
}

// tellName tells a guest which runs its new host name, if that is one that has read answers of cloud-init.
func (s *Sandbox) tellName(_ *call, r *record, want struct{ Hostname, FQDN string }) (contract.Task, error) {
	if r.Power != machine.On || !r.reports() || r.Instance == "" {
		return contract.Task{}, refuse(http.StatusConflict, "the guest cannot be told")
	}
	told := *r.Report
	told.Hostname, told.FQDN = want.Hostname, want.FQDN
	r.Report = &told
	return s.startTask(smallTaskTime, nil), nil
}
