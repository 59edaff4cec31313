package sandbox

import (
	"bufio"
	"crypto/hmac"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/notice"
)

// records is the stand-in for a keeper of item records: it opens and closes items, and is told the same thing once only.
type records struct {
	key string // of signatures

	mu   sync.Mutex
	file *os.File
	told map[string]told // by idempotency key
	open map[string]bool // items, and whether each is
}

// told is a request that was done.
type told struct {
	Key    string          `json:"key"`
	Path   string          `json:"path"`
	Digest string          `json:"digest"` // of the request
	Item   string          `json:"item"`
	Open   bool            `json:"open"`
	Body   json.RawMessage `json:"body"`
}

// openRecords reads what was told in earlier times.
func (s *Sandbox) openRecords() error {
	r := &records{told: map[string]told{}, open: map[string]bool{}}
	key, err := os.ReadFile(s.path("records.key"))
	if errors.Is(err, fs.ErrNotExist) {
		b := make([]byte, 24)
		_, _ = rand.Read(b)
		key = []byte(hex.EncodeToString(b) + "\n")
		err = os.WriteFile(s.path("records.key"), key, 0o600)
	}
	if err != nil {
		return err
	}
	r.key = strings.TrimSpace(string(key))
	if r.file, err = os.OpenFile(s.path("records.jsonl"), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600); err != nil {
		return err
	}
	lines := bufio.NewScanner(r.file)
	lines.Buffer(nil, maxBody)
	for lines.Scan() {
		var t told
		if err := json.Unmarshal(lines.Bytes(), &t); err != nil {
			break // cut short: it was not answered
		}
		r.told[t.Key], r.open[t.Item] = t, t.Open
	}
	s.records = r
	return lines.Err()
}

// serveRecords opens an item by POST /records/items, and closes it by POST /records/items/ITEM/close.
func (s *Sandbox) serveRecords(w http.ResponseWriter, q *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, q.Body, maxBody))
	id := q.Header.Get(notice.KeyHeader)
	switch {
	case err != nil:
		err = refuse(http.StatusBadRequest, "invalid request body: %s", err)
	case !s.admitted(q):
		err = refuse(http.StatusUnauthorized, "the bearer token is missing or wrong; it is in the sandbox's folder")
	case id == "":
		err = refuse(http.StatusBadRequest, "the header %s is missing", notice.KeyHeader)
	case !hmac.Equal([]byte(q.Header.Get(notice.SignatureHeader)), []byte(notice.Signature(s.records.key, id, body))):
		err = refuse(http.StatusUnauthorized, "the signature is missing or wrong; its key is in the sandbox's folder")
	case s.options.Faults.strike("refuse-notice"):
		err = refuse(http.StatusServiceUnavailable, "refused (simulated by --fault)")
	}
	var t told
	if err == nil {
		t, err = s.records.tell(told{Key: id, Path: q.URL.Path, Digest: machine.Digest([]string{q.URL.Path, string(body)}), Item: q.PathValue("item"), Body: body})
	}
	if err == nil && s.options.Faults.strike("lose-notice") {
		panic(http.ErrAbortHandler)
	}
	if err == nil && s.options.Faults.strike("late-notice") {
		select {
		case <-q.Context().Done():
		case <-time.After(lateness):
		}
	}
	write(w, map[string]any{"item": map[string]any{"id": t.Item, "open": t.Open}}, err)
}

// lateness is by how much an answer is late that is late by --fault.
const lateness = 5 * time.Second

// tell does what is asked, once.
func (r *records) tell(t told) (told, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if before, again := r.told[t.Key]; again {
		if before.Digest != t.Digest {
			return t, refuse(http.StatusUnprocessableEntity, "the key %s was used for another request", t.Key)
		}
		return before, nil
	}
	if t.Item == "" {
		t.Item, t.Open = fmt.Sprintf("item-%04d", len(r.open)+1), true
	} else if !r.open[t.Item] {
		return t, refuse(http.StatusNotFound, "no open item %q", t.Item)
	}
	line, err := json.Marshal(t)
	if err != nil {
		return t, refuse(http.StatusBadRequest, "the body is no JSON")
	}
	if _, err := r.file.Write(append(line, '\n')); err != nil {
		return t, err
	}
	r.told[t.Key], r.open[t.Item] = t, t.Open
	return t, nil
}
