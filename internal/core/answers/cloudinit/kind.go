package cloudinit

import (
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// Name is the kind's name in the setup.
const Name machine.AnswersKind = "cloud-init"

// Kind describes answers for cloud-init.
var Kind = answers.Kind{
	Name: Name, Guests: []string{"linux"}, HostKey: true, Stages: true, Joins: true, Hashes: true, Limits: Lost,
	Unsupported: func(g machine.Guest) []string {
		return append(answers.OnlyWindows(g), answers.If(len(g.Properties) > 0, "properties")...)
	},
	Write: func(in answers.Input) (answers.Seed, error) {
		return answers.Seed{Files: Files(in), Label: Label, Kind: media.ISOKind}, nil
	},
}
