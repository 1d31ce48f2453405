package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/store"
)

// intended resolves what a device should be told: site under model-at-site
// under device. The broker account is added when there is one that is not yet
// proven; afterwards only its keyed hash is left.
func (e *Engine) intended(tx *store.Tx, d store.Device) (settings.Values, map[settings.Key]string, error) {
	site, err := store.One[store.Site](tx, "id = ?", d.SiteID)
	if err != nil {
		return nil, nil, fmt.Errorf("read the site: %w", err)
	}
	base := settings.Values{settings.ClockZone: site.Zone}
	if site.NetworkID != nil {
		n, err := store.One[store.Network](tx, "id = ?", *site.NetworkID)
		if err != nil {
			return nil, nil, fmt.Errorf("read the network: %w", err)
		}
		pass, err := e.open("network", n.ID, n.Passphrase)
		if err != nil {
			return nil, nil, err
		}
		base[settings.WifiSSID] = n.SSID
		if !pass.IsZero() {
			base[settings.WifiPassphrase] = pass
		}
	}
	if site.BrokerID != nil {
		b, err := store.One[store.Broker](tx, "id = ?", *site.BrokerID)
		if err != nil {
			return nil, nil, fmt.Errorf("read the broker: %w", err)
		}
		base[settings.BrokerHost], base[settings.BrokerPort], base[settings.BrokerTLS] = b.Host, int64(b.Port), b.TLS
		if b.CA != "" {
			base[settings.BrokerCA] = b.CA
		}
		if b.Kind == external {
			pass, err := e.open("broker", b.ID, b.Password)
			if err != nil {
				return nil, nil, err
			}
			base[settings.BrokerUser], base[settings.BrokerPassword] = b.User, pass
			if d.HardwareID != "" {
				// Units that share an account must not throw each other off: a broker
				// keeps one session a client id (MQTT 3.1.1, section 3.1.4).
				base[settings.BrokerClient] = "unit-" + inventory.HardwareID(d.HardwareID).Digits()
			}
		}
	}
	if key, err := currentKey(tx); err == nil {
		base[settings.UpdateKey] = key.Public
	}
	layers := []settings.Layer{{Origin: "site", Values: base}}
	for _, scope := range [][2]string{{"site", d.SiteID}, {"model", d.SiteID + "/" + d.Model}, {"device", d.ID}} {
		rows, err := store.All[store.Intended](tx, "key", "scope = ? AND scope_id = ?", scope[0], scope[1])
		if err != nil {
			return nil, nil, err
		}
		values := settings.Values{}
		for _, r := range rows {
			k := settings.Key(r.Key)
			if len(r.Sealed) > 0 {
				s, err := e.open("setting", r.Scope+"/"+r.ScopeID+"/"+r.Key, r.Sealed)
				if err != nil {
					return nil, nil, err
				}
				values[k] = s
				continue
			}
			v, err := settings.Read(k, json.RawMessage(r.Value))
			if err != nil {
				return nil, nil, err
			}
			values[k] = v
		}
		layers = append(layers, settings.Layer{Origin: scope[0], Values: values})
	}
	own := settings.Values{settings.Hostname: d.Hostname, settings.Topic: d.Topic, settings.Label: d.Label}
	if a, ok := e.account(tx, d); ok {
		own[settings.BrokerUser] = a.Name
		pass, err := e.open("account", a.Name, a.Sealed)
		if err != nil {
			return nil, nil, err
		}
		own[settings.BrokerPassword] = pass // zero once it was seen in use
		if c, ok := certificateOf(tx, a.Name); ok {
			key, err := e.open("certificate", c.Serial, c.Key)
			if err != nil {
				return nil, nil, err
			}
			own[settings.BrokerCert], own[settings.BrokerCertKey] = c.PEM, key
		}
	}
	values, origin := settings.Resolve(append(layers, settings.Layer{Origin: "device", Values: own})...)
	return values, origin, nil
}

