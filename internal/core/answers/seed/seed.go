// Package seed turns a machine into its answers and the image that carries
// them, by the kind that its guest reads.
package seed

import (
	"errors"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/answers/ovfenv"
	"mintbatch/internal/core/answers/own"
	"mintbatch/internal/core/answers/unattend"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// Seed is a machine's answers and how they travel.
type Seed struct {
	Files []answers.File
	Label string
	Kind  media.Kind
}

// Of writes a machine's answers. What a guest's format cannot hold is an error.
func Of(in answers.Input) (Seed, error) {
	s := Seed{Kind: media.ISOKind}
	in.Guest = in.Guest.Whole()
	var err error
	switch in.Guest.Answers {
	case machine.CloudInit:
		s.Label, s.Files = cloudinit.Label, cloudinit.Files(in)
	case machine.Unattend:
		s.Label = unattend.Label
		s.Files, err = unattend.Files(in)
	case machine.OVFEnv:
		s.Label = ovfenv.Label
		s.Files, err = ovfenv.Files(in)
	case machine.OwnFiles:
		s.Label, s.Kind = in.Guest.Own.Label, media.Kind(in.Guest.Own.Kind)
		s.Files, err = own.Files(in)
	default:
		err = errors.New("this guest takes no answers")
	}
	return s, err
}

// Image is the image of a seed. The same seed gives the same bytes.
func (s Seed) Image() ([]byte, error) { return media.Image(s.Kind, s.Label, s.files()) }

// Check tells why there can be no such image.
func (s Seed) Check() error { return media.Check(s.Kind, s.Label, s.files()) }

func (s Seed) files() []media.File {
	files := make([]media.File, len(s.Files))
	for i, f := range s.Files {
		files[i] = media.File(f)
	}
	return files
}
