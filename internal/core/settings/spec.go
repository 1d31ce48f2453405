// Package settings holds what a device can be told: the settings there are,
// the rules for their values, the three values of each (intended, handed over,
// reported) and their differences. It never reads a database or a unit.
package settings

import (
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
)

// Key names a setting.
type Key string

// The settings that a device can be told.
const (
	WifiSSID         Key = "wifi.ssid"
	WifiPassphrase   Key = "wifi.passphrase"
	WifiFallbackSSID Key = "wifi.fallback_ssid"
	WifiFallbackPass Key = "wifi.fallback_passphrase"
	AddressMode      Key = "address.mode"
	AddressIP        Key = "address.ip"
	AddressPrefix    Key = "address.prefix"
	AddressGateway   Key = "address.gateway"
	AddressDNS       Key = "address.dns"
	Hostname         Key = "hostname"
	Label            Key = "label"
	BrokerHost       Key = "broker.host"
	BrokerPort       Key = "broker.port"
	BrokerTLS        Key = "broker.tls"
	BrokerCA         Key = "broker.ca"
	BrokerCert       Key = "broker.certificate"
	BrokerCertKey    Key = "broker.certificate_key"
	BrokerUser       Key = "broker.user"
	BrokerPassword   Key = "broker.password"
	BrokerClient     Key = "broker.client_id"
	Topic            Key = "topic"
	AccessUser       Key = "access.user"
	AccessPassword   Key = "access.password"
	AccessPointKey   Key = "access.point_key"
	ClockZone        Key = "clock.zone"
	ClockServer      Key = "clock.server"
	UpkeepDays       Key = "upkeep.restart_days"
	UpdateKey        Key = "update.key"
	ReportSeconds    Key = "report.interval_seconds"
	LoadCount        Key = "load.count"
	LoadWidth        Key = "load.width"
	LoadHeight       Key = "load.height"
	LoadCorner       Key = "load.first_corner"
	LoadDirection    Key = "load.direction"
	LoadBackForth    Key = "load.back_and_forth"
	LoadLimit        Key = "load.brightness_limit"
)

// Kind is the type of a setting's value: text, number, flag or secret. In Go
// these are string, int64, bool and secret.Secret.
type Kind string

// The kinds of value.
const (
	Text   Kind = "text"
	Number Kind = "number"
	Flag   Kind = "flag"
	Hidden Kind = "secret"
)

// Spec is what is known of one setting. Rule returns the broken rule and a
// value that would pass, or two empty strings.
type Spec struct {
	Key     Key
	Title   string
	Kind    Kind
	Rule    func(value any) (rule, passes string)
	Choices []string // the values there are; nil when it is free
}

// Specs lists every setting in the order in which a sheet shows them.
var Specs = []Spec{
	{WifiSSID, "Wi-Fi network", Text, ssidRule, nil},
	{WifiPassphrase, "Wi-Fi passphrase", Hidden, passphraseRule, nil},
	{WifiFallbackSSID, "Wi-Fi network to fall back on", Text, ssidRule, nil},
	{WifiFallbackPass, "Passphrase to fall back on", Hidden, passphraseRule, nil},
	{AddressMode, "Addressing", Text, oneOf("dhcp", "fixed"), []string{"dhcp", "fixed"}},
	{AddressIP, "Address", Text, ipRule, nil},
	{AddressPrefix, "Prefix length", Number, between(1, 30), nil},
	{AddressGateway, "Gateway", Text, ipRule, nil},
	{AddressDNS, "DNS server", Text, ipRule, nil},
	{Hostname, "Hostname", Text, textRule(naming.CheckHostname), nil},
	{Label, "Label", Text, textRule(naming.CheckLabel), nil},
	{BrokerHost, "Broker", Text, hostRule, nil},
	{BrokerPort, "Broker port", Number, between(1, 65535), nil},
	{BrokerTLS, "Broker by TLS", Flag, nil, nil},
	{BrokerCA, "Broker CA certificate", Text, pemRule, nil},
	{BrokerCert, "Broker client certificate", Text, pemRule, nil},
	{BrokerCertKey, "Key of the client certificate", Hidden, pemKeyRule, nil},
	{BrokerUser, "Broker account", Text, line(1, 64), nil},
	{BrokerPassword, "Broker password", Hidden, hiddenLine(1, 64), nil},
	{BrokerClient, "Broker client id", Text, line(1, 64), nil},
	{Topic, "Topic", Text, textRule(naming.CheckTopic), nil},
	{AccessUser, "Unit's own login", Text, line(1, 32), nil},
	{AccessPassword, "Unit's own password", Hidden, hiddenLine(8, 64), nil},
	{AccessPointKey, "Key of its own access point", Hidden, passphraseRule, nil},
	{ClockZone, "Time zone", Text, zoneRule, nil},
	{ClockServer, "Time server", Text, hostRule, nil},
	{UpkeepDays, "Restart every so many days", Number, between(0, 90), nil},
	{UpdateKey, "Key that signs updates", Text, keyRule, nil},
	{ReportSeconds, "Report every so many seconds", Number, between(5, 86400), nil},
	{LoadCount, "Lamps on the strip", Number, between(1, 4096), nil},
	{LoadWidth, "Lamps in a row", Number, between(1, 1024), nil},
	{LoadHeight, "Rows of lamps", Number, between(1, 1024), nil},
	{LoadCorner, "Corner of the first lamp", Text, oneOf("top left", "top right", "bottom left", "bottom right"), []string{"top left", "top right", "bottom left", "bottom right"}},
	{LoadDirection, "The strip runs in", Text, oneOf("rows", "columns"), []string{"rows", "columns"}},
	{LoadBackForth, "Back and forth", Flag, nil, nil},
	{LoadLimit, "Brightness limit, %", Number, between(1, 100), nil},
}

