// Package wire holds the types of the API, once: the service answers with
// them, the client reads them, and the OpenAPI document and the console's types
// are generated from them. It holds no behaviour.
package wire

import (
	"time"

	"fado/internal/core/check"
	"fado/internal/core/dialect"
	"fado/internal/core/firmware"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/settings"
	"fado/internal/core/task"
)

// Problem is an error as the API tells it (RFC 9457), with Fado's three parts.
type Problem struct {
	Type   string          `json:"type" doc:"The kind of problem, as a URN" example:"urn:fado:problem:bad-input"`
	Title  string          `json:"title" doc:"What happened"`
	Status int             `json:"status"`
	Detail string          `json:"detail,omitempty" doc:"The likely cause"`
	Next   string          `json:"next,omitempty" doc:"What to do next"`
	Fields []problem.Field `json:"fields,omitempty" doc:"Each field that broke a rule"`
}

// Site is one home or premises.
type Site struct {
	ID              string        `json:"id"`
	Key             string        `json:"key" doc:"Short name, used in topics" example:"lagar"`
	Name            string        `json:"name"`
	Zone            string        `json:"zone" doc:"IANA time zone"`
	Reach           string        `json:"reach" enum:"on premises,routed,broker only" doc:"How units are reached"`
	Network         string        `json:"network,omitempty" doc:"Name of its Wi-Fi network"`
	NetworkID       string        `json:"network_id,omitempty"`
	BrokerID        string        `json:"broker_id,omitempty"`
	Broker          string        `json:"broker,omitempty"`
	HubID           string        `json:"hub_id,omitempty"`
	Hub             string        `json:"hub,omitempty"`
	Scheme          naming.Scheme `json:"scheme"`
	DownloadAddress string        `json:"download_address,omitempty" doc:"Base URL under which units reach Fado"`
	DownloadProof   string        `json:"download_proof,omitempty" doc:"How the address was proven; empty when it was not"`
	Proxy           string        `json:"proxy,omitempty" doc:"HTTP proxy through which the site's network is reached"`
	NameServer      string        `json:"name_server,omitempty" doc:"DNS server that is asked for its units, host:port (DNS-SD, RFC 6763)"`
	Domain          string        `json:"domain,omitempty" doc:"Domain under which it lists them"`
	Range           string        `json:"range,omitempty" doc:"In which the addresses of its units lie, CIDR"`
	Reserved        []string      `json:"reserved" doc:"Addresses and ranges that no unit is given"`
	AllowUnsigned   bool          `json:"allow_unsigned"`
	AllowDowngrade  bool          `json:"allow_downgrade"`
	DownloadKiB     int           `json:"download_kib,omitempty" doc:"KiB a second for image downloads of all its units together; nothing for no limit"`
	AllowRisky      bool          `json:"allow_risky" doc:"Consent to ways of updating that can kill an interrupted unit"`
	Baseline        bool          `json:"baseline" doc:"Units are brought to the intended firmware before they are adopted"`
	Devices         int64         `json:"devices"`
	Version         int64         `json:"version" doc:"For If-Match"`
	Rooms           []Room        `json:"rooms"`
}

// Room is a place in a site.
type Room struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// SiteEdit creates or changes a site. A field that is left out is not changed.
type SiteEdit struct {
	Key             *string        `json:"key,omitempty" doc:"Lower-case letters, digits and hyphens" example:"lagar"`
	Name            *string        `json:"name,omitempty" example:"Lagar da Ribeira"`
	Zone            *string        `json:"zone,omitempty" example:"Europe/Lisbon"`
	Reach           *string        `json:"reach,omitempty" enum:"on premises,routed,broker only"`
	Network         *string        `json:"network,omitempty" doc:"Name or id of the Wi-Fi network for its units"`
	Broker          *string        `json:"broker,omitempty" doc:"Name or id of its broker"`
	Hub             *string        `json:"hub,omitempty" doc:"Name or id of its hub"`
	Scheme          *naming.Scheme `json:"scheme,omitempty"`
	DownloadAddress *string        `json:"download_address,omitempty" example:"http://192.168.40.2:8420"`
	Proxy           *string        `json:"proxy,omitempty" doc:"HTTP proxy through which the site's network is reached; empty when Fado stands in it" example:"http://10.8.0.4:3128"`
	NameServer      *string        `json:"name_server,omitempty" doc:"DNS server that is asked for its units by DNS-SD; port 53 when none is named" example:"192.168.40.1"`
	Domain          *string        `json:"domain,omitempty" doc:"Domain under which it lists them" example:"lagar.home.arpa"`
	Range           *string        `json:"range,omitempty" doc:"In which the addresses of its units lie" example:"192.168.40.0/24"`
	Reserved        *[]string      `json:"reserved,omitempty" doc:"Addresses and ranges that no unit is given" example:"[\"192.168.40.1-192.168.40.19\"]"`
	AllowUnsigned   *bool          `json:"allow_unsigned,omitempty"`
	AllowDowngrade  *bool          `json:"allow_downgrade,omitempty"`
	DownloadKiB     *int           `json:"download_kib,omitempty" doc:"KiB a second; 0 for no limit"`
	AllowRisky      *bool          `json:"allow_risky,omitempty"`
	Baseline        *bool          `json:"baseline,omitempty"`
}

// Network is a Wi-Fi network. Its passphrase goes in and does not come out.
type Network struct {
	ID            string `json:"id"`
	Site          string `json:"site"`
	SSID          string `json:"ssid"`
	HasPassphrase bool   `json:"has_passphrase"`
}

// NetworkEdit creates or changes a Wi-Fi network.
type NetworkEdit struct {
	SSID       *string `json:"ssid,omitempty" example:"lagar-casa"`
	Passphrase *string `json:"passphrase,omitempty" writeOnly:"true" doc:"8 to 63 printable ASCII characters; never shown again"`
}

