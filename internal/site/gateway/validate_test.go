package gateway

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/site"
)

const one = `{"id":"8e15d4bd-51da-5d5b-aa6f-62aac0a6c353","name":"bms-tide-01","host":"hv1","store":"fast","power":"on","mark":{"ledger":"8e15d4bd-51da-5d5b-aa6f-62aac0a6c353","key":"quay/bms-tide-01","generation":1}}`

const whole = `{"hosts":[],"stores":[],"networks":[],"folders":[],"templates":[],"machines":[` + one + `]}`

// An answer that lacks what the API requires is no answer: nothing is decided by it.
func TestOnlyAWholeAnswerCounts(t *testing.T) {
	id := uuid.MustParse("8e15d4bd-51da-5d5b-aa6f-62aac0a6c353")
	answer := ""
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, answer) }))
	defer server.Close()
	g := New(Options{URL: parsed(t, server.URL+"/quay"), Fingerprint: secret.FingerprintOf(server.Certificate().Raw), Retries: -1})

	answer = whole
	s, err := g.Survey(t.Context())
	require.NoError(t, err)
	require.Len(t, s.Machines, 1)
	assert.Equal(t, "hv1 fast", s.Machines[0].Host+" "+s.Machines[0].Store)
	answer = one
	m, err := g.Machine(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, machine.On, m.Power)

	without := func(text, part string) string {
		require.Contains(t, text, part)
		return strings.Replace(text, part, "", 1)
	}
	for name, broken := range map[string]string{
		"null": "null", "nothing": "", "empty": "{}", "a list": "[]", "text": `"done"`, "cut short": whole[:len(whole)-9], "two answers": whole + whole,
		"no hosts": without(whole, `"hosts":[],`), "no networks": without(whole, `"networks":[],`), "machines null": strings.Replace(whole, "["+one+"]", "null", 1),
		"no machines": without(whole, `,"machines":[`+one+`]`), "no id": without(whole, `"id":"8e15d4bd-51da-5d5b-aa6f-62aac0a6c353",`), "no name": without(whole, `"name":"bms-tide-01",`),
		"no host": without(whole, `"host":"hv1",`), "no store": without(whole, `"store":"fast",`), "no power": without(whole, `"power":"on",`), "another power": strings.Replace(whole, `"on"`, `"maybe"`, 1),
		"a mark of nobody": without(whole, `"ledger":"8e15d4bd-51da-5d5b-aa6f-62aac0a6c353",`), "a mark without its key": without(whole, `"key":"quay/bms-tide-01",`),
		"a mark of no generation": strings.Replace(whole, `"generation":1`, `"generation":0`, 1), "twice the same": strings.Replace(whole, one, one+","+one, 1),
		"a store without a name": strings.Replace(whole, `"stores":[]`, `"stores":[{}]`, 1),
	} {
		answer = broken
		_, err := g.Survey(t.Context())
		assert.ErrorIs(t, err, site.ErrUnreachable, name)
		assert.ErrorContains(t, err, "its answer does not follow the gateway API", name)
	}
	for name, broken := range map[string]string{"another machine": strings.Replace(one, "8e15d4bd", "8e15d4be", 1), "null": "null", "no power": without(one, `"power":"on",`)} {
		answer = broken
		_, err := g.Machine(t.Context(), id)
		assert.ErrorIs(t, err, site.ErrUnreachable, name)
	}
	for name, broken := range map[string]string{"null": "null", "no state": `{"id":"x"}`, "another state": `{"state":"over"}`, "running, without an id": `{"state":"running"}`} {
		answer = broken
		_, err := g.Power(t.Context(), id, machine.On)
		assert.ErrorIs(t, err, site.ErrUnreachable, name)
	}
}

// A gateway that does not answer is given up in the stated time.
func TestACallEnds(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	defer server.Close()
	g := New(Options{URL: parsed(t, server.URL), Fingerprint: secret.FingerprintOf(server.Certificate().Raw), Limit: 200 * time.Millisecond})
	_, err := g.Survey(t.Context())
	assert.ErrorIs(t, err, site.ErrUnreachable)
	assert.ErrorContains(t, err, "no answer within 200ms")
}

func parsed(t *testing.T, text string) *url.URL {
	t.Helper()
	u, err := url.Parse(text)
	require.NoError(t, err)
	return u
}

// A gateway that knows no call for specs has told them all.
func TestAGatewayWithoutSpecs(t *testing.T) {
	status := http.StatusOK
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, "null")
	}))
	defer server.Close()
	g := New(Options{URL: parsed(t, server.URL+"/quay"), Fingerprint: secret.FingerprintOf(server.Certificate().Raw), Retries: -1})
	for _, status = range []int{http.StatusOK, http.StatusNotFound, http.StatusMethodNotAllowed} {
		specs, err := g.Specs(t.Context(), []uuid.UUID{{1}})
		require.NoError(t, err)
		assert.Empty(t, specs)
	}
	status = http.StatusBadGateway
	_, err := g.Specs(t.Context(), []uuid.UUID{{1}})
	assert.ErrorIs(t, err, site.ErrUnreachable)
}
