package sandbox

import (
	"net/http"
	"strings"

	"github.com/google/uuid"

	"mintbatch/internal/core/machine"
)

// source is a machine that another one is cloned from.
type source struct {
	id         uuid.UUID
	checkpoint string
	disks      []machine.Disk
}

// toClone finds a template, which may be a machine that is off, or a checkpoint of one.
func (s *Sandbox) toClone(c *call, name string) (TemplatePlan, source, error) {
	of, is := machine.SourceOf(name)
	if !is {
		t, known := c.plan.template(name)
		if !known {
			return t, source{}, refuse(http.StatusConflict, "no template %q", name)
		}
		return t, source{}, nil
	}
	r := s.inventories[c.site].names[strings.ToLower(of.Name)]
	if r == nil {
		return TemplatePlan{}, source{}, refuse(http.StatusConflict, "no machine %q", of.Name)
	}
	shape := r.Shape
	switch i := r.checkpointAt(of.Checkpoint); {
	case of.Checkpoint == "" && r.Power == machine.On:
		return TemplatePlan{}, source{}, refuse(http.StatusConflict, "machine %s is running", r.Name)
	case of.Checkpoint != "" && i < 0:
		return TemplatePlan{}, source{}, refuse(http.StatusConflict, "machine %s has no checkpoint %q", r.Name, of.Checkpoint)
	case of.Checkpoint != "":
		shape = r.States[i].Shape
	}
	t, _ := c.plan.template(r.Template)
	t.CPUs, t.Memory, t.Disk = shape.CPUs, shape.Memory, shape.Disk
	return t, source{r.ID, of.Checkpoint, shape.Disks}, nil
}

// dependant names a linked clone of a machine, or of a checkpoint of it.
func (s *Sandbox) dependant(of *record, checkpoint string) string {
	for _, r := range s.machines {
		if r.Source == of.ID && r.Kind == machine.Linked && (checkpoint == "" || strings.EqualFold(r.At, checkpoint)) {
			return r.Name
		}
	}
	return ""
}