// HideSecrets masks what is intended for a device and secret in a text that its
// unit wrote.
func (e *Engine) HideSecrets(ctx context.Context, d store.Device, said string) (string, error) {
	hide, err := e.Hider(ctx, d)
	if err != nil {
		return "", err
	}
	return hide(said), nil
}

// Hider gives what HideSecrets does, for many texts of one device.
func (e *Engine) Hider(ctx context.Context, d store.Device) (func(said string) string, error) {
	values, _, err := e.intended(e.Store.Read(ctx), d)
	if err != nil {
		return nil, err
	}
	return func(said string) string { return secret.Hide(said, maps.Values(values)) }, nil
}

// hashValue is the keyed hash that tells whether a value is the one that was
// handed over.
func (e *Engine) hashValue(v any) string {
	if s, ok := v.(secret.Secret); ok {
		return e.Store.Hash(s.Expose())
	}
	return e.Store.Hash(fmt.Sprint(v))
}

// Line is a setting with its three values and where the intended one comes from.
type Line struct {
	settings.Line
	Origin string
}

// Lines returns the settings of a device as its sheet shows them.
func (e *Engine) Lines(tx *store.Tx, d store.Device) ([]Line, error) {
	values, origin, err := e.intended(tx, d)
	if err != nil {
		return nil, err
	}
	model, dl, _ := e.speaker(d) // without a dialect nothing is supported, and the sheet says so
	subject := shownSubject(model, d)
	rows, err := store.All[store.Fact](tx, "key", "device_id = ?", d.ID)
	if err != nil {
		return nil, err
	}
	facts := map[string]store.Fact{}
	for _, r := range rows {
		facts[r.Kind+"/"+r.Key] = r
	}
	account, hasAccount := e.account(tx, d)
	var out []Line
	for _, key := range values.Keys() {
		v := values[key]
		l := Line{Line: settings.Line{Key: key, Intended: v, Hash: e.hashValue(v)}, Origin: origin[key]}
		if key == settings.BrokerPassword && hasAccount {
			l.Hash = account.Hash
		}
		if dl != nil && v == false && !dl.Supports(key, subject) {
			continue // what a firmware does not know is off
		}
		if dl != nil {
			l.Supported, l.ReadBack = dl.Supports(key, subject), dl.ReadsBack(key, subject)
		}
		if r, ok := facts["handed over/"+string(key)]; ok {
			l.HandedOver = &settings.HandedOver{Unit: r.UnitID, At: r.At, Hash: r.Value}
		}
		if r, ok := facts["reported/"+string(key)]; ok {
			var x any
			if json.Unmarshal([]byte(r.Value), &x) == nil {
				l.Reported = &settings.Reported{Value: settings.Normal(key, x), At: r.At, Since: r.Since}
			}
		}
		if r, ok := facts["proof/"+string(key)]; ok {
			l.Proof = &settings.Proof{By: r.Value, At: r.At}
		}
		out = append(out, l)
	}
	return out, nil
}

// driftCount counts the settings that a unit reports otherwise than intended.
func (e *Engine) driftCount(tx *store.Tx, d store.Device) (int, error) {
	if !inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		return 0, nil
	}
	lines, err := e.Lines(tx, d)
	n := 0
	for _, l := range lines {
		if l.State() == settings.Differs || l.State() == settings.NotHandedOver {
			n++
		}
	}
	return n, err
}

