package mint

import (
	"sync"

	"mintbatch/internal/core/proof"
	"mintbatch/internal/plan"
	"mintbatch/internal/site"
)

// sideBySide does something for each of some works, so many at once as their sites allow. A
// site that cannot be opened is an error of each of its machines.
func (d *Desk) sideBySide(works []proof.Work, do func(i int, at site.Site, err error)) {
	slots := map[string]chan struct{}{}
	var all sync.WaitGroup
	for i, w := range works {
		at, err := d.Sites.Site(w.Site)
		if err != nil {
			do(i, nil, err)
			continue
		}
		if slots[w.Site] == nil {
			slots[w.Site] = make(chan struct{}, plan.Slots(d.Batch, w.Site))
		}
		free := slots[w.Site]
		free <- struct{}{}
		all.Go(func() {
			defer func() { <-free }()
			do(i, at, nil)
		})
	}
	all.Wait()
}