// Broker is an MQTT broker.
type Broker struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Kind     string `json:"kind" enum:"embedded,external,managed"`
	Host     string `json:"host" doc:"As units reach it"`
	Port     int    `json:"port"`
	TLS      bool   `json:"tls"`
	Accounts string `json:"accounts" doc:"How units authenticate"`

	Certificates bool        `json:"certificates" doc:"Units show a certificate, too"`
	Authority    bool        `json:"authority" doc:"Fado keeps its certification authority"`
	Link         *BrokerLink `json:"link,omitempty" doc:"How it stands, as the service sees it"`
}

// BrokerLink is how the service's broker stands.
type BrokerLink struct {
	Connected   bool       `json:"connected"`
	Since       time.Time  `json:"since"`
	RoundTripMS float64    `json:"round_trip_ms,omitempty" doc:"Of a message to the broker and back"`
	Certificate *Shown     `json:"certificate,omitempty" doc:"That it shows, with TLS"`
	Trouble     string     `json:"trouble,omitempty"`
	Cause       string     `json:"cause,omitempty"`
	Next        string     `json:"next,omitempty"`
	At          *time.Time `json:"at,omitempty"`
}

// Shown is a certificate that a broker shows.
type Shown struct {
	Names   string    `json:"names"`
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	Trouble string    `json:"trouble,omitempty" doc:"Why units do not take it"`
}

// Authority is the certification authority of a broker.
type Authority struct {
	Broker      string    `json:"broker"`
	Certificate string    `json:"certificate" doc:"PEM; it is no secret"`
	Until       time.Time `json:"until"`
	CreatedAt   time.Time `json:"created_at"`
	Counting    int       `json:"counting" doc:"Certificates that count"`
	Revoked     int       `json:"revoked"`
	Due         int       `json:"due" doc:"Certificates that count and are due to be renewed"`
}

