package store

import (
	"encoding/json"
	"strings"
	"time"
)

// Site is one home or premises.
type Site struct {
	ID              string `gorm:"primaryKey"`
	Key             string `gorm:"uniqueIndex"`
	Name            string
	Zone            string
	Reach           string // on premises, routed or broker only
	NetworkID       *string
	BrokerID        *string
	HubID           *string
	SchemeHostname  string
	SchemeTopic     string
	SchemeLabel     string
	DownloadAddress string
	DownloadProven  *time.Time
	DownloadProof   string
	DownloadKiB     int    // a second, for all units of the site together; 0 for no limit
	Proxy           string // HTTP proxy through which its network is reached
	NameServer      string // host:port of the DNS server that lists what is in its network
	Domain          string // under which it lists that
	Range           string // of its units' addresses, CIDR
	Reserved        string // addresses and ranges that no unit is given, comma-separated
	AllowUnsigned   bool
	AllowDowngrade  bool
	AllowRisky      bool
	LeastBattery    int
	Baseline        bool  // units are adopted on the intended firmware only
	Version         int64 // counts edits, for If-Match
}

// Room is a place in a site.
type Room struct {
	ID     string `gorm:"primaryKey"`
	SiteID string `gorm:"uniqueIndex:room_name"`
	Site   *Site  `gorm:"constraint:OnDelete:CASCADE"`
	Name   string `gorm:"uniqueIndex:room_name"`
}

// Network is a Wi-Fi network.
type Network struct {
	ID         string `gorm:"primaryKey"`
	SiteID     string `gorm:"uniqueIndex:network_ssid"`
	Site       *Site  `gorm:"constraint:OnDelete:CASCADE"`
	SSID       string `gorm:"column:ssid;uniqueIndex:network_ssid"`
	Passphrase []byte // sealed
	Version    int64
}

// Broker is an MQTT broker.
type Broker struct {
	ID       string `gorm:"primaryKey"`
	Name     string `gorm:"uniqueIndex"`
	Kind     string // embedded, external or managed
	Host     string // as units reach it
	Port     int
	TLS      bool
	CA       string
	User     string
	Password []byte // sealed; handed to units of an external broker
	Version  int64
	// Certificates says that units sign in with a certificate of the broker's authority,
	// besides their account.
	Certificates bool
}

// Hub is a home's automation hub.
type Hub struct {
	ID        string `gorm:"primaryKey"`
	Name      string `gorm:"uniqueIndex"`
	Directory string // base URL
	Token     []byte // sealed
	Account   string // its account on the broker
	Notice    string // by which it is told over the broker, instead of its directory
	Version   int64

	AnsweredAt   *time.Time
	Trouble      string // what hinders it now, "" for nothing
	TroubleSince *time.Time
}

// Posted is a message that the broker keeps for a hub that listens.
type Posted struct {
	HubID    string `gorm:"primaryKey"`
	DeviceID string `gorm:"primaryKey"`
	Topic    string `gorm:"primaryKey"`
}

// File is a model, dialect or notice file as it was given.
type File struct {
	Kind      string `gorm:"primaryKey"` // model, dialect or notice
	Name      string `gorm:"primaryKey"`
	Body      string
	UpdatedAt time.Time
}

// Device is a job to be done at a site. The second half repeats what its unit
// said last, for lists.
type Device struct {
	ID         string `gorm:"primaryKey"`
	SiteID     string `gorm:"uniqueIndex:device_hostname,where:stage <> 'retired';index:device_page,priority:1"`
	Site       *Site  `gorm:"constraint:OnDelete:RESTRICT"`
	RoomID     *string
	Name       string `gorm:"index:device_page,priority:2"`
	Model      string `gorm:"index"`
	Tags       string // comma-separated, with a comma at both ends
	HardwareID string `gorm:"index"`
	Ending     string // last digits of the hardware id, as long as no more of it is known
	Hostname   string `gorm:"uniqueIndex:device_hostname"`
	BrokerID   string `gorm:"uniqueIndex:device_topic,where:stage <> 'retired'"`
	Topic      string `gorm:"uniqueIndex:device_topic"`
	Label      string
	SetUpCode  []byte // sealed
	Stage      string `gorm:"index"`
	Search     string // folded name, room, label, hostname, tags, hardware id
	Version    int64
	CreatedAt  time.Time
	UpdatedAt  time.Time

	UnitID    *string
	Presence  string `gorm:"index"`
	Firmware  string
	Running   string // version
	Digest    string
	Standing  string `gorm:"index"`
	Attention string `gorm:"index"` // why it needs a person, "" when it does not
	Drift     int    `gorm:"index"` // settings that differ
	Battery   *int   // percent, as its unit said last
	Address   string
	// LiveTopic is the topic that its unit still uses, while another one is
	// intended; "" when they are the same.
	LiveTopic  string `gorm:"index"`
	WokeAt     *time.Time
	AwakeUntil *time.Time // of a unit that sleeps
	// KeepsPlace says that the hub keeps its thing while its unit is being replaced.
	KeepsPlace bool
}

