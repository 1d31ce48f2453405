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
	Service  *InService `yaml:"in_service"`
	Backup   *Exchange  `yaml:"backup"` // the unit's whole configuration, as it keeps it
	Messages []Message  `yaml:"messages"`
	Commands []Exchange `yaml:"commands"`
	Asks     Asks       `yaml:"asks"`
	Updates  []Delivery `yaml:"updates"`
	// Announces is how its units in service are found by DNS-SD; nil when they do
	// not announce themselves.
	Announces *Announcement `yaml:"announces"`

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

// Login says how a unit's pages are signed in to.
type Login struct {
	Kind     string       `yaml:"kind"` // basic, digest, form or token
	User     string       `yaml:"user"`
	Password string       `yaml:"password"`
	Factory  *Credentials `yaml:"factory"` // what a fresh unit wants; an empty one wants nothing
	Form     *Exchange    `yaml:"form"`    // form and token: the request that signs in
	Header   string       `yaml:"header"`  // token: the header that carries it
	Value    string       `yaml:"value"`   // token: what the header says, such as "Bearer {token}"
}

// Credentials are a user and a password, or their placeholders.
type Credentials struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// The kinds of login.
const (
	BasicLogin  = "basic"
	DigestLogin = "digest"
	FormLogin   = "form"
	TokenLogin  = "token"
)

// InService says how the settings of a unit in service are changed: over the
// pages of set-up, at the unit's own address, or by messages on the broker.
type InService struct {
	By       string    `yaml:"by"` // pages or messages
	At       string    `yaml:"at"` // pages: base URL, such as "http://{address}"
	AtWake   bool      `yaml:"at_wake"`
	Settings []Page    `yaml:"settings"` // messages
	Commit   *Exchange `yaml:"commit"`   // messages
}

// The ways of InService.
const (
	ByPages    = "pages"
	ByMessages = "messages"
)

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
	Retries   int                          `yaml:"retries"` // further tries when the unit does not answer, or not yet as Until says
	WaitMS    int                          `yaml:"wait_ms"` // pause before each request
	Until     map[string]string            `yaml:"until"`   // facts that the reply must give
	Headers   map[string]string            `yaml:"headers"`
	ReadJSON  map[string]string            `yaml:"read_json"` // fact to JSON Pointer (RFC 6901)
	ReadText  map[string]string            `yaml:"read_text"` // fact to anchored pattern
	ReadEach  map[string]Each              `yaml:"read_each"` // family of settings to where its items are
	Values    map[string]map[string]string `yaml:"values"`    // fact to (unit's word to ours)
	Scale     map[string]float64           `yaml:"scale"`     // fact to what one of the unit's numbers is worth

	patterns map[string]*regexp.Regexp
	each     map[string]*regexp.Regexp
}

// Each says where the items of a family of settings are found in a reply: in a
// list or an object, or in every line that matches a pattern.
type Each struct {
	In       string            `yaml:"in"`        // JSON Pointer to the list or the object
	ReadJSON map[string]string `yaml:"read_json"` // field to JSON Pointer within an item
	Name     string            `yaml:"name"`      // what an object's member name is: label, pin or capability
	ReadText string            `yaml:"read_text"` // pattern with a group a field
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
	Whole    bool           `yaml:"whole"`  // what is not sent is forgotten; else it stays as it was
	Leaves   bool           `yaml:"leaves"` // after it the unit is no longer in set-up mode
	ReadBack *Exchange      `yaml:"read_back"`
}

// Message is something that a unit says on the broker.
type Message struct {
	Kind     MessageKind                  `yaml:"kind"`
	Topic    string                       `yaml:"topic"`
	Retained bool                         `yaml:"retained"`
	ReadJSON map[string]string            `yaml:"read_json"`
	ReadText map[string]string            `yaml:"read_text"`
	ReadEach map[string]Each              `yaml:"read_each"`
	Values   map[string]map[string]string `yaml:"values"`
	Scale    map[string]float64           `yaml:"scale"`

	patterns map[string]*regexp.Regexp
	each     map[string]*regexp.Regexp
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
	// Newest takes a version that is not known yet for the newest there is. It is
	// for showing what would be sent; nothing is sent on it.
	Newest bool
}