// Certificate is one that an authority signed.
type Certificate struct {
	Serial    string     `json:"serial"`
	Broker    string     `json:"broker"`
	Kind      string     `json:"kind" enum:"unit,server"`
	Account   string     `json:"account,omitempty"`
	Device    string     `json:"device,omitempty"`
	Names     string     `json:"names,omitempty"`
	PEM       string     `json:"pem"`
	From      time.Time  `json:"from"`
	Until     time.Time  `json:"until"`
	RenewAt   time.Time  `json:"renew_at" doc:"When it is due"`
	SeenAt    *time.Time `json:"seen_at,omitempty" doc:"When its unit first signed in with it"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
	Reason    string     `json:"reason,omitempty"`
}

// CertificateRequest asks for the certificate of a broker.
type CertificateRequest struct {
	Request string   `json:"request" doc:"PKCS #10, PEM, made where the key is"`
	Names   []string `json:"names" doc:"Names and addresses under which units reach it"`
}

// Revocation ends a certificate.
type Revocation struct {
	Reason string `json:"reason" example:"The unit was stolen."`
}

// RevocationList is the list of a broker's revoked certificates.
type RevocationList struct {
	List string `json:"list" doc:"PEM"`
}

// BrokerEdit creates or changes a broker.
type BrokerEdit struct {
	Name     *string `json:"name,omitempty" example:"embedded"`
	Kind     *string `json:"kind,omitempty" enum:"embedded,external,managed"`
	Host     *string `json:"host,omitempty" example:"192.168.40.2"`
	Port     *int    `json:"port,omitempty" example:"1883"`
	TLS      *bool   `json:"tls,omitempty"`
	CA       *string `json:"ca,omitempty" doc:"PEM"`
	User     *string `json:"user,omitempty" doc:"External only: the account that all its units share"`
	Password *string `json:"password,omitempty" writeOnly:"true"`

	Certificates *bool `json:"certificates,omitempty" doc:"Units show a certificate of the broker's authority, too"`
}

// Hub is a home's automation hub.
type Hub struct {
	ID        string `json:"id"`
	Name      string `json:"name"`
	Directory string `json:"directory" doc:"Base URL of its Thing directory"`
	Account   string `json:"account,omitempty" doc:"Its account on the broker"`
	Notice    string `json:"notice,omitempty" doc:"It listens on the broker, and is told by this notice file"`
	Waiting   int64  `json:"waiting" doc:"Things that have not reached it yet"`

	AnsweredAt   *time.Time `json:"answered_at,omitempty" doc:"When it last answered"`
	Trouble      string     `json:"trouble,omitempty" doc:"What hinders it now"`
	TroubleSince *time.Time `json:"trouble_since,omitempty"`
}

// HubView is what a hub holds, compared with what it should.
type HubView struct {
	Hub       Hub        `json:"hub"`
	At        time.Time  `json:"at"`
	Summary   string     `json:"summary" doc:"In words"`
	Things    []HubThing `json:"things"`
	Strangers int        `json:"strangers" doc:"Things that are none of Fado's; they are left alone"`
	Queued    int        `json:"queued" doc:"Things that are being brought in step"`
}

// HubThing is a device as its hub holds it.
type HubThing struct {
	ID          string          `json:"id" doc:"Of the thing"`
	Device      string          `json:"device,omitempty" doc:"Id of the device; empty when that was removed"`
	Name        string          `json:"name"`
	Site        string          `json:"site,omitempty"`
	Room        string          `json:"room,omitempty"`
	Standing    string          `json:"standing" enum:"same,differs,missing,extra,waiting,undescribed"`
	Differences []HubDifference `json:"differences,omitempty"`
	Tries       int             `json:"tries,omitempty" doc:"How often its change was sent without success"`
}

// Notice is how a hub that listens on the broker is told of devices.
type Notice struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Listens []string `json:"listens" doc:"Topic filters to which the hub subscribes"`
	Entries int      `json:"entries"`
	File    string   `json:"file,omitempty"`
}

// Post is a message that the broker keeps for a hub that listens.
type Post struct {
	Topic string `json:"topic"`
	Body  string `json:"body"`
}

// HubDifference is a place where a hub holds something else than it was given.
type HubDifference struct {
	At     string `json:"at" doc:"JSON Pointer into the thing; empty where the thing cannot be described"`
	Ours   string `json:"ours,omitempty" doc:"JSON, as it should be; where at is empty, why it cannot be described"`
	Theirs string `json:"theirs,omitempty" doc:"JSON, as the hub has it"`
}

// HubEdit creates or changes a hub.
type HubEdit struct {
	Name      *string `json:"name,omitempty" example:"Lagar hub"`
	Directory *string `json:"directory,omitempty" example:"http://192.168.40.3:8080"`
	Token     *string `json:"token,omitempty" writeOnly:"true" doc:"Bearer token of its directory"`
	Account   *string `json:"account,omitempty" doc:"The account that it uses on the embedded broker"`
	Password  *string `json:"password,omitempty" writeOnly:"true" doc:"The password of that account, at least 16 characters"`
	Notice    *string `json:"notice,omitempty" doc:"Name of a notice file: the hub listens on the broker instead of keeping a directory"`
}

// Device is a job to be done at a site, with what its unit said last.
type Device struct {
	ID          string              `json:"id"`
	Site        string              `json:"site" doc:"The site's key"`
	SiteID      string              `json:"site_id"`
	Room        string              `json:"room,omitempty"`
	Name        string              `json:"name"`
	Model       string              `json:"model"`
	Tags        []string            `json:"tags"`
	HardwareID  string              `json:"hardware_id,omitempty"`
	Ending      string              `json:"ending,omitempty" doc:"Last digits of the hardware id, as long as no more of it is known"`
	Hostname    string              `json:"hostname"`
	Topic       string              `json:"topic"`
	Label       string              `json:"label"`
	HasCode     bool                `json:"has_set_up_code"`
	Stage       inventory.Stage     `json:"stage" enum:"listed,contacted,joined,configured,reporting,adopted,retired"`
	Presence    inventory.Presence  `json:"presence" enum:"online,asleep,offline,unseen"`
	Firmware    string              `json:"firmware,omitempty"`
	Running     string              `json:"running,omitempty" doc:"Version that the unit reported"`
	Digest      string              `json:"digest,omitempty"`
	Intended    string              `json:"intended,omitempty" doc:"Version that is intended"`
	Standing    string              `json:"standing" enum:"current,behind,ahead,unknown"`
	Attention   string              `json:"attention,omitempty" doc:"Why it needs a person: failed, lost, check, offline, drift, behind"`
	Drift       int                 `json:"drift" doc:"Settings that are not on its unit as intended"`
	Address     string              `json:"address,omitempty" doc:"Its unit's own, as it said last"`
	LiveTopic   string              `json:"live_topic,omitempty" doc:"The topic that its unit still uses while another is intended"`
	AwakeUntil  *time.Time          `json:"awake_until,omitempty" doc:"Of a unit that sleeps"`
	BootSeconds float64             `json:"boot_seconds,omitempty" doc:"Usual time from restart to first message, as learnt"`
	Version     int64               `json:"version" doc:"For If-Match"`
	UpdatedAt   time.Time           `json:"updated_at"`
	ModelDetail *inventory.Model    `json:"model_detail,omitempty"`
	Checks      []check.Result      `json:"checks,omitempty"`
	SignOff     check.Standing      `json:"sign_off,omitempty" enum:"unchecked,fails,open,signed off" doc:"How it stands by its checks"`
	Units       []Tenure            `json:"units,omitempty"`
	Task        *Task               `json:"task,omitempty" doc:"The latest task"`
	State       map[string]Reported `json:"state,omitempty" doc:"Last state of each capability"`
}

// Reported is a value and when it was said.
type Reported struct {
	Value any       `json:"value"`
	At    time.Time `json:"at"`
	Live  bool      `json:"live" doc:"False: a retained message of the past"`
}

// Tenure is a unit that fills or filled a device.
type Tenure struct {
	HardwareID string     `json:"hardware_id"`
	Since      time.Time  `json:"since"`
	Until      *time.Time `json:"until,omitempty"`
}

// DeviceEdit creates or changes a device. Names that are left out on creation
// come from the site's scheme.
type DeviceEdit struct {
	Name       *string   `json:"name,omitempty" example:"Nora do pátio"`
	Room       *string   `json:"room,omitempty" doc:"Name or id"`
	Model      *string   `json:"model,omitempty" example:"sobro-quatro"`
	HardwareID *string   `json:"hardware_id,omitempty" example:"02:5A:11:00:00:07"`
	Hostname   *string   `json:"hostname,omitempty"`
	Topic      *string   `json:"topic,omitempty"`
	Label      *string   `json:"label,omitempty"`
	Tags       *[]string `json:"tags,omitempty"`
	SetUpCode  *string   `json:"set_up_code,omitempty" writeOnly:"true" doc:"The key printed on the unit"`
}

// Import is what became of an inventory's rows, or would become of them.
type Import struct {
	DryRun    bool        `json:"dry_run"`
	Encoding  string      `json:"encoding" doc:"How the file was encoded: UTF-8, UTF-16 or Windows-1252"`
	Separator string      `json:"separator" doc:"What stands between its cells"`
	Added     int         `json:"added"`
	Changed   int         `json:"changed"`
	Same      int         `json:"same"`
	Refused   int         `json:"refused"`
	Rows      []ImportRow `json:"rows"`
}

// ImportRow is one row of it.
type ImportRow struct {
	Line    int             `json:"line" doc:"In the file, from 1"`
	Outcome string          `json:"outcome" enum:"add,change,same,refused"`
	Device  string          `json:"device,omitempty" doc:"Its hostname"`
	Name    string          `json:"name"`
	Changes []string        `json:"changes"`
	Faults  []problem.Field `json:"faults"`
}

// NameQuestion asks what a new device would be called.
type NameQuestion struct {
	Name  string `json:"name"`
	Room  string `json:"room,omitempty"`
	Model string `json:"model"`
}

// DevicePage is a page of devices.
type DevicePage struct {
	Devices []Device `json:"devices"`
	Total   int64    `json:"total" doc:"How many match in all"`
	Next    string   `json:"next,omitempty" doc:"Cursor of the next page"`
}

// Setting is one setting of a device with its three values. Secrets are masked.
type Setting struct {
	Key        string     `json:"key"`
	Title      string     `json:"title"`
	State      string     `json:"state" enum:"equal,differs,not handed over,cannot be read back,proven by effect,not supported"`
	Intended   any        `json:"intended"`
	Origin     string     `json:"origin" doc:"Where the intended value comes from: site, model or device"`
	HandedOver *time.Time `json:"handed_over,omitempty"`
	Reported   any        `json:"reported,omitempty"`
	ReportedAt *time.Time `json:"reported_at,omitempty"`
	Since      *time.Time `json:"since,omitempty" doc:"When the unit first said this value"`
	Proof      string     `json:"proof,omitempty"`
	ProofAt    *time.Time `json:"proof_at,omitempty"`
}

// Preview is what commissioning would send to a device, or what would be applied
// to one in service, in order.
type Preview struct {
	DeviceID    string     `json:"device_id"`
	Device      string     `json:"device"`
	Hostname    string     `json:"hostname"`
	At          string     `json:"at" enum:"set-up,service" doc:"Where the unit is reached"`
	Exchanges   []Exchange `json:"exchanges"`
	Restarts    int        `json:"restarts"`
	Differences []Setting  `json:"differences" doc:"What is not on the unit yet"`
	Unsupported []string   `json:"unsupported" doc:"Intended settings that this firmware cannot be told"`
	Unreadable  []string   `json:"unreadable" doc:"Settings that are sent and cannot be read back; secrets are proven by effect"`
	AtWake      bool       `json:"at_wake" doc:"It is sent when the unit wakes"`
	Assumed     bool       `json:"assumed" doc:"The unit's version is not known yet; what the newest takes is shown"`
	Listeners   []string   `json:"listeners" doc:"Other accounts that have subscribed to the topic which would be given up"`
	Update      *Exchange  `json:"update,omitempty" doc:"How an image would be offered to it; shown, never sent from here"`
	Problem     string     `json:"problem,omitempty" doc:"Why nothing can be sent"`
}

// Settable is a setting that a device can be told.
type Settable struct {
	Key     string        `json:"key"`
	Title   string        `json:"title"`
	Kind    settings.Kind `json:"kind" enum:"text,number,flag,secret"`
	Choices []string      `json:"choices" doc:"The values there are; empty when it is free"`
}

// Selection chooses devices: those named, or all of a site, a model, a room or
// a tag that are in service and have something to apply.
type Selection struct {
	Devices []string `json:"devices,omitempty" doc:"Ids, hostnames, topics or hardware ids"`
	Site    string   `json:"site,omitempty"`
	Model   string   `json:"model,omitempty"`
	Tag     string   `json:"tag,omitempty"`
}

// Applied is what became of one device of a selection.
type Applied struct {
	DeviceID string `json:"device_id"`
	Device   string `json:"device"`
	Hostname string `json:"hostname"`
	Task     *Task  `json:"task,omitempty"`
	Problem  string `json:"problem,omitempty"`
}

// CheckStart says whose units are checked: devices, or all in service of a site or
// of a room in it.
type CheckStart struct {
	Devices []string `json:"devices,omitempty" doc:"Ids, hostnames, topics or hardware ids"`
	Site    string   `json:"site,omitempty"`
	Room    string   `json:"room,omitempty" doc:"Of the site"`
}

// SignOff is how a device stands by its checks.
type SignOff struct {
	DeviceID string          `json:"device_id"`
	Device   string          `json:"device"`
	Hostname string          `json:"hostname"`
	Room     string          `json:"room,omitempty"`
	Model    string          `json:"model"`
	Stage    inventory.Stage `json:"stage" enum:"listed,contacted,joined,configured,reporting,adopted,retired"`
	Standing check.Standing  `json:"standing" enum:"unchecked,fails,open,signed off"`
	Checks   []check.Result  `json:"checks"`
	At       *time.Time      `json:"at,omitempty" doc:"Of the oldest check"`
	Task     *Task           `json:"task,omitempty" doc:"The checks that are being made"`
	Shows    []string        `json:"shows" doc:"What a person beside it can be asked to see: blink, or the capabilities that it switches"`
}

// Witness asks a person to see something, or says what they saw.
type Witness struct {
	Capability string `json:"capability,omitempty" doc:"What is switched over and back; it blinks when this is left out"`
}

// Seen is what a person saw.
type Seen struct {
	Capability string `json:"capability,omitempty"`
	Yes        bool   `json:"yes"`
}

// Replace says which unit is to fill a device from now on.
type Replace struct {
	HardwareID string `json:"hardware_id" example:"02:5A:11:00:00:A0"`
	SetUpCode  string `json:"set_up_code,omitempty" writeOnly:"true" doc:"The key printed on the new unit"`
	Reason     string `json:"reason,omitempty" maxLength:"200"`
}

// Retire takes a device out of service.
type Retire struct {
	Reason   string `json:"reason,omitempty" maxLength:"200"`
	KeepUnit bool   `json:"keep_unit,omitempty" doc:"Do not tell its unit to forget what it knows"`
}

// TakenOut is what became of a device and of the unit that was taken out of it.
type TakenOut struct {
	Device Device `json:"device"`
	Unit   string `json:"unit" doc:"Whether the unit has forgotten what it knew, in words"`
}

// Drift is one setting that is not on its unit as intended.
type Drift struct {
	DeviceID  string     `json:"device_id"`
	Device    string     `json:"device"`
	Hostname  string     `json:"hostname"`
	Site      string     `json:"site"`
	Key       string     `json:"key"`
	Title     string     `json:"title"`
	State     string     `json:"state" enum:"differs,not handed over"`
	Intended  any        `json:"intended"`
	Origin    string     `json:"origin"`
	Reported  any        `json:"reported,omitempty"`
	Since     time.Time  `json:"since" doc:"When the difference began"`
	ChangedBy string     `json:"changed_by,omitempty" doc:"Who last changed what is intended"`
	ChangedAt *time.Time `json:"changed_at,omitempty"`
}

// DriftPage is what differs. Total counts the devices, listed or not.
type DriftPage struct {
	Drift   []Drift `json:"drift"`
	Devices int64   `json:"devices"`
}

// DriftAccept makes what a unit reports the intended value.
type DriftAccept struct {
	Device   string   `json:"device"`
	Settings []string `json:"settings" minItems:"1"`
}

// Commissioning starts commissioning.
type Commissioning struct {
	Prepared bool `json:"prepared,omitempty" doc:"What the model wants done before was done"`
}

// BenchStart says which units on the bench are commissioned. Without devices it
// is all that are in set-up mode here and matched to a device that is not in
// service; what failed before is tried again.
type BenchStart struct {
	Site     string   `json:"site,omitempty" doc:"Only those of this site"`
	Devices  []string `json:"devices,omitempty" doc:"Ids, hostnames, topics or hardware ids"`
	Prepared bool     `json:"prepared,omitempty" doc:"What the models want done before was done"`
}

// Reveal asks for the login of a unit's own pages. The password is that of the
// person who asks.
type Reveal struct {
	Password string `json:"password" writeOnly:"true"`
}

// Revealed is the login of a unit's own pages.
type Revealed struct {
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	PointKey string `json:"point_key,omitempty" doc:"Key of its own access point"`
}

// SealedCopy is a unit's whole configuration, kept sealed as it was.
type SealedCopy struct {
	ID   string    `json:"id"`
	At   time.Time `json:"at"`
	Why  string    `json:"why"`
	Size int       `json:"size_bytes"`
}

// SchemeQuestion asks what a changed naming scheme would rename.
type SchemeQuestion struct {
	Scheme  naming.Scheme `json:"scheme"`
	Devices []string      `json:"devices,omitempty" doc:"Only these"`
}

// Rename is what a scheme would call a device, and what it is called now.
type Rename struct {
	DeviceID  string       `json:"device_id"`
	Device    string       `json:"device"`
	From      naming.Names `json:"from"`
	To        naming.Names `json:"to"`
	InService bool         `json:"in_service" doc:"Its unit has to be told"`
	Listeners []string     `json:"listeners" doc:"Other accounts that have subscribed to the topic which would be given up"`
}

// Exchange is one request, with secrets masked.
type Exchange struct {
	Title    string   `json:"title"`
	Request  string   `json:"request"`
	Body     string   `json:"body,omitempty"`
	Sets     []string `json:"sets,omitempty"`
	Restarts bool     `json:"restarts"`
}

// Message is the last message of one topic of a device.
type Message struct {
	Topic    string    `json:"topic" doc:"Below the device's topic"`
	Kind     string    `json:"kind"`
	Payload  string    `json:"payload"`
	Retained bool      `json:"retained"`
	At       time.Time `json:"at"`
}

// Task is durable work on one device.
type Task struct {
	ID        string            `json:"id"`
	DeviceID  string            `json:"device_id"`
	Device    string            `json:"device" doc:"The device's name"`
	Hostname  string            `json:"hostname"`
	Kind      task.Kind         `json:"kind" enum:"commission,update,apply,check"`
	Status    task.Status       `json:"status" enum:"queued,running,waiting,done,failed,cancelled"`
	Actor     string            `json:"actor"`
	Attempt   int               `json:"attempt"`
	Steps     []task.Step       `json:"steps"`
	Wait      *task.Wait        `json:"wait,omitempty"`
	Failure   *task.Failure     `json:"failure,omitempty"`
	Checks    []check.Result    `json:"checks,omitempty"`
	Update    *task.UpdateState `json:"update,omitempty"`
	Revision  int64             `json:"revision" doc:"Of the intended settings that it applies"`
	CreatedAt time.Time         `json:"created_at"`
	UpdatedAt time.Time         `json:"updated_at"`
	EndedAt   *time.Time        `json:"ended_at,omitempty"`
}

// Sighting is evidence that a unit exists.
type Sighting struct {
	ID         string    `json:"id"`
	Source     string    `json:"source" enum:"radio,lan,broker,hand"`
	Name       string    `json:"name" doc:"Of the access point or the DNS-SD instance, or the topic that it speaks under"`
	Address    string    `json:"address,omitempty" doc:"In the home's network"`
	Version    string    `json:"version,omitempty" doc:"As it said itself"`
	Dialect    string    `json:"dialect"`
	HardwareID string    `json:"hardware_id,omitempty"`
	Ending     string    `json:"ending,omitempty" doc:"The digits of the hardware id that its name carries, when it is not all of them: a hint"`
	Signal     int       `json:"signal" doc:"dBm"`
	Twice      bool      `json:"twice,omitempty" doc:"Two units are on the air with this id; both are held"`
	DeviceID   string    `json:"device_id,omitempty" doc:"Empty: unclaimed"`
	Device     string    `json:"device,omitempty"`
	Model      string    `json:"model,omitempty" doc:"Of the device"`
	Stage      string    `json:"stage,omitempty" doc:"Of the device"`
	Site       string    `json:"site,omitempty" doc:"Key of the site of the device, or of the site where it was seen"`
	Ignored    bool      `json:"ignored"`
	Gone       bool      `json:"gone"`
	FirstSeen  time.Time `json:"first_seen"`
	LastSeen   time.Time `json:"last_seen"`
}

// Claim matches a sighting to a device, or makes a new one of it.
type Claim struct {
	Sighting string     `json:"sighting"`
	Device   string     `json:"device,omitempty" doc:"A device that is listed; or new"`
	New      *NewDevice `json:"new,omitempty" doc:"A device to be made"`
}

// NewDevice is a device that is made of a sighting.
type NewDevice struct {
	Site  string `json:"site"`
	Name  string `json:"name"`
	Room  string `json:"room,omitempty"`
	Model string `json:"model"`
}

// SeenByHand is a unit that a person has in front of them.
type SeenByHand struct {
	HardwareID string `json:"hardware_id" example:"02:5A:11:00:00:07"`
	Dialect    string `json:"dialect"`
	Site       string `json:"site,omitempty"`
	Address    string `json:"address,omitempty" doc:"In the home's network, when it is there already"`
}

// Ignore hides a sighting or shows it again.
type Ignore struct {
	Sighting string `json:"sighting"`
	Ignored  bool   `json:"ignored"`
}

// Image is a firmware file with what is known of it.
type Image struct {
	SHA256     string           `json:"sha256"`
	Firmware   string           `json:"firmware"`
	Version    string           `json:"version"`
	Channel    firmware.Channel `json:"channel" enum:"stable,preview,nightly"`
	Part       firmware.Part    `json:"part" enum:"program,files"`
	Models     []string         `json:"models"`
	Chip       string           `json:"chip,omitempty"`
	Size       int64            `json:"size"`
	NeedsKiB   int              `json:"needs_kib,omitempty"`
	OldestFrom string           `json:"oldest_from,omitempty"`
	Says       *firmware.Says   `json:"says,omitempty" doc:"What the file says of itself"`
	Brought    bool             `json:"brought,omitempty" doc:"Its manifest came along, signed elsewhere"`
	Step       bool             `json:"step,omitempty" doc:"A small image that is only on the way to others"`
	Notes      string           `json:"notes,omitempty"`
	Sequence   uint64           `json:"sequence"`
	SignedBy   string           `json:"signed_by,omitempty"`
	Withdrawn  string           `json:"withdrawn,omitempty"`
	AddedAt    time.Time        `json:"added_at"`
	AddedBy    string           `json:"added_by"`
}

// ImageFacts is what a person says of an image.
type ImageFacts struct {
	Firmware   string   `json:"firmware" example:"junco"`
	Version    string   `json:"version" example:"1.4.0"`
	Channel    string   `json:"channel,omitempty" doc:"stable, preview or nightly; stable when left out"`
	Part       string   `json:"part,omitempty" doc:"program or files; program when left out"`
	Models     []string `json:"models"`
	Chip       string   `json:"chip,omitempty"`
	NeedsKiB   int      `json:"needs_kib,omitempty"`
	OldestFrom string   `json:"oldest_from,omitempty"`
	Step       bool     `json:"step,omitempty" doc:"A small image that is only on the way to others"`
	Notes      string   `json:"notes,omitempty"`
	Manifest   string   `json:"manifest,omitempty" doc:"A signed manifest that came with the file"`
	Unsigned   bool     `json:"unsigned,omitempty" doc:"Do not sign it"`
}

// Fit tells whether an image suits a device.
type Fit struct {
	Device   string `json:"device"`
	Hostname string `json:"hostname"`
	Image    string `json:"image" doc:"SHA-256"`
	Version  string `json:"version"`
	firmware.Verdict
}

// Cell is how many devices of a model at a site run a version.
type Cell struct {
	Site     string   `json:"site"`
	Model    string   `json:"model"`
	Running  string   `json:"running" doc:"Empty where the unit has not said"`
	Standing string   `json:"standing"`
	Devices  int64    `json:"devices"`
	Intended []string `json:"intended,omitempty"`
}

// Gap is what lies between what a unit runs and what is intended.
type Gap struct {
	Running  string     `json:"running"`
	Intended string     `json:"intended,omitempty"`
	Channel  string     `json:"channel,omitempty" doc:"That is followed"`
	Standing string     `json:"standing"`
	Since    *time.Time `json:"since,omitempty" doc:"Since when it is behind"`
	Releases []Image    `json:"releases" doc:"The versions in between, the newest first, with their notes"`
}

// Updated is one update of a device.
type Updated struct {
	Task     string         `json:"task"`
	From     string         `json:"from"`
	To       string         `json:"to"`
	Route    []string       `json:"route,omitempty" doc:"Versions, where there were several"`
	Outcome  task.Outcome   `json:"outcome"`
	Actor    string         `json:"actor"`
	At       time.Time      `json:"at"`
	Seconds  float64        `json:"seconds,omitempty"`
	Bytes    int64          `json:"bytes"`
	Attempts int            `json:"attempts"`
	Evidence []check.Result `json:"evidence,omitempty"`
	Failure  *task.Failure  `json:"failure,omitempty"`
	Health   []HealthChange `json:"health,omitempty" doc:"How the unit did the day before and the day after, once both were measured"`
}

// HealthChange is how one thing was before and after.
type HealthChange struct {
	What   string  `json:"what" enum:"signal,free memory,battery,interval,returns"`
	Unit   string  `json:"unit" enum:"dBm,bytes,%,s,times an hour"`
	Before float64 `json:"before"`
	After  float64 `json:"after"`
	Worse  bool    `json:"worse" doc:"By more than it changes by itself"`
}

// Key is a key that signs manifests, or is trusted to have.
type Key struct {
	ID        string     `json:"id"`
	Public    string     `json:"public" doc:"The x member of its JWK (RFC 8037)"`
	Signs     bool       `json:"signs" doc:"Fado signs with it now"`
	Own       bool       `json:"own" doc:"Fado has its private part"`
	CreatedAt time.Time  `json:"created_at"`
	RetiredAt *time.Time `json:"retired_at,omitempty"`
}

// Feed is where releases are published.
type Feed struct {
	ID           string     `json:"id"`
	Name         string     `json:"name"`
	URL          string     `json:"url"`
	Minutes      int        `json:"minutes" doc:"Between two looks"`
	ReadAt       *time.Time `json:"read_at,omitempty" doc:"When it last answered as it should"`
	Trouble      string     `json:"trouble,omitempty"`
	TroubleSince *time.Time `json:"trouble_since,omitempty"`
}

// FeedEdit adds a feed.
type FeedEdit struct {
	Name    string `json:"name" example:"Oficina do Sobreiro"`
	URL     string `json:"url" example:"https://releases.example/feed.json"`
	Minutes int    `json:"minutes,omitempty" doc:"Between two looks; 360 when left out"`
}

// Release is an image that a feed offers.
type Release struct {
	Feed       string           `json:"feed"`
	SHA256     string           `json:"sha256"`
	Firmware   string           `json:"firmware"`
	Version    string           `json:"version"`
	Channel    firmware.Channel `json:"channel" enum:"stable,preview,nightly"`
	Models     []string         `json:"models"`
	Here       []string         `json:"here,omitempty" doc:"Those of its models that there are here"`
	Size       int64            `json:"size"`
	OldestFrom string           `json:"oldest_from,omitempty"`
	Step       bool             `json:"step,omitempty"`
	Signed     bool             `json:"signed" doc:"It comes with a manifest"`
	Notes      string           `json:"notes,omitempty" doc:"Markdown"`
	Published  *time.Time       `json:"published,omitempty"`
	FirstSeen  time.Time        `json:"first_seen"`
	Taken      bool             `json:"taken,omitempty"`
	Gone       bool             `json:"gone,omitempty" doc:"The feed offers it no more"`
	Twin       string           `json:"twin,omitempty" doc:"Another file of the same version in the feed"`
}

// Upload is how far a file has come in.
type Upload struct {
	SHA256 string `json:"sha256"`
	Offset int64  `json:"offset" doc:"Bytes that are here; go on from there"`
}

// Found is a file of an archive and what becomes of it.
type Found struct {
	Name     string   `json:"name"`
	Size     int64    `json:"size"`
	SHA256   string   `json:"sha256,omitempty"`
	Format   string   `json:"format,omitempty"`
	Firmware string   `json:"firmware,omitempty"`
	Version  string   `json:"version,omitempty"`
	Channel  string   `json:"channel,omitempty"`
	Models   []string `json:"models,omitempty"`
	Outcome  string   `json:"outcome" enum:"new,here,added,refused"`
	Why      string   `json:"why,omitempty"`
}

// KeyText brings a key along.
type KeyText struct {
	Key string `json:"key" writeOnly:"true" doc:"PEM, private or public, or the x member of a JWK"`
}

// Start starts an update.
type Start struct {
	Image string `json:"image" doc:"SHA-256, or its first eight digits and more"`
}

// Goal says which firmware version is intended, for a model at a site or for a
// device.
type Goal struct {
	Site    string `json:"site,omitempty"`
	Model   string `json:"model,omitempty"`
	Device  string `json:"device,omitempty"`
	Channel string `json:"channel,omitempty" doc:"Its newest version, instead of one"`
	Version string `json:"version,omitempty" doc:"Neither version nor channel takes the goal away"`
}

// Reason is a person's word.
type Reason struct {
	Reason string `json:"reason"`
}

// Event is one line of the record of what happened.
type Event struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Actor    string    `json:"actor"`
	Site     string    `json:"site,omitempty"`
	DeviceID string    `json:"device_id,omitempty"`
	TaskID   string    `json:"task_id,omitempty"`
	Kind     string    `json:"kind"`
	Text     string    `json:"text"`
}

// EventPage is a page of events, the newest first.
type EventPage struct {
	Events []Event `json:"events"`
	Next   int64   `json:"next,omitempty" doc:"Give it as before to read on"`
}

// Attention is what needs a person first.
type Attention struct {
	Devices  []Device   `json:"devices" doc:"At most 50, the most urgent first"`
	Total    int64      `json:"total"`
	Tasks    []Task     `json:"tasks" doc:"Under way"`
	Rollouts []Rollout  `json:"rollouts" doc:"Under way, those that are held first"`
	Sighted  []Sighting `json:"sighted" doc:"Units in set-up mode"`
	Queued   int64      `json:"queued" doc:"Things that have not reached their hub"`
	Counts   Counts     `json:"counts"`
	Problems []string   `json:"problems" doc:"What hinders the service itself"`
}

// Counts are the devices by what matters.
type Counts struct {
	Devices int64            `json:"devices"`
	Adopted int64            `json:"adopted"`
	Online  int64            `json:"online"`
	Behind  int64            `json:"behind"`
	ByStage map[string]int64 `json:"by_stage"`
}

// Dialect is a dialect as a person reads it.
type Dialect struct {
	Name     string            `json:"name"`
	Title    string            `json:"title"`
	Settings []string          `json:"settings"`
	Restarts int               `json:"restarts" doc:"Restarts that a full hand-over takes"`
	Sleeps   bool              `json:"sleeps" doc:"Its units are awake for moments only"`
	Models   []string          `json:"models" doc:"Models that speak it"`
	Sheet    []dialect.Section `json:"sheet" doc:"What it can do, in words"`
	File     string            `json:"file,omitempty"`
}

// Trial asks for a rehearsal of a dialect against a simulated unit.
type Trial struct {
	Dialect  string `json:"dialect,omitempty" doc:"Name of a dialect that is loaded"`
	File     string `json:"file,omitempty" doc:"Or a dialect file that is not loaded"`
	Unit     string `json:"unit,omitempty" doc:"The file that describes the simulated unit; without it, one of those that ship"`
	Model    string `json:"model,omitempty" doc:"The model that the unit is; without it, the first that speaks the dialect"`
	Hardware string `json:"model_file,omitempty" doc:"Or a model file that is not loaded"`
}

// Trialed is what came of a rehearsal.
type Trialed struct {
	Works bool        `json:"works"`
	Model string      `json:"model"`
	Steps []TrialStep `json:"steps"`
}

// TrialStep is a part of a rehearsal with what went over the line.
type TrialStep struct {
	Title     string          `json:"title"`
	Works     bool            `json:"works"`
	Note      string          `json:"note"`
	Exchanges []TrialExchange `json:"exchanges"`
}

// TrialExchange is one request or message, with secrets masked.
type TrialExchange struct {
	Request string `json:"request"`
	Body    string `json:"body,omitempty"`
	Reply   string `json:"reply,omitempty"`
	Error   string `json:"error,omitempty"`
}

// FileText is a model or dialect file.
type FileText struct {
	File string `json:"file" doc:"YAML"`
}

// Checked is the outcome of checking a dialect file.
type Checked struct {
	Valid  bool            `json:"valid"`
	Faults []dialect.Fault `json:"faults"`
}

// Account is what a person signs in with.
type Account struct {
	Name     string `json:"name" example:"marta"`
	Password string `json:"password" writeOnly:"true" doc:"At least 12 characters"`
}

// FirstAccount makes the first account, with the one-time link that the
// service printed at its first start.
type FirstAccount struct {
	Link     string `json:"link" doc:"The last part of the link"`
	Name     string `json:"name"`
	Password string `json:"password" writeOnly:"true" doc:"At least 12 characters"`
}

// Me is who is signed in.
type Me struct {
	Name  string `json:"name,omitempty"`
	First bool   `json:"first" doc:"There is no account yet"`
}

// Token lets a program in. Its text is shown once, when it is made.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Text      string     `json:"text,omitempty"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
}