// SetIntended changes intended settings at one scope: a site, a model at a site
// or a device. A null value takes the setting away. All or nothing.
func (e *Engine) SetIntended(ctx context.Context, actor, siteRef, model, deviceRef string, changes map[string]json.RawMessage) error {
	kind, err := e.scopeModel(ctx, model, deviceRef)
	if err != nil {
		return err
	}
	values, f := judgeIntended(kind, changes)
	if len(f) > 0 {
		return f.Err("The settings were not changed.")
	}
	to := scope{name: "site"}
	if deviceRef != "" {
		d, err := e.FindDevice(ctx, deviceRef)
		if err != nil {
			return err
		}
		to = deviceScope(d)
	} else {
		site, err := e.FindSite(ctx, siteRef)
		if err != nil {
			return err
		}
		to.id, to.what, to.site = site.ID, site.Name, site.ID
		if model != "" {
			if _, ok := e.Model(model); !ok {
				return notFound("model", model)
			}
			to.name, to.id, to.what, to.model = "model", site.ID+"/"+model, fmt.Sprintf("%s at %s", model, site.Name), model
		}
	}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		rev, err := store.NextRevision(tx, e.Clock.Now(), actor, "settings of "+to.what)
		if err != nil {
			return err
		}
		return e.intend(tx, actor, rev, to, values)
	})
}

// scope is where settings are intended: for a site, a model at a site, or a
// device.
type scope struct{ name, id, what, site, model, device string }

func deviceScope(d store.Device) scope {
	return scope{name: "device", id: d.ID, what: d.Name, site: d.SiteID, device: d.ID}
}

// judgeIntended reads changes of intended settings; nil values are to be taken
// away.
func judgeIntended(kind inventory.Model, changes map[string]json.RawMessage) (settings.Values, problem.Fields) {
	var f problem.Fields
	values := settings.Values{}
	for k, raw := range changes {
		key := settings.Canonical(settings.Key(k), kind)
		spec, known := settings.Lookup(key)
		_, _, _, ofItem := settings.Split(key)
		switch {
		case !known:
			f.Add(k, "there is no such setting", dialect.Nearest(k, settingNames()))
		case ofItem && kind.Name == "":
			f.Add(k, "belongs to a model's ports or outputs; set it for a model or a device", "")
		case whoSets(key) != "":
			f.Add(k, whoSets(key), "")
		case string(raw) == "null":
			values[key] = nil
		default:
			v, err := settings.Read(key, raw)
			if err != nil {
				f.Add(k, fmt.Sprintf("must be a %s", spec.Kind), "")
				continue
			}
			values[key] = v
			if spec.Rule != nil {
				if rule, passes := spec.Rule(v); rule != "" {
					f.Add(k, rule, passes)
				}
			}
		}
	}
	return values, f
}

// intend writes intended settings, and sees that they suit every device that
// they are for.
func (e *Engine) intend(tx *store.Tx, actor string, rev int64, to scope, values settings.Values) error {
	at := e.Clock.Now()
	var said []string
	var err error
	for _, k := range values.Keys() {
		v := values[k]
		id := to.name + "/" + to.id + "/" + string(k)
		if v == nil {
			_, err = store.Delete[store.Intended](tx, "scope = ? AND scope_id = ? AND key = ?", to.name, to.id, string(k))
			said = append(said, string(k)+" taken away")
		} else {
			row := store.Intended{Scope: to.name, ScopeID: to.id, Key: string(k), Revision: rev, Actor: actor, At: at}
			if s, ok := v.(secret.Secret); ok {
				row.Sealed = e.seal("setting", id, s)
			} else {
				row.Value = store.JSON(v)
			}
			err = store.Save(tx, &row)
			said = append(said, fmt.Sprintf("%s %v", k, v))
		}
		if err != nil {
			return err
		}
	}
	where, which := "site_id = ? AND (? = '' OR model = ?)", []any{to.site, to.model, to.model}
	if to.device != "" {
		where, which = "id = ?", []any{to.device}
	}
	list, err := store.All[store.Device](tx, "id", where, which...)
	if err != nil {
		return err
	}
	for _, d := range list {
		vals, _, err := e.intended(tx, d)
		if err != nil {
			return err
		}
		m, _ := e.Model(d.Model)
		if broken := settings.CheckFor(withoutZero(vals), m); len(broken) > 0 {
			return broken.Err(fmt.Sprintf("The settings were not changed: they would not suit %s.", d.Name))
		}
		if to.device != "" {
			broken, err := e.addressInUse(tx, d, vals, nil)
			if err != nil {
				return err
			}
			if err := broken.Err("The settings were not changed."); err != nil {
				return err
			}
		}
		if err := e.refresh(tx, d.ID); err != nil {
			return err
		}
		e.mark(tx, "device", d.ID)
	}
	return e.event(tx, store.Event{Actor: actor, SiteID: to.site, DeviceID: to.device, Kind: "settings", Text: fmt.Sprintf("Intended for %s: %s.", to.what, strings.Join(said, ", "))})
}