// TopicInUse is the topic under which the device's unit speaks now.
func (d Device) TopicInUse() string {
	if d.LiveTopic != "" {
		return d.LiveTopic
	}
	return d.Topic
}

// Unit is a piece of hardware.
type Unit struct {
	ID         string `gorm:"primaryKey"`
	HardwareID string `gorm:"uniqueIndex"`
	Model      string
	FirstSeen  time.Time
}

// Tenure says which unit filled a device, and when.
type Tenure struct {
	ID       int64  `gorm:"primaryKey"`
	DeviceID string `gorm:"index"`
	UnitID   string
	Since    time.Time
	Until    *time.Time
}

// Intended is one intended setting at one scope.
type Intended struct {
	Scope    string `gorm:"primaryKey"` // site, model or device
	ScopeID  string `gorm:"primaryKey"` // model scope: site/model
	Key      string `gorm:"primaryKey"`
	Value    string // JSON; "" when sealed
	Sealed   []byte
	Revision int64
	Actor    string
	At       time.Time
}

// Revision is one change of what is intended.
type Revision struct {
	ID    int64 `gorm:"primaryKey"`
	At    time.Time
	Actor string
	What  string
}

// Fact is a setting of a device as handed over, reported or proven.
type Fact struct {
	DeviceID string `gorm:"primaryKey"`
	Kind     string `gorm:"primaryKey"` // handed over, reported or proof
	Key      string `gorm:"primaryKey"`
	UnitID   string
	Value    string // handed over: keyed hash; reported: JSON; proof: what proved it
	At       time.Time
	Since    time.Time // reported: when it first said this value
}

// SealedCopy is a unit's whole configuration as the unit keeps it, sealed.
type SealedCopy struct {
	ID       string `gorm:"primaryKey"`
	DeviceID string `gorm:"index"`
	UnitID   string
	At       time.Time
	Why      string
	Size     int
	Hash     string // keyed, of the content
	Sealed   []byte
}

// Account is an account on a broker whose accounts Fado keeps.
type Account struct {
	Name       string `gorm:"primaryKey"`
	Kind       string // unit or hub
	UnitID     string `gorm:"index"`
	HubID      string
	DeviceID   string `gorm:"index"`
	Hash       string // keyed hash of the secret
	Sealed     []byte // the secret, until it was seen in use; for a broker elsewhere as long as it lives
	Generation int
	SeenAt     *time.Time
	RevokedAt  *time.Time
	LiveAt     *time.Time // when a broker elsewhere took it
}

// Online is a device whose unit is online, with a live account of it: all that
// watching over many sessions needs.
type Online struct {
	ID, SiteID, Name, Account string
}

// Authority is the certification authority of a broker.
type Authority struct {
	BrokerID    string `gorm:"primaryKey"`
	Certificate string // PEM
	Key         []byte // sealed
	Lists       int64  // lists of revoked certificates that were signed
	CreatedAt   time.Time
}

// Certificate is one that an authority has signed.
type Certificate struct {
	Serial    string `gorm:"primaryKey"` // hexadecimal
	BrokerID  string `gorm:"index"`
	Kind      string // unit or server
	Account   string `gorm:"index"` // unit: whose it is
	DeviceID  string `gorm:"index"`
	Names     string // server: comma-separated
	PEM       string
	Key       []byte // sealed; nil when it was made elsewhere
	From      time.Time
	Until     time.Time
	SeenAt    *time.Time // when a unit signed in with it
	RevokedAt *time.Time
	Reason    string
}

// Task is durable work on one device.
type Task struct {
	ID         string `gorm:"primaryKey"`
	DeviceID   string `gorm:"index"`
	Kind       string
	Status     string `gorm:"index"`
	Actor      string
	State      string // JSON of core/task.State
	Pinned     []byte // sealed JSON of the intended settings that it applies
	Revision   int64  // of the intended settings
	Image      string `gorm:"index"`
	Outcome    string
	CreatedAt  time.Time
	UpdatedAt  time.Time
	EndedAt    *time.Time
	RolloutID  string `gorm:"index"` // that it belongs to; "" for none
	RolloutTry int    // which attempt of the rollout at this device it is
}

// Rollout is an update of many devices.
type Rollout struct {
	ID        string `gorm:"primaryKey"`
	Name      string `gorm:"uniqueIndex"`
	Status    string `gorm:"index"`
	Actor     string // who planned it
	Ask       string // JSON of engine.RolloutAsk: what was selected, and the rules
	State     string // JSON of core/rollout.State, without its units
	CreatedAt time.Time
	PlannedAt time.Time
	StartedAt *time.Time
	EndedAt   *time.Time
	Reverts   string // id of the rollout that it takes back
}

