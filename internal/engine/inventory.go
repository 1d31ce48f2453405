package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/sheet"
	"fado/internal/store"
	"fado/internal/wire"
)

// The columns of an inventory. Each other column is a setting's key. set_up_code
// is read and never written: it is a secret.
var inventoryColumns = []string{"id", "name", "room", "model", "hardware_id", "hostname", "topic", "label", "tags", "set_up_code"}

// inventoryNotes are columns for people, which are passed over when the file
// comes back.
var inventoryNotes = []string{"#stage", "#runs", "#address"}

// inventoryColumn finds the column that a heading means.
func inventoryColumn(heading string) (string, bool) {
	key := sheet.Key(heading)
	if slices.Contains(inventoryColumns, key) {
		return key, true
	}
	for _, k := range []string{strings.TrimSpace(heading), key} {
		if _, ok := settings.Lookup(settings.Key(k)); ok && whoSets(settings.Key(k)) == "" && !settings.IsSecret(settings.Key(k)) {
			return k, true
		}
	}
	return "", false
}

// errDry ends a rehearsed write, which is taken back.
var errDry = errors.New("rehearsed only")

// Import takes an inventory in: rows of devices that are there change them, the
// others add devices. All or nothing, with every fault told; a dry run changes
// nothing and tells what would become of each row.
func (e *Engine) Import(ctx context.Context, actor, siteRef string, file []byte, dry bool) (wire.Import, error) {
	names := slices.Clone(inventoryColumns)
	for _, k := range settingNames() {
		if _, ok := inventoryColumn(k); ok {
			names = append(names, k)
		}
	}
	table, faults := sheet.Read(file, inventoryColumn, names)
	out := wire.Import{DryRun: dry, Encoding: table.Encoding, Separator: string(table.Separator), Rows: []wire.ImportRow{}}
	if len(faults) > 0 {
		return out, faults.Err("The file was not taken in.")
	}
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		site, err := findSite(tx, siteRef)
		if err != nil {
			return err
		}
		im := importing{e: e, tx: tx, actor: actor, site: site, seen: map[string]int{}, base: map[string]settings.Values{}, addresses: map[string]string{}}
		if im.index, err = e.aroundAll(tx, site); err != nil {
			return err
		}
		if im.revision, err = store.NextRevision(tx, e.Clock.Now(), actor, "inventory of "+site.Name); err != nil {
			return err
		}
		var refused problem.Fields
		for i, row := range table.Rows {
			if i%100 == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
			r := im.row(row)
			for _, x := range r.Faults {
				where := fmt.Sprintf("line %d", r.Line)
				if x.Field != "" {
					where += ", " + x.Field
				}
				refused.Add(where, x.Rule, x.Passes)
			}
			out.Rows = append(out.Rows, r)
			switch r.Outcome {
			case "add":
				out.Added++
			case "change":
				out.Changed++
			case "same":
				out.Same++
			default:
				out.Refused++
			}
		}
		if dry {
			return errDry
		}
		if err := refused.Err(fmt.Sprintf("%d of %d rows cannot be taken in, so none was.", out.Refused, len(out.Rows))); err != nil {
			return err
		}
		if out.Added+out.Changed == 0 {
			return errDry
		}
		if err := im.write(); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: site.ID, Kind: "device", Text: fmt.Sprintf("An inventory was taken in at %s: devices added %d, changed %d, as they were %d.", site.Name, out.Added, out.Changed, out.Same)})
	})
	if errors.Is(err, errDry) {
		err = nil
	}
	return out, err
}

// importing is an inventory being taken in.
type importing struct {
	e        *Engine
	tx       *store.Tx
	actor    string
	site     store.Site
	index    *index
	revision int64
	seen     map[string]int // device to the line that named it

	// What is new, to be written at the end, in one go.
	devices  []store.Device
	intended []store.Intended
	events   []store.Event
	base     map[string]settings.Values // by model
	// addresses are those of new devices, by the device's name.
	addresses map[string]string
}