// Bounded reports whether what is sent depends on the unit's version.
func (d *Dialect) Bounded() bool {
	for _, p := range d.Settings {
		if p.When != nil && (p.When.From != "" || p.When.Before != "") {
			return true
		}
	}
	return false
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
	if s.Newest && s.Version == "" {
		return c.Before == "" && c.declared(s)
	}
	if c.From != "" {
		if o := version.CompareText(s.Version, c.From); o != version.Equal && o != version.Greater {
			return false
		}
	}
	if c.Before != "" && version.CompareText(s.Version, c.Before) != version.Less {
		return false
	}
	return c.declared(s)
}

func (c *Condition) declared(s Subject) bool {
	if c.Declares == "" {
		return true
	}
	_, ok := s.Model.Capability(c.Declares)
	return ok
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
	return pagesSet(d.Settings, key, s) || d.Service != nil && pagesSet(d.Service.Settings, key, s)
}

func pagesSet(pages []Page, key settings.Key, s Subject) bool {
	for _, p := range pages {
		if p.When.Holds(s) && p.sets(key) {
			return true
		}
	}
	return false
}

// sets reports whether a page writes a setting, by its key or its family.
func (p *Page) sets(key settings.Key) bool {
	family, _, _, isFamily := settings.Split(key)
	for _, k := range p.Sets {
		if k == key || isFamily && string(k) == family.Name {
			return true
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
		if m.Kind == Reported && readsFact(string(key), m.ReadJSON, m.ReadText, m.ReadEach) {
			return true
		}
	}
	return false
}

// Says reports whether units of the family tell something on the broker.
func (d *Dialect) Says(kind MessageKind) bool {
	for _, m := range d.Messages {
		if m.Kind == kind {
			return true
		}
	}
	return false
}

// TellsDigest reports whether units of the family tell the digest of what they run.
func (d *Dialect) TellsDigest() bool {
	for _, m := range d.Messages {
		if (m.Kind == Identity || m.Kind == Wake) && readsFact("digest", m.ReadJSON, m.ReadText, nil) {
			return true
		}
	}
	return false
}

// AnswersAsks reports whether units of the family say whether they accept what they
// are asked.
func (d *Dialect) AnswersAsks() bool {
	for _, m := range d.Messages {
		if m.Kind == Answer && readsFact("accepted", m.ReadJSON, m.ReadText, nil) && readsFact("reply_to", m.ReadJSON, m.ReadText, nil) {
			return true
		}
	}
	return false
}

// Sleeps reports whether units of the family are awake for moments only.
func (d *Dialect) Sleeps() bool { return d.Says(Wake) }

// AnswersCommands reports whether units of the family acknowledge each command.
// Where they do not, a state that follows may be a periodic one.
func (d *Dialect) AnswersCommands() bool {
	for _, m := range d.Messages {
		if m.Kind == Answer && readsFact("command", m.ReadJSON, m.ReadText, nil) {
			return true
		}
	}
	return false
}

// NamesAsks reports whether messages of a kind repeat the name of the ask that
// they answer.
func (d *Dialect) NamesAsks(kind MessageKind) bool {
	for _, m := range d.Messages {
		if m.Kind == kind && readsFact("reply_to", m.ReadJSON, m.ReadText, nil) {
			return true
		}
	}
	return false
}

func (e *Exchange) reads(fact string) bool {
	return readsFact(fact, e.ReadJSON, e.ReadText, e.ReadEach)
}

func readsFact(fact string, pointers, patterns map[string]string, each map[string]Each) bool {
	_, j := pointers[fact]
	_, t := patterns[fact]
	family, _, _, _ := settings.Split(settings.Key(fact))
	_, e := each[family.Name]
	if fact == string(settings.AddressPrefix) && readsFact("address.mask", pointers, patterns, nil) {
		return true
	}
	return j || t || e && family.Name != ""
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
