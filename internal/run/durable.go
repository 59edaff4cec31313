package run

import (
	"context"
	"time"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/entry"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/ledger"
)

// Durable is what the engine needs of the ledger. All of it is durable when it
// returns.
type Durable interface {
	// Current reports whether the run may still act.
	Current() error

	Steps(ctx context.Context, key machine.Key, generation int) (map[string]ledger.Step, error)
	Journal(ctx context.Context, s ledger.Step) error
	Fail(ctx context.Context, s ledger.Step, what string) error
	HostKey(ctx context.Context, key machine.Key) (string, error)

	Begin(ctx context.Context, run string, m machine.Machine, generation int, origin machine.Origin, reserved []ledger.Reservation) error
	Replacing(ctx context.Context, key machine.Key, how ledger.Removal) error
	Revert(ctx context.Context, run string, key machine.Key, reserved []ledger.Reservation) error
	Reserve(ctx context.Context, key machine.Key, reserved []ledger.Reservation) error
	SetPlace(ctx context.Context, key machine.Key, host, store string) error
	Seal(ctx context.Context, key machine.Key, hostKey string, sealed map[string]string) error
	Finish(ctx context.Context, run string, m machine.Machine, what, detail string, tell ...ledger.Outgoing) error
	ExpectCall(ctx context.Context, key machine.Key, generation int, digest string) error
	Called(ctx context.Context, key machine.Key, generation int) (*contract.Report, error)
	NoteStage(ctx context.Context, run string, key machine.Key, detail string) error
	CloseOwn(ctx context.Context, run string, key machine.Key, what, detail string) error
	Rename(ctx context.Context, run string, from machine.Key, to machine.Machine, tell ...ledger.Outgoing) error
	PutEntered(ctx context.Context, key machine.Key, e entry.Entered) error
	KeepDisks(ctx context.Context, k ledger.Kept) error
	WasKept(ctx context.Context, key machine.Key, generation int) (bool, error)
	Forget(ctx context.Context, run string, key machine.Key, cooling map[string]time.Time, disks contract.Disks, tell ...ledger.Outgoing) error
	WasMade(ctx context.Context, key machine.Key) (bool, error)
	PutOutbox(ctx context.Context, all []ledger.Outgoing) error
}
