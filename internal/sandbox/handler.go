package sandbox

import (
	"cmp"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"mintbatch/internal/core/contract"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/media"
)

// refusal is an answer that is not a success (RFC 9457).
type refusal struct {
	status int
	detail string
}

func (r *refusal) Error() string { return r.detail }

// fail notes in a task why it has failed.
func fail(t *contract.Task, err error) {
	t.State, t.Error = contract.Failed, err.Error()
	var r *refusal
	if errors.As(err, &r) {
		t.Reason = map[int]contract.Reason{http.StatusNotFound: contract.NotFound, http.StatusConflict: contract.Refused,
			http.StatusInsufficientStorage: contract.Full, http.StatusLocked: contract.NoShutdown}[r.status]
	}
}

func refuse(status int, format string, args ...any) error {
	return &refusal{status, fmt.Sprintf(format, args...)}
}

// maxBody is the largest request; a seed is far smaller.
const maxBody = 512 << 20

// call is one request on its way.
type call struct {
	*http.Request
	site string
	plan SitePlan
	// hasty is set if no caller is kept waiting.
	hasty bool
}

func (c *call) id() (uuid.UUID, error) {
	id, err := uuid.Parse(c.PathValue("id"))
	if err != nil {
		return id, refuse(http.StatusBadRequest, "%q is not a UUID", c.PathValue("id"))
	}
	return id, nil
}

func (c *call) read(into any) error {
	if err := json.NewDecoder(c.Body).Decode(into); err != nil {
		return refuse(http.StatusBadRequest, "invalid request body: %s", err)
	}
	return nil
}

func (s *Sandbox) handler() http.Handler {
	mux := http.NewServeMux()
	route := func(pattern string, answer func(*call) (any, error)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) { s.answer(w, r, answer) })
	}
	route("GET /{site}/v1/survey", s.survey)
	route("POST /{site}/v1/specs", s.specs)
	route("POST /{site}/v1/poll", s.poll)
	route("GET /{site}/v1/tasks/{task}", s.task)
	route("GET /{site}/v1/templates/{name}/disk", s.templateDisk)
	route("PUT /{site}/v1/images/{id}", s.upload)
	route("PUT /{site}/v1/templates/{name}", s.makeTemplate)
	route("DELETE /{site}/v1/templates/{name}", s.dropTemplate)
	route("GET /{site}/v1/machines/{id}", s.machine)
	route("PUT /{site}/v1/machines/{id}", s.clone)
	route("DELETE /{site}/v1/machines/{id}", s.remove)
	route("PUT /{site}/v1/machines/{id}/shape", changing(s, (*Sandbox).shape))
	route("PUT /{site}/v1/machines/{id}/adapters", changing(s, (*Sandbox).wire))
	route("PUT /{site}/v1/machines/{id}/mark", changing(s, (*Sandbox).record))
	route("PUT /{site}/v1/machines/{id}/power", changing(s, (*Sandbox).power))
	route("PUT /{site}/v1/machines/{id}/seed", s.seed)
	route("POST /{site}/v1/machines/{id}/checks", s.examine)
	route("PUT /{site}/v1/machines/{id}/checkpoints/{name}", s.checkpoint)
	route("DELETE /{site}/v1/machines/{id}/checkpoints/{name}", s.dropCheckpoint)
	route("PUT /{site}/v1/machines/{id}/kind", changing(s, (*Sandbox).detach))
	route("PUT /{site}/v1/machines/{id}/state", changing(s, (*Sandbox).restore))
	route("PUT /{site}/v1/machines/{id}/media", changing(s, (*Sandbox).insert))
	route("PUT /{site}/v1/machines/{id}/carry", s.carry)
	route("PUT /{site}/v1/machines/{id}/name", changing(s, (*Sandbox).rename))
	route("PUT /{site}/v1/machines/{id}/guest-name", changing(s, (*Sandbox).tellName))
	mux.HandleFunc("GET /book/v1/addresses", s.serveBook)
	for _, method := range []string{http.MethodGet, http.MethodPut, http.MethodDelete} {
		mux.HandleFunc(method+" /book/v1/addresses/{address}", s.serveBook)
	}
	mux.HandleFunc("POST /records/items", s.serveRecords)
	mux.HandleFunc("POST /records/items/{item}/close", s.serveRecords)
	return mux
}

