// Package request is what people ask for by sending a sheet: who may, for what, how far it has come, and what they are told.
package request

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"mintbatch/internal/core/machine"
)

// State is how far a request has come.
type State string

// The states.
const (
	Received State = "received" // nobody has looked at it yet
	Faulty   State = "faulty"   // its sheet was refused, and its sender told why
	Waiting  State = "waiting"  // for somebody to approve it
	Approved State = "approved" // its machines are being made
	Done     State = "done"
	Failed   State = "failed"  // some of its machines could not be made; it is tried again when somebody approves it again
	Refused  State = "refused" // somebody has said no
	Expired  State = "expired" // nobody has said anything for too long
	Warned   State = "warned"  // of none that was sent: an owner was told that machines are near their date
)

// Ended reports whether nothing more becomes of a request by itself.
func (s State) Ended() bool { return s != Received && s != Waiting && s != Approved }

// Request is a sheet that somebody sent.
type Request struct {
	ID       string    `json:"request"`
	Source   string    `json:"source"`           // of the setup
	Origin   string    `json:"origin"`           // what it is at its source: the name of a file, or the id of a message
	Sender   string    `json:"sender,omitempty"` // whom it is from
	Subject  string    `json:"subject,omitempty"`
	Thread   []string  `json:"thread,omitempty"` // the ids of the messages that it came in and answers
	Rule     string    `json:"rule"`             // of the setup
	Sheet    string    `json:"sheet"`            // its name
	Digest   string    `json:"digest"`           // of the sheet
	Received time.Time `json:"received"`
	State    State     `json:"state"`
	// Machines are those that it asks for, once its sheet is found right.
	Machines []machine.Key `json:"machines,omitempty"`
	// Proof identifies what would be made, as it was shown to the approvers.
	Proof string    `json:"proof,omitempty"`
	Asked time.Time `json:"asked,omitzero"` // the approvers
	// Code is the digest of the code that approves this proof.
	Code string `json:"code,omitempty"`
	// Reminded is when the approvers were asked again.
	Reminded time.Time `json:"reminded,omitzero"`
	// By has decided; it is the rule's name if the rule needs nobody to.
	By  string `json:"by,omitempty"`
	Run string `json:"run,omitempty"` // the last one that has made machines of it
	Why string `json:"why,omitempty"` // it was refused, or failed
	// Changed counts the changes, so that of two that look at it at once only one changes it.
	Changed int `json:"changed"`
}

// Command is that of the runs that make the machines of a request; the history names it so, too.
func Command(id string) string { return "request " + id }

// Asks reports whether it asks for a machine, under whichever of its names.
func (r Request) Asks(key machine.Key, origin machine.Origin) bool {
	return slices.ContainsFunc(origin.Names(key), func(name string) bool { return slices.Contains(r.Machines, machine.Key{Site: key.Site, Name: name}) })
}

// Names are those of its machines.
func (r Request) Names() []string {
	names := make([]string, len(r.Machines))
	for i, key := range r.Machines {
		names[i] = key.Name
	}
	return names
}

// Has are the machines that requests have asked for and that are, or are being, made, with the ids of these.
type Has map[machine.Key]string

// Of gathers them.
func Of(all []Request) Has {
	has := Has{}
	for _, r := range all {
		if r.State == Approved || r.State == Done || r.State == Failed || r.Run != "" {
			for _, key := range r.Machines {
				has[key] = r.ID
			}
		}
	}
	return has
}

// Made reports whether a machine was asked for by a request, under whichever of its names: no row of another sheet needs to ask for it.
func (h Has) Made(key machine.Key, origin machine.Origin) bool { return h.Which(key, origin) != "" }

// Which is the request that has asked for a machine; empty if none has.
func (h Has) Which(key machine.Key, origin machine.Origin) string {
	for _, name := range origin.Names(key) {
		if id := h[machine.Key{Site: key.Site, Name: name}]; id != "" {
			return id
		}
	}
	return ""
}

// ID is that of a request: the same for the same sheet from the same origin, whoever takes it in.
func ID(source, origin string, content []byte) string {
	h := sha256.New()
	for _, part := range []string{source, origin, string(content)} {
		inner := sha256.Sum256([]byte(part))
		h.Write(inner[:])
	}
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(h.Sum(nil)))[:10]
}

// CodeDigest is by what a code is known again, however it was written.
func CodeDigest(code string) string {
	plain := strings.ToUpper(strings.NewReplacer("-", "", ".", "", "*", "", "_", "").Replace(code))
	sum := sha256.Sum256([]byte("code\x00" + plain))
	return hex.EncodeToString(sum[:])
}

// Letter is what somebody is told of a request.
type Letter struct {
	ID      string   `json:"id"` // the same each time that it is sent
	Request string   `json:"request"`
	Source  string   `json:"source"`
	Kind    Kind     `json:"kind"`
	To      []string `json:"to,omitempty"` // addresses; at a folder nobody's
	Subject string   `json:"subject"`
	Text    string   `json:"text"`
	HTML    string   `json:"html"`
	Thread  []string `json:"thread,omitempty"` // the ids of the messages that it answers
	// Token is known to those only who have got the letter.
	Token string    `json:"token,omitempty"`
	At    time.Time `json:"at,omitzero"`
	// Sending is set from when somebody began to send it.
	Sending time.Time `json:"sending,omitzero"`
	Files   []File    `json:"files,omitempty"`
}

// Kind is what a letter is about.
type Kind string

// The kinds of letters.
const (
	Findings  Kind = "findings"  // what is wrong with the sheet
	Proposal  Kind = "proof"     // what would be made, for the sender
	Question  Kind = "approval"  // the same, for the approvers, with the code
	Reminder  Kind = "reminder"  // the same once more
	Confirmed Kind = "confirmed" // what was made
	Failure   Kind = "failed"
	Refusal   Kind = "refused"
	Closed    Kind = "expired"
	Cause     Kind = "cause" // of a failure, for administrators
	// Letters to owners.
	Warning     Kind = "warning" // that machines are near their date
	Extended    Kind = "extended"
	NotExtended Kind = "notextended"
)

// File is a file that goes with a letter.
type File struct {
	Name    string `json:"name"`
	Content []byte `json:"content"`
}