// NewToken names a token to be made.
type NewToken struct {
	Name string `json:"name" example:"workshop laptop"`
}

// Info tells of the service.
type Info struct {
	Version  string    `json:"version"`
	Radio    bool      `json:"radio"`
	Broker   string    `json:"broker"`
	Now      time.Time `json:"now"`
	Scale    float64   `json:"time_scale"`
	Sessions int       `json:"sessions" doc:"Clients of the embedded broker"`
}

// Change is one line of the live stream: an object that changed.
type Change struct {
	Kind string `json:"kind"`
	ID   string `json:"id"`
}

// Report is what the owner of a site is handed: what is installed where, on which
// version, every check, and who did what when. It holds no secret.
type Report struct {
	Site    string         `json:"site" doc:"The site's name"`
	Key     string         `json:"key"`
	Zone    string         `json:"zone" doc:"IANA time zone of the site"`
	At      time.Time      `json:"at" doc:"When the report was made"`
	By      string         `json:"by" doc:"Who had it made"`
	Fado    string         `json:"fado" doc:"Version of the service"`
	Network string         `json:"network,omitempty" doc:"Name of the Wi-Fi network; its passphrase is not in here"`
	Broker  string         `json:"broker,omitempty"`
	Hub     string         `json:"hub,omitempty"`
	Counts  ReportCounts   `json:"counts"`
	Devices []ReportDevice `json:"devices" doc:"By room and name; those no longer in service last"`
	Events  []Event        `json:"events" doc:"What was done, the oldest first; units that come and go are left out"`
	LeftOut int64          `json:"events_left_out" doc:"Older events that are not in here"`
	Open    []string       `json:"open,omitempty" doc:"What is still open, in words"`
}

