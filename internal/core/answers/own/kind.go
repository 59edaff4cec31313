package own

import (
	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// Name is the kind's name in the setup.
const Name machine.AnswersKind = "files"

// Kind describes answers in a form of the user's own.
var Kind = answers.Kind{
	Name: Name, Guests: []string{"linux", "windows"}, HostKey: true, Hashes: true, Clear: true, Licence: true, Joins: true, Free: true, Unsupported: func(g machine.Guest) []string {
		return append(answers.OnlyWindows(g), answers.If(len(g.Whole().Stages) > 0, "stages")...)
	},
	Write: func(in answers.Input) (answers.Seed, error) {
		files, err := Files(in)
		return answers.Seed{Files: files, Label: in.Guest.Own.Label, Kind: media.Kind(in.Guest.Own.Kind)}, err
	},
}
