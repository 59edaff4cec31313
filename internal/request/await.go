package request

import (
	"context"
	"sync"
	"time"

	"mintbatch/internal/core/setup"
	"mintbatch/internal/mailbox"
)

// Await waits for the next round: until a mail server says that something has come, or a time is over.
func (o *Office) Await(ctx context.Context, limit time.Duration) {
	ctx, enough := context.WithTimeout(ctx, limit)
	defer enough()
	r, err := o.begin(ctx)
	if err != nil {
		<-ctx.Done() // the next round says what is wrong
		return
	}
	var listening sync.WaitGroup
	defer func() {
		enough()
		go func() { listening.Wait(); _ = r.desk.Close() }() // a server may take its time
	}()
	for _, name := range setup.Names(r.desk.Setup.Requests.Sources) {
		s := r.desk.Setup.Requests.Sources[name]
		if s.IMAP.URL == nil {
			continue
		}
		listening.Go(func() {
			if b, err := r.openBox(s); err == nil {
				defer b.Close()
				if b.(*mailbox.IMAP).Await(ctx, limit) == nil {
					enough()
				}
			}
		})
	}
	<-ctx.Done()
}