// ReportCounts are the devices of a report by what matters.
type ReportCounts struct {
	Devices   int `json:"devices"`
	InService int `json:"in_service"`
	SignedOff int `json:"signed_off"`
	Behind    int `json:"behind" doc:"That run another version than is intended"`
}

// ReportDevice is a device in a report.
type ReportDevice struct {
	ID           string          `json:"id"`
	Name         string          `json:"name"`
	Room         string          `json:"room,omitempty"`
	Model        string          `json:"model"`
	ModelTitle   string          `json:"model_title"`
	Power        string          `json:"power,omitempty" enum:"mains,battery"`
	Does         []string        `json:"does" doc:"What it switches and measures"`
	Hostname     string          `json:"hostname"`
	Topic        string          `json:"topic"`
	Address      string          `json:"address,omitempty"`
	HardwareID   string          `json:"hardware_id,omitempty"`
	Firmware     string          `json:"firmware,omitempty"`
	Running      string          `json:"running,omitempty" doc:"Version that it reported"`
	Intended     string          `json:"intended,omitempty"`
	Standing     string          `json:"standing" enum:"current,behind,ahead,unknown"`
	Stage        inventory.Stage `json:"stage" enum:"listed,contacted,joined,configured,reporting,adopted,retired"`
	Commissioned *time.Time      `json:"commissioned,omitempty"`
	By           string          `json:"commissioned_by,omitempty"`
	SignOff      check.Standing  `json:"sign_off" enum:"unchecked,fails,open,signed off"`
	Checks       []check.Result  `json:"checks"`
	Units        []Tenure        `json:"units"`
}

