package ledger

import (
	"encoding/json"
	"fmt"
	"runtime"

	"golang.org/x/sync/errgroup"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/proof"
)

// decoder decodes the specs of machines while others are still being read: they are
// most of what reading a ledger takes.
type decoder struct {
	into  func(i int) *proof.Known // the machine of a place
	begun int                      // machines that are decoded, or being decoded
	texts []specText               // those of the machines after them
	group *errgroup.Group
	err   error
}

type specText struct{ spec, earlier string }

// decodedTogether is how many machines are decoded by one goroutine.
const decodedTogether = 256

// add takes the texts of the next machine.
func (d *decoder) add(spec, earlier string) {
	if d.texts = append(d.texts, specText{spec, earlier}); len(d.texts) == decodedTogether {
		d.begin()
	}
}

func (d *decoder) begin() {
	if d.group == nil {
		d.group = &errgroup.Group{}
		d.group.SetLimit(runtime.GOMAXPROCS(0))
	}
	texts, machines := d.texts, make([]*proof.Known, len(d.texts))
	for i := range machines {
		machines[i] = d.into(d.begun + i)
	}
	d.texts, d.begun = nil, d.begun+len(texts)
	d.group.Go(func() error {
		specs := machine.Specs{}
		for i, m := range machines {
			err := specs.Decode(texts[i].spec, &m.Slim)
			if err == nil && texts[i].earlier != "" {
				err = json.Unmarshal([]byte(texts[i].earlier), &m.Earlier)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", m.Key, err)
			}
		}
		return nil
	})
}

// wait waits until all machines that were added are decoded.
func (d *decoder) wait() {
	if len(d.texts) > 0 {
		d.begin()
	}
	if d.group == nil {
		return
	}
	if err := d.group.Wait(); d.err == nil {
		d.err = err
	}
	d.group = nil
}

// end is wait, and reports what could not be decoded.
func (d *decoder) end() error {
	d.wait()
	return d.err
}
