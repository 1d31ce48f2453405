// Package dialect reads dialect files and turns them into exchanges.
//
// A dialect says how one firmware family is spoken to. This package parses and
// validates the file, encodes requests from typed values, and reads replies
// and messages back into facts. It never sends anything, opens no connection,
// and a file can reach no more than the values it is given: package reach and
// package broker carry what is encoded here, to the one unit it is meant for.
package dialect

import (
	"regexp"
	"strings"

	"fado/internal/core/inventory"
	"fado/internal/core/settings"
	"fado/internal/core/version"
)

// Dialect is a parsed and validated dialect file.
type Dialect struct {
	Name     string     `yaml:"dialect"`
	Title    string     `yaml:"title"`
	Grammar  int        `yaml:"grammar"`
	SetUp    SetUp      `yaml:"set_up"`
	Identify Exchange   `yaml:"identify"`
	Networks *Listing   `yaml:"networks"`
	Settings []Page     `yaml:"settings"`
	Commit   *Exchange  `yaml:"commit"`
	Messages []Message  `yaml:"messages"`
	Commands []Exchange `yaml:"commands"`
	Asks     Asks       `yaml:"asks"`
	Updates  []Delivery `yaml:"updates"`

	accessPoint *regexp.Regexp
}

// SetUp says how a unit in set-up mode is recognised and reached.
type SetUp struct {
	AccessPoint AccessPoint `yaml:"access_point"`
	At          string      `yaml:"at"` // base URL of the set-up pages
	Login       *Login      `yaml:"login"`
}

// AccessPoint describes the name and the key of a unit's access point.
type AccessPoint struct {
	Name string `yaml:"name"` // pattern with {digits} or {last6}
	Open bool   `yaml:"open"`
	Key  string `yaml:"key"` // placeholder of its key, when it is not open
}

// Login says how a set-up page is signed in to.
type Login struct {
	Kind     string    `yaml:"kind"` // basic, digest, form or token
	User     string    `yaml:"user"`
	Password string    `yaml:"password"`
	Form     *Exchange `yaml:"form"`
	Token    string    `yaml:"token"` // fact that carries the token
	Header   string    `yaml:"header"`
}

// Condition limits an exchange to some models or firmware versions.
type Condition struct {
	Models   []string `yaml:"models"`
	From     string   `yaml:"from"`   // this version or later
	Before   string   `yaml:"before"` // earlier than this version
	Declares string   `yaml:"capability"`
}

// Exchange is one request and the way its reply is read. Exactly one of Get,
// Put, Post, Delete and Publish is set.
type Exchange struct {
	Title     string                       `yaml:"title"`
	When      *Condition                   `yaml:"when"`
	Get       string                       `yaml:"get"`
	Put       string                       `yaml:"put"`
	Post      string                       `yaml:"post"`
	Delete    string                       `yaml:"delete"`
	Publish   string                       `yaml:"publish"`
	Query     map[string]string            `yaml:"query"`
	JSON      any                          `yaml:"json"`
	Form      map[string]string            `yaml:"form"`
	Multipart map[string]string            `yaml:"multipart"`
	Text      string                       `yaml:"text"`
	Expect    []int                        `yaml:"expect"` // statuses that mean success; empty: any 2xx
	Restarts  bool                         `yaml:"restarts"`
	Retries   int                          `yaml:"retries"`
	WaitMS    int                          `yaml:"wait_ms"`
	ReadJSON  map[string]string            `yaml:"read_json"` // fact to JSON Pointer (RFC 6901)
	ReadText  map[string]string            `yaml:"read_text"` // fact to anchored pattern
	Values    map[string]map[string]string `yaml:"values"`    // fact to (unit's word to ours)

	patterns map[string]*regexp.Regexp
}

// Listing is an exchange whose reply is a list.
type Listing struct {
	Exchange `yaml:",inline"`
	Each     string `yaml:"each"` // JSON Pointer to the list
}

// Page is a group of settings that is written in one request.
type Page struct {
	Exchange `yaml:",inline"`
	Sets     []settings.Key `yaml:"sets"`
	ReadBack *Exchange      `yaml:"read_back"`
}

// Message is something that a unit says on the broker.
type Message struct {
	Kind     MessageKind                  `yaml:"kind"`
	Topic    string                       `yaml:"topic"`
	Retained bool                         `yaml:"retained"`
	ReadJSON map[string]string            `yaml:"read_json"`
	ReadText map[string]string            `yaml:"read_text"`
	Values   map[string]map[string]string `yaml:"values"`

	patterns map[string]*regexp.Regexp
	topic    *regexp.Regexp
}

// MessageKind says what a message is about.
type MessageKind string

// The kinds of message.
const (
	Presence MessageKind = "presence"
	Identity MessageKind = "unit"
	Reported MessageKind = "settings"
	State    MessageKind = "state"
	Health   MessageKind = "health"
	Answer   MessageKind = "answer"
	Progress MessageKind = "update"
	Wake     MessageKind = "wake"
)

// Asks are the requests that any unit of the family understands in service.
type Asks struct {
	Report  *Exchange `yaml:"report"`
	Blink   *Exchange `yaml:"blink"`
	Restart *Exchange `yaml:"restart"`
	Leave   *Exchange `yaml:"leave"` // forget everything, back to set-up mode
}

