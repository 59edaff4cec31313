package unattend

import (
	"slices"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// Name is the kind's name in the setup.
const Name machine.AnswersKind = "unattend"

// Kind describes answer files for Windows.
var Kind = answers.Kind{
	Name: Name, Guests: []string{"windows"}, Clear: true, Licence: true, Accounts: true, Stages: true, Joins: true, Unsupported: unsupported,
	Write: func(in answers.Input) (answers.Seed, error) {
		files, err := Files(in)
		return answers.Seed{Files: files, Label: Label, Kind: media.ISOKind}, err
	},
}

func unsupported(g machine.Guest) []string {
	return slices.Concat(
		answers.If(len(g.Packages)+len(g.Sources) > 0 || g.Update != "", "packages"),
		answers.If(len(g.Keys) > 0, "keys"),
		answers.If(g.Swap > 0 || g.Grow != "", "swap and grow_root"),
		answers.If(len(g.Userdata) > 0, "user_data"),
		answers.If(g.Wait != "" || len(g.SSH.Authority) > 0 || g.SSH.Root != "" || g.SSH.Passwords != "", "ssh and wait_for_network"))
}