// answer admits the caller, lets ordered faults happen and writes the reply.
func (s *Sandbox) answer(w http.ResponseWriter, r *http.Request, answer func(*call) (any, error)) {
	c := &call{Request: r, site: r.PathValue("site"), hasty: s.options.NoWait}
	c.Body = http.MaxBytesReader(w, r.Body, maxBody)
	if strings.HasSuffix(r.URL.Path, "/carry") || strings.Contains(r.URL.Path, "/v1/images/") {
		c.Body = http.MaxBytesReader(w, r.Body, media.MostLarge+maxBody)
	}
	s.mu.Lock()
	plan, known := s.options.Plan.Sites[c.site]
	s.mu.Unlock()
	c.plan = plan
	act := r.Method == http.MethodPut || r.Method == http.MethodDelete
	var body any
	var err error
	switch {
	case !s.admitted(r):
		err = refuse(http.StatusUnauthorized, "the bearer token is missing or wrong; it is in the sandbox's folder")
	case !known:
		err = refuse(http.StatusNotFound, "unknown site %q", c.site)
	case act && s.options.Faults.strike("refuse"):
		err = refuse(http.StatusConflict, "refused (simulated by --fault)")
	default:
		body, err = answer(c)
	}
	if c.patience() > 0 {
		w.Header().Set("Preference-Applied", "wait")
	}
	if t, ok := body.(contract.Task); ok && err == nil && !t.Settled() && c.patience() > 0 {
		s.await(c, t.ID)
		body, err = s.stateOf(t.ID)
	}
	if act && err == nil && s.options.Faults.strike("lose") {
		panic(http.ErrAbortHandler) // the act is done, the caller never hears of it
	}
	if whole, is := body.(content); is && err == nil {
		defer whole.Close()
		w.Header().Set("Content-Type", "application/octet-stream")
		http.ServeContent(w, r, "", whole.changed, whole)
		return
	}
	if survey, long := body.(contract.Survey); long && len(survey.Machines) > 100 {
		var done func()
		w, done = compress(w, r)
		defer done()
	}
	write(w, body, err)
}

func write(w http.ResponseWriter, body any, err error) {
	status, kind := http.StatusOK, "application/json"
	if err != nil {
		r, ok := err.(*refusal)
		if !ok {
			r = &refusal{http.StatusInternalServerError, err.Error()}
		}
		status, kind = r.status, "application/problem+json"
		body = map[string]any{"title": http.StatusText(r.status), "status": r.status, "detail": r.detail}
	} else if t, ok := body.(contract.Task); ok && !t.Settled() {
		status = http.StatusAccepted
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

// compressed is a writer for a caller that takes gzip (RFC 9110, section 8.4.1.3).
type compressed struct {
	http.ResponseWriter
	gzip *gzip.Writer
}

func (c compressed) Write(b []byte) (int, error) { return c.gzip.Write(b) }

// compress wraps the writer of an answer that may be long. Until done is called not all of
// it is sent.
func compress(w http.ResponseWriter, r *http.Request) (_ http.ResponseWriter, done func()) {
	if !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		return w, func() {}
	}
	w.Header().Set("Content-Encoding", "gzip")
	fast, _ := gzip.NewWriterLevel(w, gzip.BestSpeed) // the level is one that there is
	c := compressed{w, fast}
	return c, func() { _ = c.gzip.Close() }
}

// changing answers a call whose body is a T and whose act changes a machine
// that is there.
func changing[T any](s *Sandbox, act func(*Sandbox, *call, *record, T) (contract.Task, error)) func(*call) (any, error) {
	return func(c *call) (any, error) {
		var body T
		if err := c.read(&body); err != nil {
			return nil, err
		}
		return s.change(c, func(r *record) (contract.Task, error) { return act(s, c, r, body) })
	}
}

// change finds the machine, lets the act change it and keeps what became of it.
func (s *Sandbox) change(c *call, act func(*record) (contract.Task, error)) (any, error) {
	return s.with(c, func(r *record) (any, error) {
		s.drop(r)
		t, err := act(r)
		s.add(r)
		if err != nil {
			return nil, err
		}
		return t, s.disk.keep(r)
	})
}

// with finds the machine that the call names and holds the lock meanwhile.
func (s *Sandbox) with(c *call, do func(*record) (any, error)) (any, error) {
	id, err := c.id()
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	r, err := s.find(c, id)
	if err != nil {
		return nil, err
	}
	return do(r)
}

func (s *Sandbox) find(c *call, id uuid.UUID) (*record, error) {
	r := s.machines[id]
	if r == nil || r.Site != c.site || !r.there() {
		return nil, refuse(http.StatusNotFound, "no machine %s", id)
	}
	if c.plan.down(r.Host) {
		return nil, refuse(http.StatusConflict, "host %q of machine %s is not available", r.Host, r.Name)
	}
	return r, nil
}

func (s *Sandbox) seed(c *call) (any, error) {
	image, err := io.ReadAll(c.Body)
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "the seed was not received completely: %s", err)
	}
	return s.change(c, func(r *record) (contract.Task, error) {
		return done, s.disk.writeSeed(r.ID, image)
	})
}