// RolloutUnit is one device in a rollout, or one that was left out of it.
type RolloutUnit struct {
	RolloutID string `gorm:"primaryKey"`
	DeviceID  string `gorm:"primaryKey;index"`
	Place     int    // in the order in which they begin
	Wave      int    // -1 for one that was left out
	Standing  string // of core/rollout, or «left out»
	Outcome   string
	TaskID    string
	Unit      string // JSON of core/rollout.Unit; for one that was left out, why
}

// Alert is news of a rollout on its way out.
type Alert struct {
	ID        int64 `gorm:"primaryKey"`
	RolloutID string
	What      string // held, done or lost
	Body      string // JSON
	At        time.Time
	Posted    bool // to the webhook
	Published bool // on the broker
	Tries     int
	NextTry   time.Time
	Over      bool `gorm:"index"` // it went out, or was given up
	Trouble   string
}

// Lease says which task holds a device.
type Lease struct {
	DeviceID string `gorm:"primaryKey"`
	TaskID   string
	At       time.Time
}

// Trial is what is known of a Wi-Fi network with a passphrase that no unit has joined
// with yet.
type Trial struct {
	Network   string `gorm:"primaryKey"` // its name with the fingerprint of the passphrase
	TaskID    string // that has sent, or sends, a unit away with it; "" for none
	Name      string // of that unit's device
	RefusedBy string // the device whose unit was refused, "" for none
	RefusedAt time.Time
}

// Image is one immutable firmware file.
type Image struct {
	SHA256     string `gorm:"primaryKey;column:sha256"`
	Firmware   string `gorm:"index"`
	Version    string
	Channel    string
	Part       string
	Models     string // comma-separated, with a comma at both ends
	Chip       string
	Size       int64
	NeedsKiB   int
	OldestFrom string
	Step       bool // a small image that is only on the way to others
	Notes      string
	Sequence   uint64
	Manifest   string // compact JWS, "" when unsigned
	Brought    bool   // the manifest came along, signed elsewhere
	Says       string // JSON of core/firmware.Says
	SignedBy   string // key id
	Withdrawn  string
	AddedAt    time.Time
	AddedBy    string
	FileSize   int64 // of the stored file when it was last verified
	FileTime   time.Time
	FileInode  uint64
}

// Goal is the intended firmware for a site, a model at a site, or a device.
type Goal struct {
	Scope    string `gorm:"primaryKey"` // site, model (at a site) or device
	ScopeID  string `gorm:"primaryKey"` // the site, site/model, or the device
	Version  string
	Channel  string // its newest version, instead of one
	Actor    string
	At       time.Time
	Revision int64
}

// Feed is where releases are published.
type Feed struct {
	ID      string `gorm:"primaryKey"`
	Name    string `gorm:"uniqueIndex"`
	URL     string
	Minutes int // between two looks
	ETag    string
	LookAt  time.Time
	// ReadAt is when it last answered as it should, Trouble what hinders it since.
	ReadAt       *time.Time
	Trouble      string
	TroubleSince *time.Time
}

// Offered is an image that a feed offers.
type Offered struct {
	FeedID    string `gorm:"primaryKey"`
	SHA256    string `gorm:"primaryKey;column:sha256"`
	Firmware  string
	Version   string
	Channel   string
	Models    string // comma-separated, with a comma at both ends
	Body      string // JSON of core/firmware.ReleaseImage
	Notes     string
	Published *time.Time
	FirstSeen time.Time
	Gone      bool   // the feed offers it no more
	Twin      string // another file of the same version in the feed
}

// Link is a download link for one image to one unit.
type Link struct {
	ID      string `gorm:"primaryKey"`
	TaskID  string `gorm:"index"`
	Image   string
	Expires time.Time
	Source  string // the address that fetched first
	Bytes   int64  // the furthest byte that went out
	Used    int64  // requests
}

// Event is one line of the record of what happened.
type Event struct {
	ID       int64     `gorm:"primaryKey"`
	At       time.Time `gorm:"index"`
	Actor    string
	SiteID   string `gorm:"index"`
	DeviceID string `gorm:"index"`
	TaskID   string `gorm:"index"`
	Kind     string
	Text     string
}

// Check is the latest result of a check of a device.
type Check struct {
	DeviceID string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Verdict  string // "" in rows from before there was one, which Holds decides
	Holds    bool   // false: it fails
	Expected string
	Seen     string
	Evidence string
	At       time.Time
}

