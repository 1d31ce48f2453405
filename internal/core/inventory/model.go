package inventory

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"

	"fado/internal/core/problem"
)

// Model is a kind of hardware, as its file describes it.
type Model struct {
	Name         string       `yaml:"model" json:"name" doc:"Short name, unique"`
	Title        string       `yaml:"title" json:"title"`
	Maker        string       `yaml:"maker" json:"maker,omitempty"`
	Kind         string       `yaml:"kind" json:"kind" doc:"What it is, in a word: relay, climate, level. Used by naming schemes"`
	Dialect      string       `yaml:"dialect" json:"dialect" doc:"The dialect that its firmware speaks"`
	Firmware     string       `yaml:"firmware" json:"firmware" doc:"The name of the firmware that runs on it"`
	Chip         string       `yaml:"chip" json:"chip"`
	FlashKiB     int          `yaml:"flash_kib" json:"flash_kib" doc:"Flash memory, KiB"`
	Slots        int          `yaml:"slots" json:"slots" doc:"Program slots: 2 lets a unit go back by itself"`
	Power        Power        `yaml:"power" json:"power"`
	Radios       []string     `yaml:"radios" json:"radios,omitempty"`
	BootSeconds  int          `yaml:"boot_seconds" json:"boot_seconds" doc:"Usual time from restart to its first message, until a better one is learnt"`
	SetUp        string       `yaml:"set_up" json:"set_up" doc:"How a person brings it into set-up mode"`
	Wake         string       `yaml:"wake" json:"wake,omitempty" doc:"How a person wakes it"`
	WakeSeconds  int          `yaml:"wake_seconds" json:"wake_seconds,omitempty" doc:"Usual time between two wakes of a unit that sleeps"`
	Before       []string     `yaml:"before" json:"before,omitempty" doc:"What a person must have done before it is commissioned, and confirms"`
	Recover      string       `yaml:"recover" json:"recover,omitempty" doc:"How a dead unit is brought back"`
	Cautions     []string     `yaml:"cautions" json:"cautions,omitempty"`
	Capabilities []Capability `yaml:"capabilities" json:"capabilities"`
	Load         Load         `yaml:"load" json:"load,omitempty" doc:"What its output drives: strip or lamp"`
	Ports        []Port       `yaml:"ports" json:"ports,omitempty"`
	ImageFields  []ImageField `yaml:"image_fields" json:"image_fields,omitempty" doc:"Where its images say what they are"`
	UF2Family    string       `yaml:"uf2_family" json:"uf2_family,omitempty" doc:"The family of its chip in UF2 files, such as 0x1b57745f"`
}

// ImageField says where an image of a model tells something of itself.
type ImageField struct {
	What   string `yaml:"what" json:"what" doc:"version, product, chip or size"`
	At     int    `yaml:"at" json:"at" doc:"Byte, from 0, of what it unpacks to"`
	Type   string `yaml:"type" json:"type" doc:"text, u8, u16, u32 or dotted (a byte a number)"`
	Length int    `yaml:"length" json:"length,omitempty" doc:"text and dotted: bytes"`
	Big    bool   `yaml:"big_endian" json:"big_endian,omitempty"`
}

// Width is how many bytes the field takes.
func (f ImageField) Width() int {
	switch f.Type {
	case "u8":
		return 1
	case "u16":
		return 2
	case "u32":
		return 4
	}
	return f.Length
}

var uf2Family = regexp.MustCompile(`^0x[0-9a-f]{8}$`)

func (m Model) checkImages(f *problem.Fields) {
	for i, x := range m.ImageFields {
		at := fmt.Sprintf("image_fields[%d]", i)
		switch x.What {
		case "version", "product", "chip", "size":
		default:
			f.Add(at+".what", "version, product, chip or size", "version")
		}
		switch x.Type {
		case "u8", "u16", "u32":
		case "text", "dotted":
			if x.Length < 1 || x.Length > 64 {
				f.Add(at+".length", "between 1 and 64", "16")
			}
		default:
			f.Add(at+".type", "text, u8, u16, u32 or dotted", "text")
		}
		if x.At < 0 || x.At > 64<<20 {
			f.Add(at+".at", "between 0 and the largest image", "32")
		}
	}
	if m.UF2Family != "" && !uf2Family.MatchString(m.UF2Family) {
		f.Add("uf2_family", "0x and eight lower-case hexadecimal digits", "0x1b57745f")
	}
}

// Load says what a model's output drives. Only a strip has a count and an
// order of its lamps.
type Load string

// The kinds of load.
const (
	Strip Load = "strip"
	Lamp  Load = "lamp"
)

// Power says what a unit lives on.
type Power string

// The kinds of power.
const (
	Mains   Power = "mains"
	Battery Power = "battery"
)

// Capability is something that a model can switch or measure.
type Capability struct {
	Name  string         `yaml:"name" json:"name"`
	Title string         `yaml:"title" json:"title"`
	Kind  CapabilityKind `yaml:"kind" json:"kind"`
	Unit  string         `yaml:"unit" json:"unit,omitempty" doc:"UCUM or plain unit of a measured number"`
	Low   *float64       `yaml:"low" json:"low,omitempty"`
	High  *float64       `yaml:"high" json:"high,omitempty"`
}