// examine asks a simulated guest, which has what its answers told it to have.
func (s *Sandbox) examine(c *call) (any, error) {
	var checks []contract.Check
	if err := c.read(&checks); err != nil {
		return nil, err
	}
	return s.with(c, func(r *record) (any, error) {
		if r.Power != machine.On || !r.reports() {
			return nil, refuse(http.StatusConflict, "the guest does not answer")
		}
		return slices.DeleteFunc(checks, func(check contract.Check) bool { return slices.Contains(r.Has, check) }), nil
	})
}

// longest is how long a caller is kept waiting, whatever it prefers.
const longest = 30 * time.Second

// patience is how long the caller would wait for an answer (RFC 7240, section 4.3).
func (c *call) patience() time.Duration {
	if c.hasty {
		return 0
	}
	for _, p := range strings.Split(strings.Join(c.Header.Values("Prefer"), ","), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		if seconds, err := strconv.Atoi(value); strings.EqualFold(name, "wait") && err == nil {
			return min(time.Duration(max(0, seconds))*time.Second, longest)
		}
	}
	return 0
}

// await waits until a task is settled, or as long as the caller does.
func (s *Sandbox) await(c *call, id string) {
	s.mu.Lock()
	t := s.tasks[id]
	s.mu.Unlock()
	if t == nil {
		return
	}
	select {
	case <-t.settled:
	case <-c.Context().Done():
	case <-time.After(c.patience()):
	}
}

// awaitReport waits until a guest that boots reports, or as long as the caller does.
func (s *Sandbox) awaitReport(c *call) error {
	booted, err := s.with(c, func(r *record) (any, error) {
		if r.Power != machine.On || r.Report == nil {
			return time.Now().Add(c.patience()), nil
		}
		return r.Booted, nil
	})
	if err != nil {
		return err
	}
	select {
	case <-c.Context().Done():
	case <-time.After(min(time.Until(booted.(time.Time)), c.patience())):
	}
	return nil
}

func (s *Sandbox) machine(c *call) (any, error) {
	if c.URL.Query().Get("await") == "report" && c.patience() > 0 {
		if err := s.awaitReport(c); err != nil {
			return nil, err
		}
	}
	return s.with(c, func(r *record) (any, error) { return s.inFull(r, c.plan), nil })
}

// inFull is a machine with its files and what its guest reports.
func (s *Sandbox) inFull(r *record, plan SitePlan) contract.Machine {
	m := r.machine()
	m.Files, m.Checkpoints = r.files(), r.checkpoints()
	if r.Power == machine.On && r.reports() && !plan.Silent {
		report := *r.Report
		report.Instance = r.Instance
		if len(r.Stages) > 0 && !s.stagesAt(r.Stages, r.FirstBoot, time.Now(), &report) {
			return m
		}
		report.MachineID = cmp.Or(report.MachineID, strings.ReplaceAll(r.ID.String(), "-", ""))
		m.Report = &report
	}
	return m
}

// poll tells of several tasks and machines at once. What it cannot tell of is left out: asked
// about by itself, it says why.
func (s *Sandbox) poll(c *call) (any, error) {
	var about struct {
		Tasks    []string    `json:"tasks"`
		Machines []uuid.UUID `json:"machines"`
	}
	if err := c.read(&about); err != nil {
		return nil, err
	}
	answer := struct {
		Tasks    map[string]contract.Task       `json:"tasks"`
		Machines map[uuid.UUID]contract.Machine `json:"machines"`
	}{map[string]contract.Task{}, map[uuid.UUID]contract.Machine{}}
	for _, id := range about.Tasks {
		if t, err := s.stateOf(id); err == nil {
			answer.Tasks[id] = t.(contract.Task)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, id := range about.Machines {
		if r, err := s.find(c, id); err == nil {
			answer.Machines[id] = s.inFull(r, c.plan)
		}
	}
	return answer, nil
}