// Settable is a setting that can be intended for a device: its firmware can be
// told, and it is not the site's network or broker, nor the device's own name.
type Settable struct {
	settings.Spec
	Choices []string
}

// Settable lists them, with the items of the model's families.
func (e *Engine) Settable(d store.Device) ([]Settable, error) {
	model, dl, err := e.speaker(d)
	if err != nil {
		return nil, err
	}
	subject := shownSubject(model, d)
	var out []Settable
	add := func(key settings.Key, choices ...string) {
		if spec, ok := settings.Lookup(key); ok && dl.Supports(key, subject) && whoSets(key) == "" {
			if spec.Kind == settings.Flag {
				choices = []string{"true", "false"}
			}
			out = append(out, Settable{spec, choices})
		}
	}
	for _, s := range settings.Specs {
		if strings.HasPrefix(string(s.Key), "load.") && model.Load != inventory.Strip && s.Key != settings.LoadLimit {
			continue
		}
		add(s.Key, s.Choices...)
	}
	for _, p := range model.Ports {
		var can []string
		for _, c := range append(slices.Clone(p.Can), inventory.Unused) {
			if rule, _ := p.MayDo(c); rule == "" {
				can = append(can, c)
			}
		}
		add(settings.ItemKey("port", p.Label, "function"), can...)
		if slices.ContainsFunc(can, func(c string) bool { return c != inventory.Unused && !inventory.Drives(c) }) {
			add(settings.ItemKey("report", p.Label, "topic"))
			add(settings.ItemKey("report", p.Label, "payload"))
		}
	}
	for _, c := range model.Capabilities {
		if c.Kind.Commanded() {
			add(settings.ItemKey("power_up", c.Name, "state"), "off", "on", "last")
		}
	}
	return out, nil
}

// whoSets says where a setting is changed that is not set for a device alone; ""
// for all others.
func whoSets(key settings.Key) string {
	switch key {
	case settings.Hostname, settings.Topic, settings.Label:
		return "is a device's own name; change it with «fado device edit»"
	case settings.WifiSSID, settings.WifiPassphrase, settings.BrokerUser, settings.BrokerPassword, settings.BrokerClient, settings.UpdateKey:
		return "comes from the site's network, broker or signing key; change it there"
	}
	return ""
}

// scopeModel is the model that a change is for: that of the device, or the one
// named. It is empty for a change of a whole site.
func (e *Engine) scopeModel(ctx context.Context, model, deviceRef string) (inventory.Model, error) {
	if deviceRef != "" {
		d, err := e.FindDevice(ctx, deviceRef)
		if err != nil {
			return inventory.Model{}, err
		}
		model = d.Model
	}
	m, _ := e.Model(model)
	return m, nil
}

func settingNames() []string {
	out := make([]string, 0, len(settings.Specs))
	for _, s := range settings.Specs {
		out = append(out, string(s.Key))
	}
	for _, f := range settings.Families {
		for _, x := range f.Fields {
			out = append(out, string(settings.ItemKey(f.Name, "X", x.Name)))
		}
	}
	return out
}

// withoutZero leaves out secrets that are no longer known.
func withoutZero(v settings.Values) settings.Values {
	out := settings.Values{}
	for k, x := range v {
		if s, ok := x.(secret.Secret); ok && s.IsZero() {
			continue
		}
		out[k] = x
	}
	return out
}