var byKey = func() map[Key]Spec {
	m := make(map[Key]Spec, len(Specs))
	for _, s := range Specs {
		m[s.Key] = s
	}
	return m
}()

// Lookup finds a setting's spec.
func Lookup(key Key) (Spec, bool) {
	if s, ok := byKey[key]; ok {
		return s, true
	}
	return familySpec(key)
}

// IsSecret reports whether the key's value is a secret.
func IsSecret(key Key) bool {
	s, ok := Lookup(key)
	return ok && s.Kind == Hidden
}

// Values maps settings to values of their kinds.
type Values map[Key]any

// Read turns a JSON value into the value of a setting's kind.
func Read(key Key, raw json.RawMessage) (any, error) {
	spec, ok := Lookup(key)
	if !ok {
		return nil, fmt.Errorf("there is no setting %q", key)
	}
	var err error
	switch spec.Kind {
	case Number:
		var n int64
		if err = json.Unmarshal(raw, &n); err == nil {
			return n, nil
		}
	case Flag:
		var b bool
		if err = json.Unmarshal(raw, &b); err == nil {
			return b, nil
		}
	default:
		var s string
		if err = json.Unmarshal(raw, &s); err == nil {
			if spec.Kind == Hidden {
				return secret.New(s), nil
			}
			return s, nil
		}
	}
	return nil, fmt.Errorf("%s wants a %s", key, spec.Kind)
}

// Normal brings a value that a unit reported to its setting's kind: units say
// numbers as text and flags as 1. It returns nil when it cannot.
func Normal(key Key, v any) any {
	spec, ok := Lookup(key)
	if !ok || v == nil {
		return nil
	}
	text := fmt.Sprint(v)
	switch spec.Kind {
	case Number:
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || f != float64(int64(f)) {
			return nil
		}
		return int64(f)
	case Flag:
		switch strings.ToLower(text) {
		case "true", "1", "on", "yes":
			return true
		case "false", "0", "off", "no", "":
			return false
		}
		return nil
	case Hidden:
		return nil
	}
	return text
}

// Check applies every rule, of single values and between them, and reports all
// that are broken.
func Check(values Values) problem.Fields {
	var f problem.Fields
	for _, key := range values.Keys() {
		spec, ok := Lookup(key)
		if !ok || spec.Rule == nil {
			continue
		}
		if rule, passes := spec.Rule(values[key]); rule != "" {
			f.Add(string(key), rule, passes)
		}
	}
	checkAddress(values, &f)
	if values.has(BrokerCert) != values.has(BrokerCertKey) {
		f.Add(string(BrokerCert), "a client certificate and its key go together", "")
	}
	return f
}

func checkAddress(values Values, f *problem.Fields) {
	if values[AddressMode] != "fixed" {
		return
	}
	ip, errIP := netip.ParseAddr(text(values[AddressIP]))
	gw, errGW := netip.ParseAddr(text(values[AddressGateway]))
	bits, okBits := values[AddressPrefix].(int64)
	if errIP != nil {
		f.Add(string(AddressIP), "a fixed address needs an address", "192.168.1.40")
	}
	if errGW != nil {
		f.Add(string(AddressGateway), "a fixed address needs a gateway", "192.168.1.1")
	}
	if !okBits || errIP != nil || errGW != nil {
		if !okBits {
			f.Add(string(AddressPrefix), "a fixed address needs a prefix length", "24")
		}
		return
	}
	net, err := gw.Prefix(int(bits))
	if err != nil {
		return
	}
	if !net.Contains(ip) {
		f.Add(string(AddressIP), fmt.Sprintf("lies outside the gateway's network %s", net), net.Addr().Next().Next().String())
	} else if ip == gw {
		f.Add(string(AddressIP), "is the gateway's own address", gw.Next().String())
	} else if ip == net.Addr() {
		f.Add(string(AddressIP), "is the address of the network itself", gw.Next().String())
	} else if !net.Contains(ip.Next()) {
		f.Add(string(AddressIP), "is the network's broadcast address", ip.Prev().String())
	}
}

