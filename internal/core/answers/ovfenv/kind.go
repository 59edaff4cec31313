package ovfenv

import (
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// Name is the kind's name in the setup.
const Name machine.AnswersKind = "ovf-env"

// Kind describes OVF environments, which also carry cloud-init's user data.
var Kind = answers.Kind{
	Name: Name, Guests: []string{"linux", "windows"}, HostKey: true, Hashes: true, Stages: true, Joins: true, Unsupported: answers.OnlyWindows,
	Write: func(in answers.Input) (answers.Seed, error) {
		files, err := Files(in)
		return answers.Seed{Files: files, Label: Label, Kind: media.ISOKind}, err
	},
}
