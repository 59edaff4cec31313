// Package notice is what other systems are told of machines and runs: events, requests that carry them, and what is taken from
// the answers.
package notice

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"text/template"
	"time"

	"mintbatch/internal/core/machine"
)

// Kind is what an event is about.
type Kind string

// The kinds of events.
const (
	Confirmed Kind = "confirmed" // a machine is made: its guest is confirmed, or it is not to be started
	Remade    Kind = "remade"    // a machine that was made before was cloned again
	Changed   Kind = "changed"   // a made machine was changed, accepted or renamed
	Retired   Kind = "retired"
	Failed    Kind = "failed" // a machine, in a run
	RunEnded  Kind = "run-ended"
)

// Words lists the kinds.
func (Kind) Words() []string {
	return []string{string(Confirmed), string(Remade), string(Changed), string(Retired), string(Failed), string(RunEnded)}
}

// Event is something that has happened.
type Event struct {
	Kind    Kind     `json:"event"`
	Run     Run      `json:"run"`
	Machine *Machine `json:"machine,omitempty"`
	// Error is why a machine has failed, and Step at which step.
	Error string `json:"error,omitempty"`
	Step  string `json:"step,omitempty"`
	// Outcome is how a run has ended, and Machines how many it was about.
	Outcome  string `json:"outcome,omitempty"`
	Machines int    `json:"machines,omitempty"`
	// Taken are the values that were taken from the answers to earlier notices about the machine.
	Taken map[string]string `json:"taken,omitempty"`
}

// Run is the run in which it has happened.
type Run struct {
	ID      string `json:"id"`
	Command string `json:"command,omitempty"`
	User    string `json:"user,omitempty"`
	Host    string `json:"computer,omitempty"`
}

// Machine is the machine that an event is about.
type Machine struct {
	Site       string            `json:"site"`
	Name       string            `json:"name"`
	Identity   string            `json:"identity"`
	Generation int               `json:"generation"`
	Hostname   string            `json:"hostname"`
	FQDN       string            `json:"fqdn"`
	Addresses  []string          `json:"addresses"` // that stay its own
	MACs       []string          `json:"macs"`
	Networks   []string          `json:"networks"`
	Template   string            `json:"template"`
	Preset     string            `json:"preset"`
	CPUs       int               `json:"cpus"`
	Memory     int64             `json:"memory_mib"`
	Disk       int64             `json:"disk_mib"`
	Owner      string            `json:"owner"`
	Notes      string            `json:"notes"`
	Until      string            `json:"until"`
	Keep       string            `json:"keep"`
	Labels     map[string]string `json:"labels"`
}

// About describes a machine.
func About(m *machine.Machine, identity string, generation int) *Machine {
	a := &Machine{Site: m.Site, Name: m.Name, Identity: identity, Generation: generation, Hostname: m.Guest.Hostname, FQDN: m.Guest.FQDN(), Addresses: []string{},
		Template: m.Template, Preset: m.Preset, CPUs: m.Shape.CPUs, Memory: int64(m.Shape.Memory / machine.MiB), Disk: int64(m.Shape.Disk / machine.MiB),
		Owner: m.Info.Owner, Notes: m.Info.Notes, Until: m.Info.Until, Keep: m.Info.Keep, Labels: m.Info.Labels, MACs: []string{}, Networks: []string{}}
	if a.Labels == nil {
		a.Labels = map[string]string{}
	}
	for _, adapter := range m.Adapters {
		a.MACs, a.Networks = append(a.MACs, adapter.MAC), append(a.Networks, adapter.Network)
		for _, p := range adapter.Given() {
			a.Addresses = append(a.Addresses, p.Addr().String())
		}
	}
	return a
}

// Envelope is a message with an event in it: a CloudEvent in structured mode (CloudEvents 1.0, section 3.1).
type Envelope struct {
	SpecVersion     string `json:"specversion"`
	ID              string `json:"id"`
	Source          string `json:"source"`
	Type            string `json:"type"`
	Subject         string `json:"subject,omitempty"`
	Time            string `json:"time"`
	DataContentType string `json:"datacontenttype"`
	Data            Event  `json:"data"`
}

// Wrap puts an event into its envelope; id is the same each time that it is sent.
func Wrap(e Event, id, ledger string, at time.Time) Envelope {
	w := Envelope{SpecVersion: "1.0", ID: id, Source: "urn:uuid:" + ledger, Type: "mintbatch." + string(e.Kind), Time: at.UTC().Format(time.RFC3339), DataContentType: "application/json", Data: e}
	if e.Machine != nil {
		w.Subject = e.Machine.Site + "/" + e.Machine.Name
	}
	return w
}