func (v Values) has(key Key) bool { _, ok := v[key]; return ok }

func text(v any) string { s, _ := v.(string); return s }

func textRule(check func(string) (string, string)) func(any) (string, string) {
	return func(v any) (string, string) { return check(text(v)) }
}

// ssidRule: IEEE 802.11, 1 to 32 octets.
func ssidRule(v any) (string, string) {
	if n := len(text(v)); n < 1 || n > 32 {
		return fmt.Sprintf("is %d octets long; 1 to 32 are allowed", n), "lagar-casa"
	}
	if !utf8.ValidString(text(v)) || strings.ContainsFunc(text(v), func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "is not valid UTF-8 or holds a control character", "lagar-casa"
	}
	return "", ""
}

// passphraseRule: WPA2 and WPA3 personal, 8 to 63 printable ASCII characters.
func passphraseRule(v any) (string, string) {
	s, _ := v.(secret.Secret)
	p := s.Expose()
	if len(p) < 8 || len(p) > 63 {
		return "must be 8 to 63 characters long", ""
	}
	for _, r := range p {
		if r < ' ' || r > '~' {
			return "holds a character that access points do not accept; printable ASCII is allowed", ""
		}
	}
	return "", ""
}

func between(low, high int64) func(any) (string, string) {
	return func(v any) (string, string) {
		if n, ok := v.(int64); !ok || n < low || n > high {
			return fmt.Sprintf("must be between %d and %d", low, high), strconv.FormatInt(low, 10)
		}
		return "", ""
	}
}

func line(low, high int) func(any) (string, string) {
	return func(v any) (string, string) { return lineRule(text(v), low, high) }
}

func hiddenLine(low, high int) func(any) (string, string) {
	return func(v any) (string, string) {
		s, _ := v.(secret.Secret)
		return lineRule(s.Expose(), low, high)
	}
}

func lineRule(s string, low, high int) (string, string) {
	if n := utf8.RuneCountInString(s); n < low || n > high {
		return fmt.Sprintf("must be %d to %d characters long", low, high), ""
	}
	if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "holds a control character", ""
	}
	return "", ""
}

func oneOf(words ...string) func(any) (string, string) {
	return func(v any) (string, string) {
		if !slices.Contains(words, text(v)) {
			return "must be one of " + strings.Join(words, ", "), words[0]
		}
		return "", ""
	}
}

func ipRule(v any) (string, string) {
	if a, err := netip.ParseAddr(text(v)); err != nil || !a.Is4() {
		return "is not an IPv4 address", "192.168.1.40"
	}
	return "", ""
}

var hostLabel = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?$`)

func hostRule(v any) (string, string) {
	host := text(v)
	if _, err := netip.ParseAddr(host); err == nil {
		return "", ""
	}
	if len(host) > 253 || host == "" {
		return "must be a host name or an address", "broker.lan"
	}
	for label := range strings.SplitSeq(host, ".") {
		if !hostLabel.MatchString(label) {
			return "must be a host name or an address", "broker.lan"
		}
	}
	return "", ""
}

func zoneRule(v any) (string, string) {
	if z := text(v); z == "" || z == "Local" {
		return "must be an IANA time zone", "Europe/Lisbon"
	}
	if _, err := time.LoadLocation(text(v)); err != nil {
		return "is not a known IANA time zone", "Europe/Lisbon"
	}
	return "", ""
}

func pemRule(v any) (string, string) {
	if block, _ := pem.Decode([]byte(text(v))); block == nil || block.Type != "CERTIFICATE" {
		return "must be a certificate in PEM form", ""
	}
	return "", ""
}

// pemKeyRule: a private key in PEM form (RFC 7468, section 10).
func pemKeyRule(v any) (string, string) {
	s, _ := v.(secret.Secret)
	if block, _ := pem.Decode([]byte(s.Expose())); block == nil || !strings.HasSuffix(block.Type, "PRIVATE KEY") {
		return "must be a private key in PEM form", ""
	}
	return "", ""
}

var publicKey = regexp.MustCompile(`^[A-Za-z0-9_-]{43}$`)

// keyRule: the x member of an RFC 8037 key, base64url without padding.
func keyRule(v any) (string, string) {
	if !publicKey.MatchString(text(v)) {
		return "must be an Ed25519 public key, base64url", ""
	}
	return "", ""
}