// Said is one message under a device's topic, with what it means.
type Said struct {
	Seq      int64          `json:"seq" doc:"Counts up"`
	At       time.Time      `json:"at"`
	DeviceID string         `json:"device_id"`
	Device   string         `json:"device,omitempty"`
	Site     string         `json:"site,omitempty"`
	Room     string         `json:"room,omitempty"`
	Topic    string         `json:"topic"`
	Below    string         `json:"below" doc:"The topic below the device's own"`
	Kind     string         `json:"kind,omitempty" doc:"What it is to its dialect; empty when that does not know it"`
	Says     map[string]any `json:"says,omitempty" doc:"What it means, by its dialect"`
	Means    string         `json:"means,omitempty" doc:"Of a state: what is in which state, in words"`
	Payload  string         `json:"payload" doc:"As text; where it is none, as hexadecimal digits"`
	Hex      bool           `json:"hex,omitempty" doc:"The payload is no text"`
	Size     int            `json:"size" doc:"Bytes of the payload"`
	Hidden   bool           `json:"hidden,omitempty" doc:"The payload was not kept: it is what a unit is told, and may hold a secret"`
	Kept     bool           `json:"kept,omitempty" doc:"The broker kept it; it is not live"`
	From     string         `json:"from,omitempty" doc:"The account that sent it, where the broker tells"`
}