func (im *importing) write() error {
	if err := store.SaveAll(im.tx, im.devices); err != nil {
		return fmt.Errorf("write the new devices: %w", err)
	}
	if err := store.SaveAll(im.tx, im.intended); err != nil {
		return fmt.Errorf("write the intended settings: %w", err)
	}
	for _, d := range im.devices {
		im.e.tell(im.tx, d)
	}
	return store.SaveAll(im.tx, im.events)
}

// suits sees that a new device's settings suit its model, under what its site
// and its model intend, and keeps them to be written.
func (im *importing) suits(d store.Device, values settings.Values, said []string) error {
	base, ok := im.base[d.Model]
	if !ok {
		var err error
		if base, _, err = im.e.intended(im.tx, store.Device{SiteID: d.SiteID, Model: d.Model}); err != nil {
			return err
		}
		im.base[d.Model] = base
	}
	all := maps.Clone(base)
	maps.Copy(all, values)
	all[settings.Hostname], all[settings.Topic], all[settings.Label] = d.Hostname, d.Topic, d.Label
	m, _ := im.e.Model(d.Model)
	if broken := settings.CheckFor(withoutZero(all), m); len(broken) > 0 {
		return broken.Err("")
	}
	broken, err := im.e.addressInUse(im.tx, d, all, im.addresses)
	if err != nil {
		return err
	}
	if err := broken.Err(""); err != nil {
		return err
	}
	if ip, ok := values[settings.AddressIP].(string); ok {
		im.addresses[ip] = d.Name
	}
	for k, v := range values {
		im.intended = append(im.intended, store.Intended{Scope: "device", ScopeID: d.ID, Key: string(k), Value: store.JSON(v), Revision: im.revision, Actor: im.actor, At: d.CreatedAt})
	}
	im.events = append(im.events, store.Event{At: d.CreatedAt, Actor: im.actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "settings", Text: fmt.Sprintf("Intended for %s: %s.", d.Name, strings.Join(said, ", "))})
	return nil
}

// row judges and carries out one row.
func (im *importing) row(row sheet.Row) wire.ImportRow {
	r := wire.ImportRow{Line: row.Line, Name: row.Cell("name"), Changes: []string{}, Faults: []problem.Field{}}
	refuse := func(err error) wire.ImportRow {
		r.Outcome = "refused"
		if p := problem.As(err); p != nil {
			if r.Faults = append(r.Faults, p.Fields...); len(p.Fields) == 0 {
				r.Faults = append(r.Faults, problem.Field{Rule: p.What + " " + p.Next})
			}
			return r
		}
		r.Faults = append(r.Faults, problem.Field{Rule: err.Error()})
		return r
	}
	was, found, err := im.device(row)
	if err != nil {
		return refuse(err)
	}
	edit, f := im.edit(row, was, found)
	if found {
		r.Device = was.Hostname
		if first := im.seen[was.ID]; first != 0 {
			f.Add("", fmt.Sprintf("is %s, as line %d is", was.Name, first), "")
		} else {
			im.seen[was.ID] = row.Line
		}
	}
	now := was
	if len(f) > 0 {
		// Refused already; what else is wrong is told all the same.
		next := was
		if p := problem.As(im.e.applyEdit(im.tx, im.site, im.index.around(), &next, edit)); p != nil {
			for _, x := range p.Fields {
				if !slices.ContainsFunc(f, func(y problem.Field) bool { return x.Field == y.Field }) {
					f = append(f, x)
				}
			}
		}
		now.Model = cmp.Or(row.Cell("model"), was.Model)
	} else {
		switch {
		case !found:
			var ev store.Event
			if now, ev, err = im.e.judged(im.tx, im.actor, im.site, im.index.around(), edit); err == nil {
				im.devices, im.events = append(im.devices, now), append(im.events, ev)
			}
			r.Outcome = "add"
		case edit != DeviceEdit{}:
			now, err = im.e.change(im.tx, im.actor, im.site, im.index.around(), was, edit)
			r.Outcome = "change"
			if err == nil {
				r.Changes = append(r.Changes, changed(was, now))
			}
		default:
			r.Outcome = "same"
		}
		if err != nil {
			var broken problem.Fields
			if p := problem.As(err); p != nil {
				broken = p.Fields
			}
			now = store.Device{Model: cmp.Or(row.Cell("model"), was.Model)}
			if _, e := im.settings(row, now, true, &broken); e == nil && len(broken) > 0 {
				err = broken.Err("")
			}
			return refuse(err)
		}
		im.index.put(was, now)
		im.seen[now.ID] = row.Line
		r.Device, r.Name = now.Hostname, now.Name
	}
	said, err := im.settings(row, now, !found, &f)
	if len(f) > 0 {
		return refuse(f.Err(""))
	}
	if err != nil {
		return refuse(err)
	}
	if len(said) > 0 && r.Outcome == "same" {
		r.Outcome = "change"
	}
	r.Changes = append(r.Changes, said...)
	return r
}

