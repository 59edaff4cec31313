package gateway

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/secret"
	"mintbatch/internal/site"
)

// What a gateway answers to the call about several tasks counts only if it is whole; what it
// does not tell of, and everything if it lacks the call, is asked about by itself.
func TestPolls(t *testing.T) {
	id := uuid.MustParse("8e15d4bd-51da-5d5b-aa6f-62aac0a6c353")
	for name, c := range map[string]struct {
		status int
		answer string
		single bool // it is asked about each as well
		fails  bool
	}{
		"together":       {200, `{"tasks":{"t1":{"state":"done"},"t2":{"state":"done"}},"machines":{"` + id.String() + `":` + one + `}}`, false, false},
		"of none":        {200, `{"tasks":{},"machines":{}}`, true, false},
		"no such call":   {404, "", true, false},
		"not allowed":    {405, "", true, false},
		"empty":          {200, `{}`, false, true},
		"null":           {200, `null`, false, true},
		"broken":         {503, ``, false, true},
		"without states": {200, `{"tasks":{"t1":{},"t2":{}},"machines":{"` + id.String() + `":{}}}`, false, true},
		"of another":     {200, `{"tasks":{"t1":{"state":"queued"},"t2":{"state":""}},"machines":{"` + id.String() + `":` + strings.Replace(one, "8e15d4bd", "8e15d4be", 1) + `}}`, false, true},
	} {
		t.Run(name, func(t *testing.T) {
			var mu sync.Mutex
			calls := map[string]int{}
			server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				mu.Lock()
				calls[r.URL.Path]++
				mu.Unlock()
				switch {
				case strings.HasSuffix(r.URL.Path, "/poll"):
					w.WriteHeader(c.status)
					_, _ = io.WriteString(w, c.answer)
				case strings.Contains(r.URL.Path, "/tasks/"):
					_, _ = io.WriteString(w, `{"state":"done"}`)
				default:
					_, _ = io.WriteString(w, one)
				}
			}))
			defer server.Close()
			g := New(Options{URL: parsed(t, server.URL), Fingerprint: secret.FingerprintOf(server.Certificate().Raw), Retries: -1})
			var all sync.WaitGroup
			for _, task := range []string{"t1", "t2", "t2"} {
				all.Go(func() {
					got, err := g.Task(t.Context(), task)
					if c.fails {
						assert.ErrorIs(t, err, site.ErrUnreachable)
					} else if assert.NoError(t, err) {
						assert.Equal(t, contract.Done, got.State)
					}
				})
			}
			all.Go(func() {
				m, err := g.AwaitReport(t.Context(), id)
				if c.fails {
					assert.ErrorIs(t, err, site.ErrUnreachable)
				} else if assert.NoError(t, err) {
					assert.Equal(t, id, m.ID)
				}
			})
			all.Wait()
			assert.Equal(t, 1, calls["/v1/poll"])
			if singles := len(calls) - 1; c.single {
				assert.Equal(t, 3, singles, calls)
			} else {
				assert.Zero(t, singles, calls)
			}
		})
	}
	_, err := New(Options{URL: parsed(t, "https://127.0.0.1:1"), Retries: -1}).Task(t.Context(), "t")
	require.ErrorIs(t, err, site.ErrUnreachable)
}