// CapabilityKind says what values a capability has and who sets them.
type CapabilityKind string

// The kinds of capability.
const (
	Switch  CapabilityKind = "switch"  // true or false, can be commanded
	Dimmer  CapabilityKind = "dimmer"  // a number from Low to High, can be commanded
	Contact CapabilityKind = "contact" // true (open) or false, only reported
	Measure CapabilityKind = "measure" // a number, only reported
)

// Commanded reports whether a person or the hub can set it.
func (k CapabilityKind) Commanded() bool { return k == Switch || k == Dimmer }

// Kinds lists the kinds of capability.
func Kinds() []CapabilityKind { return []CapabilityKind{Switch, Dimmer, Contact, Measure} }

// Capability finds a capability by name.
func (m Model) Capability(name string) (Capability, bool) {
	for _, c := range m.Capabilities {
		if c.Name == name {
			return c, true
		}
	}
	return Capability{}, false
}

// MaxModelFile is the largest model file that is read, in bytes.
const MaxModelFile = 256 << 10

var shortName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// ParseModel reads a model file (YAML 1.2, strict). All broken rules come in
// one error.
func ParseModel(file []byte) (Model, error) {
	var m Model
	if len(file) > MaxModelFile {
		return m, problem.New(problem.BadInput, fmt.Sprintf("The model file is %d bytes long.", len(file)),
			"A model is a page of text; this is something else.", fmt.Sprintf("Send a YAML file under %d KiB.", MaxModelFile>>10))
	}
	if err := yaml.UnmarshalWithOptions(file, &m, yaml.Strict()); err != nil {
		return m, problem.New(problem.BadInput, "The model file cannot be read: "+firstLine(err),
			"A key is misspelt, doubled, or has a value of another type.", "Correct the line named; docs/models.md lists the keys.").Because(err)
	}
	return m, m.Check()
}

func firstLine(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

// Check applies the rules to a model that did not come from a file.
func (m Model) Check() error {
	var f problem.Fields
	if !shortName.MatchString(m.Name) {
		f.Add("model", "lower-case letters, digits and hyphens, starting with a letter, at most 40", "junco")
	}
	if m.Title == "" {
		f.Add("title", "must not be empty", "Junco cistern level")
	}
	if !shortName.MatchString(m.Kind) {
		f.Add("kind", "one short lower-case word", "relay")
	}
	if !shortName.MatchString(m.Dialect) {
		f.Add("dialect", "the name of a dialect", "my-dialect")
	}
	if m.Firmware == "" {
		f.Add("firmware", "must not be empty", "junco")
	}
	if m.FlashKiB < 64 || m.FlashKiB > 1<<20 {
		f.Add("flash_kib", "between 64 and 1048576", "4096")
	}
	if m.Slots != 1 && m.Slots != 2 {
		f.Add("slots", "1 or 2", "2")
	}
	if m.Power != Mains && m.Power != Battery {
		f.Add("power", "mains or battery", "mains")
	}
	if m.BootSeconds < 1 || m.BootSeconds > 600 {
		f.Add("boot_seconds", "between 1 and 600", "6")
	}
	if m.SetUp == "" {
		f.Add("set_up", "say how a person brings it into set-up mode", "Hold the button for five seconds until the light turns white.")
	}
	if len(m.Capabilities) == 0 {
		f.Add("capabilities", "at least one", "- {name: relay, title: Relay, kind: switch}")
	}
	seen := map[string]bool{}
	for i, c := range m.Capabilities {
		at := fmt.Sprintf("capabilities[%d]", i)
		if !shortName.MatchString(c.Name) || seen[c.Name] {
			f.Add(at+".name", "a short lower-case word, used once", "relay-1")
		}
		seen[c.Name] = true
		switch c.Kind {
		case Switch, Contact:
		case Dimmer, Measure:
			if c.Low != nil && c.High != nil && *c.Low >= *c.High {
				f.Add(at+".low", "less than high", "0")
			}
		default:
			f.Add(at+".kind", "switch, dimmer, contact or measure", "switch")
		}
	}
	if m.Power == Battery && m.Wake == "" {
		f.Add("wake", "say how a person wakes it: it runs on a battery", "Press the button on its back once.")
	}
	if m.WakeSeconds < 0 || m.WakeSeconds > 86400 {
		f.Add("wake_seconds", "between 0 and 86400", "300")
	}
	if m.Load != "" && m.Load != Strip && m.Load != Lamp {
		f.Add("load", "strip or lamp", "strip")
	}
	m.checkImages(&f)
	for i, b := range m.Before {
		if strings.TrimSpace(b) == "" {
			f.Add(fmt.Sprintf("before[%d]", i), "must not be empty", "Take it out of the maker's cloud.")
		}
	}
	checkPorts(m, seen, &f)
	return f.Err(fmt.Sprintf("The model %q breaks %d rules.", m.Name, len(f)))
}