// The media types of bodies.
const (
	CloudEvent = "application/cloudevents+json"
	JSON       = "application/json"
)

// Form is how requests are written.
type Form struct {
	URL  string // a template
	Body string // a template; empty for the envelope itself
}

// functions are what templates have besides those of text/template.
var functions = template.FuncMap{"json": func(v any) (string, error) {
	text, err := json.Marshal(v)
	return string(text), err
}}

// Parse finds what is wrong with the templates of a form.
func (f Form) Parse() error {
	for _, text := range []string{f.URL, f.Body} {
		if _, err := template.New("").Funcs(functions).Parse(text); err != nil {
			return errors.New(strings.TrimPrefix(err.Error(), "template: :"))
		}
	}
	return nil
}

// Address writes the address of a request. Values in it are escaped, so that none of them can be another path or another host.
func (f Form) Address(e Envelope) (*url.URL, error) {
	text, err := Fill(f.URL, e.Data, url.PathEscape)
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(string(text))
	if err == nil && u.Host == "" {
		err = errors.New("it has no host")
	}
	if err != nil {
		return nil, fmt.Errorf("address %q: %w", text, err)
	}
	return u, nil
}

// Content writes the body of a request.
func (f Form) Content(e Envelope) ([]byte, error) {
	if f.Body == "" {
		return json.Marshal(e)
	}
	return Fill(f.Body, e.Data, func(s string) string { return s })
}

// Fill executes a template on a value, as its JSON form has it: values by the keys of the documents, and texts escaped.
func Fill(text string, value any, escape func(string) string) ([]byte, error) {
	t, err := template.New("").Funcs(functions).Option("missingkey=error").Parse(text)
	if err != nil {
		return nil, err
	}
	encoded, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	var data any
	d := json.NewDecoder(bytes.NewReader(encoded))
	d.UseNumber()
	if err := d.Decode(&data); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := t.Execute(&b, escaped(data, escape)); err != nil {
		return nil, fmt.Errorf("fill in the template: %s", lastPart(err))
	}
	return b.Bytes(), nil
}

// lastPart is an error without the places in a template that has no name.
func lastPart(err error) string {
	text := err.Error()
	if _, behind, ok := strings.Cut(text, ">: "); ok {
		return behind
	}
	return text
}

func escaped(v any, escape func(string) string) any {
	switch v := v.(type) {
	case string:
		return escape(v)
	case []any:
		for i := range v {
			v[i] = escaped(v[i], escape)
		}
	case map[string]any:
		for k := range v {
			v[k] = escaped(v[k], escape)
		}
	}
	return v
}

// Take finds values in an answer, by the JSON Pointers (RFC 6901) of their names.
func Take(answer []byte, pointers map[string]string) (map[string]string, error) {
	if len(pointers) == 0 {
		return nil, nil
	}
	var document any
	d := json.NewDecoder(bytes.NewReader(answer))
	d.UseNumber()
	if err := d.Decode(&document); err != nil {
		return nil, fmt.Errorf("the answer is no JSON: %w", err)
	}
	taken := map[string]string{}
	for name, pointer := range pointers {
		v, err := at(document, pointer)
		if err != nil {
			return nil, fmt.Errorf("%s: the answer has nothing at %s: %w", name, pointer, err)
		}
		switch v := v.(type) {
		case string:
			taken[name] = v
		case json.Number:
			taken[name] = v.String()
		case bool:
			taken[name] = strconv.FormatBool(v)
		default:
			return nil, fmt.Errorf("%s: what the answer has at %s is no single value", name, pointer)
		}
		if len(taken[name]) > longestValue || strings.ContainsFunc(taken[name], func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return nil, fmt.Errorf("%s: what the answer has at %s is longer than %d characters, or no text", name, pointer, longestValue)
		}
	}
	return taken, nil
}

// longestValue is how long a value may be that is taken.
const longestValue = 500

// CheckPointer reports whether a text is a JSON Pointer.
func CheckPointer(pointer string) error {
	if pointer != "" && !strings.HasPrefix(pointer, "/") {
		return errors.New("a JSON Pointer begins with /")
	}
	return nil
}

func at(v any, pointer string) (any, error) {
	if pointer == "" {
		return v, nil
	}
	for _, token := range strings.Split(pointer[1:], "/") {
		token = strings.NewReplacer("~1", "/", "~0", "~").Replace(token)
		switch in := v.(type) {
		case map[string]any:
			next, is := in[token]
			if !is {
				return nil, fmt.Errorf("there is no %q", token)
			}
			v = next
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 || i >= len(in) {
				return nil, fmt.Errorf("there is no item %q", token)
			}
			v = in[i]
		default:
			return nil, fmt.Errorf("nothing can be below %q", token)
		}
	}
	return v, nil
}