// Delivery is one way in which the family takes an image.
type Delivery struct {
	Way         string   `yaml:"way"`         // pull, push or maker
	Interrupted string   `yaml:"interrupted"` // safe or dead
	Reverts     bool     `yaml:"reverts"`
	Resumes     bool     `yaml:"resumes"`
	AtWake      bool     `yaml:"at_wake"`
	Start       Exchange `yaml:"start"`
}

// Facts is what was read from a reply or a message, by name.
type Facts map[string]any

// Text returns a fact as text, "" when it is absent.
func (f Facts) Text(name string) string {
	switch v := f[name].(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return plainText(f[name])
}

// Number returns a numeric fact; ok is false when it is absent or no number.
func (f Facts) Number(name string) (n float64, ok bool) { return number(f[name]) }

// Subject is the unit that an exchange is for, as conditions see it.
type Subject struct {
	Model   inventory.Model
	Version string
}

// Holds reports whether the condition, which may be nil, holds for the unit. A
// version bound fails when the version is unknown or cannot be ordered.
func (c *Condition) Holds(s Subject) bool {
	if c == nil {
		return true
	}
	if len(c.Models) > 0 {
		found := false
		for _, m := range c.Models {
			found = found || m == s.Model.Name
		}
		if !found {
			return false
		}
	}
	if c.From != "" {
		if o := version.CompareText(s.Version, c.From); o != version.Equal && o != version.Greater {
			return false
		}
	}
	if c.Before != "" && version.CompareText(s.Version, c.Before) != version.Less {
		return false
	}
	if c.Declares != "" {
		if _, ok := s.Model.Capability(c.Declares); !ok {
			return false
		}
	}
	return true
}

// MatchAccessPoint tells whether an access point's name is one of this
// family's, and which digits of the hardware id it carries: all twelve, or the
// last six, which are a hint and no proof.
func (d *Dialect) MatchAccessPoint(name string) (digits string, ok bool) {
	m := d.accessPoint.FindStringSubmatch(name)
	if m == nil {
		return "", false
	}
	return strings.ToLower(m[1]), true
}

// Supports reports whether the dialect can write a setting to this unit.
func (d *Dialect) Supports(key settings.Key, s Subject) bool {
	for _, p := range d.Settings {
		if !p.When.Holds(s) {
			continue
		}
		for _, k := range p.Sets {
			if k == key {
				return true
			}
		}
	}
	return false
}

// ReadsBack reports whether a setting can be read from the unit, over its
// pages or from what it says on the broker. Secrets never can.
func (d *Dialect) ReadsBack(key settings.Key, s Subject) bool {
	for _, p := range d.Settings {
		if p.When.Holds(s) && p.ReadBack != nil && p.ReadBack.reads(string(key)) {
			return true
		}
	}
	for _, m := range d.Messages {
		if _, ok := m.ReadJSON[string(key)]; ok && m.Kind == Reported {
			return true
		}
	}
	return false
}

// AnswersCommands reports whether units of the family acknowledge each command.
// Where they do not, a state that follows may be a periodic one.
func (d *Dialect) AnswersCommands() bool {
	for _, m := range d.Messages {
		if _, ok := m.ReadJSON["command"]; ok && m.Kind == Answer {
			return true
		}
	}
	return false
}

func (e *Exchange) reads(fact string) bool {
	_, j := e.ReadJSON[fact]
	_, t := e.ReadText[fact]
	return j || t
}

// Delivery returns the first way of updating whose conditions hold.
func (d *Dialect) Delivery(s Subject) (Delivery, bool) {
	for _, u := range d.Updates {
		if u.Start.When.Holds(s) {
			return u, true
		}
	}
	return Delivery{}, false
}

// Risky reports whether an interruption can kill the unit.
func (d Delivery) Risky() bool { return d.Interrupted == "dead" }

// Command returns the exchange that sets a capability.
func (d *Dialect) Command(capability string, s Subject) (Exchange, bool) {
	for _, c := range d.Commands {
		if c.When.Holds(s) {
			return c, true
		}
	}
	return Exchange{}, false
}

// PagesFor returns the pages to write for these settings, in the file's order,
// and the settings that no page can write.
func (d *Dialect) PagesFor(want settings.Values, s Subject) (pages []Page, left []settings.Key) {
	for _, p := range d.Settings {
		if !p.When.Holds(s) {
			continue
		}
		for _, k := range p.Sets {
			if _, ok := want[k]; ok {
				pages = append(pages, p)
				break
			}
		}
	}
	for _, spec := range settings.Specs {
		if _, ok := want[spec.Key]; ok && !d.Supports(spec.Key, s) {
			left = append(left, spec.Key)
		}
	}
	return pages, left
}

// Restarts counts the restarts that writing these pages takes.
func (d *Dialect) Restarts(pages []Page) int {
	n := 0
	for _, p := range pages {
		if p.Restarts {
			n++
		}
	}
	if d.Commit != nil && d.Commit.Restarts && len(pages) > 0 {
		n++
	}
	return n
}
