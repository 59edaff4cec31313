package notice

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func event() Envelope {
	return Wrap(Event{Kind: Confirmed, Run: Run{ID: "r"}, Machine: &Machine{Site: "quay", Name: "bms-tide-01", Owner: `tide "desk"`, Addresses: []string{"198.51.100.7"}}, Taken: map[string]string{"item": "../x?a#b"}},
		"i", "5a0c2a44-6c1b-4b1e-9d0f-6c4c6c0f4a11", time.Unix(0, 0))
}

func TestForms(t *testing.T) {
	u, err := Form{URL: "https://records.brackwater.example/items/{{.taken.item}}/close"}.Address(event())
	require.NoError(t, err)
	assert.Equal(t, "https://records.brackwater.example/items/..%2Fx%3Fa%23b/close", u.String(), "a value is one part of a path")
	body, err := Form{Body: `{"name": {{json .machine.name}}, "for": {{json .machine.owner}}, "at": {{json .machine.addresses}}}`}.Content(event())
	require.NoError(t, err)
	assert.JSONEq(t, `{"name": "bms-tide-01", "for": "tide \"desk\"", "at": ["198.51.100.7"]}`, string(body))
	body, err = Form{}.Content(event())
	require.NoError(t, err)
	var e map[string]any
	require.NoError(t, json.Unmarshal(body, &e))
	assert.Equal(t, []any{"1.0", "mintbatch.confirmed", "quay/bms-tide-01", "1970-01-01T00:00:00Z"}, []any{e["specversion"], e["type"], e["subject"], e["time"]})
	_, err = Form{URL: "https://x/{{.taken.change}}"}.Address(event())
	assert.ErrorContains(t, err, `map has no entry for key "change"`)
	assert.Error(t, Form{Body: "{{"}.Parse())
}

func TestTake(t *testing.T) {
	answer := `{"result": [{"id": 4711, "a/b": "x", "m~n": true}], "long": {"a": 1}}`
	taken, err := Take([]byte(answer), map[string]string{"item": "/result/0/id", "slash": "/result/0/a~1b", "tilde": "/result/0/m~0n"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"item": "4711", "slash": "x", "tilde": "true"}, taken)
	for _, bad := range []string{"/result/1/id", "/result/x", "/none", "/long", "", "/result/0/id/y"} {
		_, err := Take([]byte(answer), map[string]string{"item": bad})
		assert.Error(t, err, bad)
	}
	_, err = Take([]byte("gone"), map[string]string{"item": "/id"})
	assert.ErrorContains(t, err, "no JSON")
}

func FuzzTake(f *testing.F) {
	f.Add([]byte(`{"id": "x"}`), "/id")
	f.Fuzz(func(t *testing.T, answer []byte, pointer string) {
		if CheckPointer(pointer) != nil {
			return
		}
		if taken, err := Take(answer, map[string]string{"x": pointer}); err == nil {
			assert.LessOrEqual(t, len(taken["x"]), longestValue)
		}
	})
}
