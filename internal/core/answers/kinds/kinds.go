// Package kinds lists the kinds of answers. A new one is a folder beside this one, and a
// line here.
package kinds

import (
	"errors"
	"slices"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/answers/ovfenv"
	"mintbatch/internal/core/answers/own"
	"mintbatch/internal/core/answers/unattend"
	"mintbatch/internal/core/machine"
)

// all are the kinds; the first that an operating system reads is its usual one.
var all = []answers.Kind{cloudinit.Kind, unattend.Kind, ovfenv.Kind, own.Kind}

// Of returns the kind that a guest reads. For one that reads none it is the zero value.
func Of(g machine.Guest) answers.Kind { return Named(g.Answers) }

// Named returns the kind of a name; the zero value if there is none.
func Named(name machine.AnswersKind) answers.Kind {
	i := slices.IndexFunc(all, func(k answers.Kind) bool { return k.Name == name })
	if i < 0 {
		return answers.Kind{}
	}
	return all[i]
}

// Names lists the kinds, and the word for a guest that reads none.
func Names() []string {
	var names []string
	for _, k := range all {
		names = append(names, string(k.Name))
	}
	return append(names, string(machine.NoAnswers))
}

// Usual returns the kind that guests of an operating system read unless something else
// is said.
func Usual(system string) machine.AnswersKind {
	i := slices.IndexFunc(all, func(k answers.Kind) bool { return slices.Contains(k.Guests, system) })
	if i < 0 {
		return machine.NoAnswers
	}
	return all[i].Name
}

// Write writes a machine's answers. What their format cannot hold is an error.
func Write(in answers.Input) (answers.Seed, error) {
	k := Of(in.Guest)
	if k.Write == nil {
		return answers.Seed{}, errors.New("this guest reads no answers")
	}
	in.Guest = in.Guest.Whole()
	return k.Write(in)
}