// Outgoing is something outside that has to catch up with a change. It names
// what to bring up to date, not how it was: the latest state is read when it is
// sent, so that nothing goes twice.
type Outgoing struct {
	Kind      string `gorm:"primaryKey"` // thing, or leave: it is no longer that hub's
	Key       string `gorm:"primaryKey"` // device, after its hub for what leaves
	HubID     string
	Seq       int64
	Tries     int
	NextTry   time.Time
	LastError string
}

// Device is the device whose thing it is.
func (o Outgoing) Device() string {
	if _, device, ok := strings.Cut(o.Key, "/"); ok {
		return device
	}
	return o.Key
}

// Learnt is how long something takes for a model.
type Learnt struct {
	Model   string `gorm:"primaryKey"`
	What    string `gorm:"primaryKey"` // boot
	Seconds float64
	Count   int
}

// SigningKey signs manifests.
type SigningKey struct {
	ID        string `gorm:"primaryKey"`
	Public    string
	Private   []byte // sealed; nil for one that is only trusted
	CreatedAt time.Time
	RetiredAt *time.Time
}

// Person may sign in.
type Person struct {
	ID        string `gorm:"primaryKey"`
	Name      string `gorm:"uniqueIndex"`
	Password  string // argon2id
	CreatedAt time.Time
}

// Token lets a program in.
type Token struct {
	ID        string `gorm:"primaryKey"`
	PersonID  string
	Name      string
	Hash      string `gorm:"uniqueIndex"`
	CreatedAt time.Time
	UsedAt    *time.Time
	RevokedAt *time.Time
}

// Session is a signed-in browser.
type Session struct {
	Hash   string `gorm:"primaryKey"`
	Data   []byte
	Expiry time.Time `gorm:"index"`
}

// Answer is the kept answer to a start that carried an Idempotency-Key.
type Answer struct {
	Key    string `gorm:"primaryKey"` // person, path and key, hashed
	Body   []byte
	Digest string // of the request
	Status int
	At     time.Time
}

// Meta is a fact about the store itself.
type Meta struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

// Sighting is evidence that a unit exists.
type Sighting struct {
	ID         string `gorm:"primaryKey"` // source and name
	Source     string // radio, lan, broker or hand
	Name       string // of the access point or the instance, or the topic
	SiteID     string // where it was seen, when that is known
	Address    string // in the home's network
	Version    string // as it said itself
	Dialect    string
	Digits     string // of the hardware id that it carries
	HardwareID string
	Signal     int
	Twice      bool   // two units are on the air with this id
	DeviceID   string `gorm:"index"`
	Ignored    bool
	FirstSeen  time.Time
	LastSeen   time.Time
	Gone       bool
}

// Latest is the last message of one kind from a device (telemetry).
type Latest struct {
	DeviceID string `gorm:"primaryKey"`
	Topic    string `gorm:"primaryKey"` // below the device's own
	Kind     string
	Payload  []byte
	Retained bool
	At       time.Time
	Count    int64
}

// Heard is a batch of messages as they came in (telemetry).
type Heard struct {
	ID    int64 `gorm:"primaryKey;autoIncrement:false"` // number of its first message
	At    time.Time
	Until time.Time `gorm:"index"`
	Body  []byte    // of package engine's own making
}

// Sample is how a unit did in one span of time (telemetry).
type Sample struct {
	DeviceID string `gorm:"primaryKey"`
	Span     int64  `gorm:"primaryKey;autoIncrement:false;index:sample_age,priority:1"` // seconds: 300 or 3600
	What     string `gorm:"primaryKey"`
	Start    int64  `gorm:"primaryKey;autoIncrement:false;index:sample_age,priority:2"` // Unix seconds
	Count    int64
	Low      float64
	High     float64
	Sum      float64
	Latest   float64 // reading
}

// Kept is a thing that the embedded broker keeps over a restart (telemetry).
type Kept struct {
	Key   string `gorm:"primaryKey"`
	Value []byte
}

var records = []any{
	&Site{}, &Room{}, &Network{}, &Broker{}, &Hub{}, &Posted{}, &File{}, &Device{}, &Unit{}, &Tenure{}, &Intended{}, &Revision{}, &Fact{},
	&Account{}, &Authority{}, &Certificate{}, &Task{}, &Lease{}, &Trial{}, &Image{}, &Goal{}, &Feed{}, &Offered{}, &Link{}, &Event{}, &Check{}, &Outgoing{}, &Learnt{}, &SigningKey{},
	&Person{}, &Token{}, &Session{}, &Answer{}, &Meta{}, &Sighting{}, &SealedCopy{}, &Rollout{}, &RolloutUnit{}, &Alert{},
}

var telemetry = []any{&Latest{}, &Heard{}, &Sample{}, &Kept{}, &Meta{}}

// JSON encodes v for a text column. It panics on what cannot be encoded, which
// only a fault in Fado's own types can cause.
func JSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(b)
}