// device finds the device of a row: by its id, by its unit, or by its hostname.
func (im *importing) device(row sheet.Row) (store.Device, bool, error) {
	if id := row.Cell("id"); id != "" {
		d, ok := im.index.byID[id]
		if !ok {
			var f problem.Fields
			f.Add("id", fmt.Sprintf("%s has no device with this id; leave the cell empty for a new device", im.site.Name), "")
			return store.Device{}, false, f.Err("")
		}
		return *d, true, nil
	}
	if h, err := inventory.ParseHardwareID(row.Cell("hardware_id")); err == nil {
		if d := im.index.byUnit[string(h)]; d != nil && d.SiteID == im.site.ID {
			return *d, true, nil
		}
	}
	if d := im.index.byHostname[row.Cell("hostname")]; d != nil {
		return *d, true, nil
	}
	return store.Device{}, false, nil
}

// edit is what a row changes. An empty cell changes nothing.
func (im *importing) edit(row sheet.Row, was store.Device, found bool) (DeviceEdit, problem.Fields) {
	var e DeviceEdit
	var f problem.Fields
	room := ""
	if was.RoomID != nil {
		room = im.index.roomNames[*was.RoomID]
	}
	for _, c := range []struct {
		column, was string
		to          **string
	}{
		{"name", was.Name, &e.Name}, {"room", room, &e.Room}, {"model", was.Model, &e.Model}, {"hardware_id", was.HardwareID, &e.HardwareID},
		{"hostname", was.Hostname, &e.Hostname}, {"topic", was.Topic, &e.Topic}, {"label", was.Label, &e.Label},
	} {
		cell := row.Cell(c.column)
		if c.column == "hardware_id" {
			if rule := sheet.Mangled(cell); rule != "" {
				f.Add(c.column, rule, "02:5A:11:00:00:07")
				continue
			}
			if h, err := inventory.ParseHardwareID(cell); err == nil {
				cell = string(h)
			}
		}
		if cell != "" && (!found || cell != c.was) {
			*c.to = &cell
		}
	}
	if !found {
		for column, passes := range map[string]string{"name": "Nora do pátio", "model": "sobro-um"} {
			if row.Cell(column) == "" {
				f.Add(column, "a new device needs it", passes)
			}
		}
	}
	if cell := row.Cell("tags"); cell != "" {
		tags := []string{}
		for _, t := range strings.FieldsFunc(cell, func(r rune) bool { return r == ',' || r == ';' }) {
			if t = strings.TrimSpace(t); t != "" && !slices.Contains(tags, t) {
				tags = append(tags, t)
			}
		}
		if !found || strings.Trim(was.Tags, ",") != strings.Join(tags, ",") {
			e.Tags = &tags
		}
	}
	if cell := row.Cell("set_up_code"); cell != "" {
		code := secret.New(cell)
		old, err := im.e.open("set-up code", was.ID, was.SetUpCode)
		if !found || err != nil || old != code {
			e.SetUpCode = &code
		}
	}
	slices.SortFunc(f, func(a, b problem.Field) int { return strings.Compare(a.Field, b.Field) })
	return e, f
}