// order is what a device is to be told, and what it takes to tell it.
type order struct {
	values settings.Values
	model  inventory.Model
	dl     *dialect.Dialect
	site   store.Site

	certificates bool // that its broker wants
}

func (e *Engine) order(tx *store.Tx, d store.Device) (o order, err error) {
	if o.values, _, err = e.intended(tx, d); err != nil {
		return o, err
	}
	if o.model, o.dl, err = e.speaker(d); err != nil {
		return o, err
	}
	if o.site, err = store.One[store.Site](tx, "id = ?", d.SiteID); err != nil || o.site.BrokerID == nil {
		return o, err
	}
	b, err := store.One[store.Broker](tx, "id = ?", *o.site.BrokerID)
	o.certificates = b.Certificates
	return o, err
}

// check judges the values for the model, and for what its firmware can do.
func (o order) check(d store.Device) problem.Fields {
	f := settings.CheckFor(withoutZero(o.values), o.model)
	if o.values[settings.BrokerTLS] == true && !o.dl.Supports(settings.BrokerTLS, shownSubject(o.model, d)) {
		f.Add(string(settings.BrokerTLS), fmt.Sprintf("its broker wants TLS, which a %s cannot speak", o.model.Name), "false")
	}
	if o.certificates && !o.dl.Supports(settings.BrokerCert, shownSubject(o.model, d)) {
		f.Add(string(settings.BrokerCert), fmt.Sprintf("its broker wants certificates, which a %s cannot show", o.model.Name), "")
	}
	return f
}

// plan checks that a device can be commissioned and returns what would be
// handed over.
func (e *Engine) plan(tx *store.Tx, d store.Device) (settings.Values, error) {
	o, err := e.order(tx, d)
	if err != nil {
		return nil, err
	}
	site := o.site
	var f problem.Fields
	if site.NetworkID == nil {
		f.Add("network", "the site has no Wi-Fi network", "fado network add --site "+site.Key)
	}
	if site.BrokerID == nil {
		f.Add("broker", "the site has no broker", "fado site edit "+site.Key+" --broker embedded")
	}
	if site.HubID == nil {
		f.Add("hub", "the site has no hub", "fado hub add")
	}
	if site.Reach == "broker only" {
		f.Add("reach", "the site can be reached by its broker only, and setting up needs a radio beside the unit", "on premises")
	}
	if d.HardwareID == "" && d.Ending == "" {
		f.Add("hardware_id", "nobody knows which unit it is", "fado device edit "+d.Hostname+" --hardware-id 02:5A:11:00:00:07")
	}
	if strings.Contains(o.dl.SetUp.AccessPoint.Key, "set_up_code") && len(d.SetUpCode) == 0 {
		f.Add("set_up_code", "its access point wants the code that is printed on the unit", "")
	}
	f = append(f, o.check(d)...)
	return o.values, f.Err(fmt.Sprintf("%s cannot be commissioned yet.", d.Name))
}

func (e *Engine) context(d store.Device, code secret.Secret) dialect.Values {
	h := inventory.HardwareID(d.HardwareID)
	return dialect.Values{"hardware_id": d.HardwareID, "digits": h.Digits(), "set_up_code": code, "address": d.Address, "topic": d.Topic, dialect.LiveTopic: d.TopicInUse()}
}

// saveFact keeps one of the three values of a setting.
func saveFact(tx *store.Tx, d store.Device, kind string, key settings.Key, value string, at time.Time) error {
	unit := ""
	if d.UnitID != nil {
		unit = *d.UnitID
	}
	return store.Save(tx, &store.Fact{DeviceID: d.ID, Kind: kind, Key: string(key), UnitID: unit, Value: value, At: at})
}

func isNone(err error) bool { return errors.Is(err, store.ErrNone) }
