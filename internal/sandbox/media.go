package sandbox

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"slices"
	"strings"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
)

// insert puts an image of a store into a machine's CD drive, or takes it out.
func (s *Sandbox) insert(c *call, r *record, want struct{ Image string }) (contract.Task, error) {
	store, name, _ := strings.Cut(want.Image, "/")
	has := func(p StorePlan) bool { return p.Name == store && slices.Contains(p.Media, name) }
	switch {
	case want.Image == r.Media:
		return done, nil
	case want.Image != "" && !slices.ContainsFunc(c.plan.Stores, has):
		return contract.Task{}, refuse(http.StatusConflict, "there is no image %s in store %q", name, store)
	case want.Image != "" && r.Power == machine.On:
		return contract.Task{}, refuse(http.StatusConflict, "it is running; an image is put in before a start only")
	}
	r.Media = want.Image
	return s.startTask(smallTaskTime, nil), nil
}

// carry takes an image of big files, of which only the digest is kept, or takes it out. It is
// sent for as long as it takes; meanwhile others are answered.
func (s *Sandbox) carry(c *call) (any, error) {
	digest := sha256.New()
	n, err := io.Copy(digest, c.Body)
	if err != nil || c.ContentLength > n {
		return nil, refuse(http.StatusBadRequest, "the image was not received completely")
	}
	return s.change(c, func(r *record) (contract.Task, error) {
		switch {
		case n == 0:
			r.Carried = ""
		case r.Power == machine.On:
			return contract.Task{}, refuse(http.StatusConflict, "it is running; an image is put in before a start only")
		default:
			r.Carried = hex.EncodeToString(digest.Sum(nil))
		}
		return s.startTask(smallTaskTime, nil), nil
	})
}