// settings intends what a row's columns of settings say, where it is not
// intended for the device already.
func (im *importing) settings(row sheet.Row, d store.Device, fresh bool, f *problem.Fields) ([]string, error) {
	changes := map[string]json.RawMessage{}
	for _, column := range row.Columns() {
		spec, ok := settings.Lookup(settings.Key(column))
		cell := row.Cell(column)
		if !ok || cell == "" || slices.Contains(inventoryColumns, column) {
			continue
		}
		switch spec.Kind {
		case settings.Number:
			n, rule, passes := sheet.Whole(cell)
			if rule != "" {
				f.Add(column, rule, passes)
				continue
			}
			changes[column] = json.RawMessage(fmt.Sprint(n))
		case settings.Flag:
			v, ok := sheet.Flag(cell)
			if !ok {
				f.Add(column, fmt.Sprintf("%q is neither yes nor no", cell), "yes")
				continue
			}
			changes[column] = json.RawMessage(fmt.Sprint(v))
		default:
			b, err := json.Marshal(cell)
			if err != nil {
				return nil, err
			}
			changes[column] = b
		}
	}
	if len(changes) == 0 {
		return nil, nil
	}
	model, _ := im.e.Model(d.Model)
	values, broken := judgeIntended(model, changes)
	if *f = append(*f, broken...); len(*f) > 0 {
		return nil, nil
	}
	maps.DeleteFunc(values, func(k settings.Key, v any) bool { return im.index.own[d.ID][string(k)] == store.JSON(v) })
	var said []string
	for _, k := range values.Keys() {
		said = append(said, fmt.Sprintf("%s %v", k, values[k]))
	}
	if len(said) == 0 || d.ID == "" {
		return nil, nil
	}
	if fresh {
		return said, im.suits(d, values, said)
	}
	if ip, ok := values[settings.AddressIP].(string); ok && im.addresses[ip] != "" {
		f.Add(string(settings.AddressIP), fmt.Sprintf("%s is the address of %s in the same file", ip, im.addresses[ip]), "")
		return nil, nil
	}
	return said, im.e.intend(im.tx, im.actor, im.revision, deviceScope(d), values)
}

// index is a site's inventory in memory, and what must be unique beyond it.
type index struct {
	byID, byUnit, byHostname map[string]*store.Device
	topics                   map[string]*store.Device // of the broker
	above                    map[string]map[string]*store.Device
	rooms                    []store.Room
	roomNames                map[string]string
	own                      map[string]map[string]string // device, key: intended value as JSON
	siteID                   string
	given                    map[naming.Names]int
}

// aroundAll reads it.
func (e *Engine) aroundAll(tx *store.Tx, site store.Site) (*index, error) {
	x := &index{byID: map[string]*store.Device{}, byUnit: map[string]*store.Device{}, byHostname: map[string]*store.Device{}, topics: map[string]*store.Device{},
		above: map[string]map[string]*store.Device{}, roomNames: map[string]string{}, own: map[string]map[string]string{}, siteID: site.ID, given: map[naming.Names]int{}}
	var err error
	if x.rooms, err = store.All[store.Room](tx, "name", "site_id = ?", site.ID); err != nil {
		return nil, err
	}
	for _, r := range x.rooms {
		x.roomNames[r.ID] = r.Name
	}
	// A site without a broker shares its topics with the others that have none.
	list, err := store.All[store.Device](tx, "id", "stage <> 'retired' AND (site_id = ? OR broker_id = ? OR hardware_id <> '')", site.ID, deref(site.BrokerID))
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		x.add(d, d.BrokerID == deref(site.BrokerID))
	}
	rows, err := store.All[store.Intended](tx, "key", "scope = 'device' AND scope_id IN (SELECT id FROM devices WHERE site_id = ?) AND sealed IS NULL", site.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if x.own[r.ScopeID] == nil {
			x.own[r.ScopeID] = map[string]string{}
		}
		x.own[r.ScopeID][r.Key] = r.Value
	}
	return x, nil
}