// SaidPage is a part of what was said in the last hour, the oldest first.
type SaidPage struct {
	Messages []Said     `json:"messages"`
	Next     int64      `json:"next" doc:"Give it as after to read on"`
	LeftOut  int        `json:"left_out" doc:"That fit, too, but are older than the first of these"`
	Since    *time.Time `json:"since,omitempty" doc:"How far back messages are kept"`
}

// Health is how a device's unit did, span by span.
type Health struct {
	DeviceID    string         `json:"device_id"`
	Device      string         `json:"device"`
	SpanSeconds int            `json:"span_seconds" doc:"300 for up to two days, else 3600"`
	Series      []HealthSeries `json:"series"`
}

// HealthSeries is one thing that was measured.
type HealthSeries struct {
	What  string       `json:"what" enum:"signal,free memory,battery,interval,returns" doc:"interval: between two readings; returns: how often it came online"`
	Unit  string       `json:"unit" enum:"dBm,bytes,%,s,times"`
	Spans []HealthSpan `json:"spans" doc:"The oldest first; spans in which nothing was said are not there"`
}

// HealthSpan is what was measured in one span of time.
type HealthSpan struct {
	At    time.Time `json:"at" doc:"When the span began"`
	Count int64     `json:"count" doc:"Readings"`
	Low   float64   `json:"low"`
	High  float64   `json:"high"`
	Mean  float64   `json:"mean"`
	Sum   float64   `json:"sum"`
	Last  float64   `json:"last"`
}
