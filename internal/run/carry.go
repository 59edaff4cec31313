package run

import (
	"context"
	"fmt"
	"io"
	"os"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/media"
	"mintbatch/internal/core/step"
)

// carryLabel is of the volume by which a guest finds the files that it is carried.
const carryLabel = "CARRY"

// carries reports whether a machine gets big files for its first boot.
func (j *job) carries() bool {
	return j.work.Machine().Guest.Firstboot != nil && len(j.work.Machine().Guest.Carry) > 0
}

// carry sends the big files, as they are on the disk of this computer.
func (j *job) carry(ctx context.Context) error {
	files, paths := []media.Large{}, map[string]string{}
	for _, f := range j.work.Machine().Guest.Carry {
		files = append(files, media.Large{Name: f.Name, Size: f.Size})
		paths[f.Name] = f.Path
	}
	stream, err := media.NewStream(carryLabel, files)
	if err != nil {
		return err
	}
	image := contract.Image{Size: stream.Size, WriteTo: func(w io.Writer) error {
		return stream.WriteTo(w, func(name string) (io.ReadCloser, error) {
			f, err := os.Open(paths[name])
			if err != nil {
				return nil, fmt.Errorf("cannot read the file to carry: %w", err)
			}
			return f, nil
		})
	}}
	return j.perform(ctx, step.Carry, func(ctx context.Context) (contract.Task, error) { return j.site.Carry(ctx, j.work.Identity, image) })
}
