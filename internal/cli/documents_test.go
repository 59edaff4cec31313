package cli

import (
	"encoding"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write docs/schemas anew")

// documents are all that --json prints, by their names.
var documents = map[string]any{
	"accept": acceptJSON{}, "answers": answersJSON{}, "check": checkJSON{}, "checkpoints": checkpointsJSON{}, "credentials": credentialsJSON{}, "find": findJSON{}, "handout-done": handoutJSON{}, "history": historyJSON{},
	"ledger-check": ledgerCheckJSON{}, "list": entriesJSON{}, "list-at": listAtJSON{}, "mint": mintJSON{}, "pools": poolsJSON{}, "proof": proofJSON{}, "rebuild": rebuildJSON{},
	"quota": quotaJSON{}, "request": requestJSON{}, "requests": requestsJSON{}, "run": runShowJSON{}, "runs": runsJSON{}, "secrets": secretsJSON{}, "show": entriesJSON{}, "site-check": siteCheckJSON{}, "survey": surveyJSON{}, "sweep": sweepJSON{},
	"disk": diskJSON{}, "disk-check": diskCheckJSON{}, "inspect": inspectJSON{}, "template": templateJSON{}, "library": libraryJSON{}, "outbox": outboxJSON{}, "shared": sharedJSON{}, "seal": sealJSON{}, "templates": templatesJSON{}, "verify": verifyJSON{}, "why": whyJSON{},
}

// asText is the schema of values that are written as text.
func asText(t reflect.Type) *jsonschema.Schema {
	text := reflect.TypeFor[encoding.TextMarshaler]()
	switch {
	case t == reflect.TypeFor[time.Time]():
		return &jsonschema.Schema{Type: "string", Format: "date-time"}
	case t.Kind() != reflect.Pointer && (t.Implements(text) || reflect.PointerTo(t).Implements(text)):
		return &jsonschema.Schema{Type: "string"}
	}
	return nil
}

// docs/schemas has a JSON Schema of each document, read off its type: go test ./internal/cli
// -update writes them.
func TestSchemasOfDocuments(t *testing.T) {
	dir := "../../docs/schemas"
	gathered := jsonschema.Reflector{}
	for _, of := range []string{"mint", "core", "cli", "pools", "plan", "vault", "diskfile", "handout"} {
		require.NoError(t, gathered.AddGoComments("mintbatch/internal/"+of, "../"+of))
	}
	comments := map[string]string{}
	for name, text := range gathered.CommentMap {
		if i := strings.LastIndex(name, "../"); i >= 0 { // as the library writes folders beside ours
			name = "mintbatch/internal/" + name[i+3:]
		}
		comments[name] = strings.Join(strings.Fields(text), " ")
	}
	for name, of := range documents {
		r := jsonschema.Reflector{Anonymous: true, Mapper: asText, CommentMap: comments}
		s := r.Reflect(of)
		s.Title = "mintbatch/" + name + "/1"
		text, err := json.MarshalIndent(s, "", " ")
		require.NoError(t, err)
		path := filepath.Join(dir, name+".json")
		if *update {
			require.NoError(t, os.MkdirAll(dir, 0o755))
			require.NoError(t, os.WriteFile(path, append(text, '\n'), 0o644))
		}
		is, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.JSONEq(t, string(is), string(text), "run go test ./internal/cli -update")
	}
	files, err := filepath.Glob(filepath.Join(dir, "*.json"))
	require.NoError(t, err)
	assert.Len(t, files, len(documents))
}
