package mint

import (
	"os"
	"path/filepath"

	"mintbatch/internal/core/answers"
	"mintbatch/internal/core/answers/cloudinit"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
	"mintbatch/internal/run"
)

// WriteFiles writes the answers and the seed of every machine that the proof
// would mint into a folder of the machine's name. Secrets are not made by a
// proof; a marker stands in their place.
func WriteFiles(p proof.Proof, dir string) (machines int, err error) {
	for _, w := range p.Works {
		if w.Machine == nil || w.Word == proof.Taken || w.Machine.Guest.Answers == machine.NoAnswers {
			continue
		}
		in := answers.Input{Machine: *w.Machine, Instance: w.Identity.String(), Secrets: answers.Hidden()}
		own := filepath.Join(dir, w.Site, w.Name)
		if err := os.MkdirAll(own, 0o700); err != nil {
			return machines, err
		}
		files := cloudinit.Files(in)
		image, err := run.SeedImage(in)
		if err != nil {
			return machines, err
		}
		for _, f := range append(files, answers.File{Name: "seed.iso", Content: image}) {
			if err := os.WriteFile(filepath.Join(own, f.Name), f.Content, 0o600); err != nil {
				return machines, err
			}
		}
		machines++
	}
	return machines, nil
}