func (x *index) add(d store.Device, sameBroker bool) {
	if d.SiteID == x.siteID {
		x.byID[d.ID], x.byHostname[d.Hostname] = &d, &d
	}
	if d.HardwareID != "" && d.Stage != string(inventory.Retired) {
		x.byUnit[d.HardwareID] = &d
	}
	if !sameBroker {
		return
	}
	for _, t := range []string{d.Topic, d.LiveTopic} {
		if t == "" {
			continue
		}
		x.topics[t] = &d
		for i, r := range t {
			if r != '/' {
				continue
			}
			if x.above[t[:i]] == nil {
				x.above[t[:i]] = map[string]*store.Device{}
			}
			x.above[t[:i]][d.ID] = &d
		}
	}
}

// put takes in that a device became another.
func (x *index) put(was, now store.Device) {
	if was.ID != "" {
		delete(x.byHostname, was.Hostname)
		delete(x.byUnit, was.HardwareID)
		for _, t := range []string{was.Topic, was.LiveTopic} {
			delete(x.topics, t)
			for i, r := range t {
				if r == '/' {
					delete(x.above[t[:i]], was.ID)
				}
			}
		}
	}
	x.add(now, true)
}

// around answers from the index what an edit is judged against.
func (x *index) around() around {
	other := func(d *store.Device, except string) string {
		if d == nil || d.ID == except {
			return ""
		}
		return d.Name
	}
	return around{
		hostname: func(h, except string) bool { return other(x.byHostname[h], except) != "" },
		topic: func(t, except string) string {
			if name := other(x.topics[t], except); name != "" {
				return name
			}
			for i, r := range t {
				if r == '/' {
					if name := other(x.topics[t[:i]], except); name != "" {
						return name
					}
				}
			}
			for _, d := range x.above[t] {
				if name := other(d, except); name != "" {
					return name
				}
			}
			return ""
		},
		hardware: func(h, except string) string { return other(x.byUnit[h], except) },
		rooms:    func() ([]store.Room, error) { return x.rooms, nil },
		given:    x.given,
	}
}

// Export writes a site's inventory as a table that Import takes back unchanged.
func (e *Engine) Export(ctx context.Context, siteRef string, to io.Writer) error {
	tx := e.Store.Read(ctx)
	site, err := findSite(tx, siteRef)
	if err != nil {
		return err
	}
	x, err := e.aroundAll(tx, site)
	if err != nil {
		return err
	}
	used := map[string]bool{}
	for _, own := range x.own {
		for k := range own {
			if _, ok := inventoryColumn(k); ok {
				used[k] = true
			}
		}
	}
	keys := slices.SortedFunc(maps.Keys(used), func(a, b string) int { return settings.Order(settings.Key(a), settings.Key(b)) })
	columns := slices.DeleteFunc(slices.Clone(inventoryColumns), func(c string) bool { return c == "set_up_code" })
	w, err := sheet.NewWriter(to, slices.Concat(columns, keys, inventoryNotes))
	if err != nil {
		return err
	}
	list, err := store.All[store.Device](tx, "hostname", "site_id = ? AND stage <> 'retired'", site.ID)
	if err != nil {
		return err
	}
	for _, d := range list {
		cells := []string{d.ID, d.Name, x.roomNames[deref(d.RoomID)], d.Model, d.HardwareID, d.Hostname, d.Topic, d.Label, strings.ReplaceAll(strings.Trim(d.Tags, ","), ",", ", ")}
		for _, k := range keys {
			var v any
			if raw := x.own[d.ID][k]; raw != "" {
				if err := json.Unmarshal([]byte(raw), &v); err != nil {
					return fmt.Errorf("read %s of %s: %w", k, d.Hostname, err)
				}
			}
			cells = append(cells, cell(v))
		}
		if err := w.Row(append(cells, d.Stage, d.Running, d.Address)); err != nil {
			return err
		}
	}
	return w.End()
}

func cell(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case float64:
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprint(v)
}
