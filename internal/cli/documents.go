package cli

import (
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/event"
	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/seal"
	"mintbatch/internal/diskfile"
	"mintbatch/internal/handout"
	"mintbatch/internal/mint"
	"mintbatch/internal/template"
	"mintbatch/internal/vault"
)

// The documents that --json prints. Each names what it is in `schema`, and one thing by one
// key: a machine is a `site` and a `name`, a run a `run`, the computer that a command ran on a
// `computer`, and a host is what runs machines. docs/schemas has a JSON Schema of each.
type (
	checkJSON struct {
		Schema       string       `json:"schema"`
		Machines     int          `json:"machines"`
		CommentedOut []int        `json:"commented_out"`
		Errors       int          `json:"errors"`
		Warnings     int          `json:"warnings"`
		Findings     finding.List `json:"findings"`
	}
	checkpointsJSON struct {
		Schema      string      `json:"schema"`
		Checkpoints []mint.Kept `json:"checkpoints"`
	}
	diskJSON struct {
		Schema string           `json:"schema"`
		Images []diskfile.About `json:"images"`
	}
	diskCheckJSON struct {
		Schema string            `json:"schema"`
		Files  []string          `json:"files"`
		Damage []diskfile.Damage `json:"damage"`
	}
	findJSON struct {
		Schema string       `json:"schema"`
		Found  []mint.Found `json:"found"`
	}
	handoutJSON struct {
		Schema   string            `json:"schema"`
		Folder   string            `json:"folder"`
		Machines []handout.Machine `json:"machines"`
		Copied   int               `json:"copied_files"`
		Size     machine.Size      `json:"copied"`
	}
	historyJSON struct {
		Schema string      `json:"schema"`
		Events []eventJSON `json:"events"`
	}
	ledgerCheckJSON struct {
		Schema string   `json:"schema"`
		Faults []string `json:"faults"`
	}
	rebuildJSON struct {
		Schema string    `json:"schema"`
		Ledger uuid.UUID `json:"ledger"`
		mint.Rebuilding
	}
	listAtJSON struct {
		Schema   string         `json:"schema"`
		At       time.Time      `json:"at"`
		Machines []mint.Earlier `json:"machines"`
	}
	// entriesJSON is of list and show.
	entriesJSON struct {
		Schema   string       `json:"schema"`
		Machines []mint.Entry `json:"machines"`
	}
	runsJSON struct {
		Schema string    `json:"schema"`
		Runs   []runJSON `json:"runs"`
	}
	runShowJSON struct {
		Schema string `json:"schema"`
		runJSON
		Courses []event.Course `json:"machines"`
	}
	secretsJSON struct {
		Schema string       `json:"schema"`
		Sealed []sealedJSON `json:"sealed"`
	}
	// sealedJSON is a sealed value, of a machine or of all.
	sealedJSON struct {
		Site   string `json:"site,omitempty"`
		Name   string `json:"name,omitempty"`
		Secret string `json:"secret"`
	}
	credentialsJSON struct {
		Schema      string             `json:"schema"`
		Credentials []vault.Credential `json:"credentials"`
	}
	siteCheckJSON struct {
		Schema string           `json:"schema"`
		Sites  []mint.SiteCheck `json:"sites"`
	}
	answersJSON struct {
		Schema  string            `json:"schema"`
		Machine string            `json:"name"`
		Files   map[string]string `json:"files"`
	}
	whyJSON struct {
		Schema  string     `json:"schema"`
		Machine string     `json:"name"`
		Values  []mint.Why `json:"values"`
	}
	surveyJSON struct {
		Schema string          `json:"schema"`
		Sites  []mint.SiteView `json:"sites"`
	}
	sweepJSON struct {
		Schema   string     `json:"schema"`
		Past     int        `json:"past"`
		Machines []mint.Due `json:"machines"`
	}
	// templateJSON is what came of work on a version of a template.
	templateJSON struct {
		Schema   string `json:"schema"`
		Run      string `json:"run,omitempty"`
		Template string `json:"template"` // with its version
		Site     string `json:"site"`
		Result   string `json:"result"` // made, there, dropped
		Digest   string `json:"digest,omitempty"`
		// Setup is a part of a setup, in YAML, by which machines are like that of the package.
		Setup string `json:"setup,omitempty"`
	}
	// sealJSON is what a seal would do.
	sealJSON struct {
		Schema   string     `json:"schema"`
		Machine  string     `json:"machine"`
		Template string     `json:"template"` // with its version
		Site     string     `json:"site"`
		Acts     []seal.Act `json:"acts"`
	}
	// libraryJSON is what a library has.
	libraryJSON struct {
		Schema   string          `json:"schema"`
		Versions []template.Kept `json:"versions"`
	}
	// sharedJSON is what came of work on a version of a library.
	sharedJSON struct {
		Schema   string       `json:"schema"`
		Run      string       `json:"run,omitempty"`
		Template string       `json:"template"` // with its version
		Library  string       `json:"library"`
		Site     string       `json:"site,omitempty"`
		Result   string       `json:"result"` // added, fetched, dropped, there
		Digest   string       `json:"digest"` // of what is on its disk
		Moved    machine.Size `json:"moved"`  // how much was sent or fetched
	}
	inspectJSON struct {
		Schema string           `json:"schema"`
		Disks  []mint.Inspected `json:"disks"`
	}
	templatesJSON struct {
		Schema    string              `json:"schema"`
		Templates []mint.TemplateView `json:"templates"`
	}
	verifyJSON struct {
		Schema   string         `json:"schema"`
		Failed   int            `json:"failed"`
		Machines []mint.Verdict `json:"machines"`
		Strays   []machine.Key  `json:"strays"`
	}
	acceptJSON struct {
		Schema   string            `json:"schema"`
		Run      string            `json:"run,omitempty"`
		Machines []mint.Acceptance `json:"machines"`
		Results  []resultJSON      `json:"results"`
	}
)
