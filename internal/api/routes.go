package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/core/dialect"
	"fado/internal/core/firmware"
	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

type none struct{}

type path1 struct {
	ID string `path:"id"`
}

type withBody[T any] struct{ Body T }

type pathBody[T any] struct {
	ID      string `path:"id"`
	IfMatch string `header:"If-Match" doc:"The version that the change is made to, in quotes; the change is refused when it is no longer the latest"`
	Body    T
}

type startBody[T any] struct {
	ID   string `path:"id"`
	Key  string `header:"Idempotency-Key" maxLength:"100" doc:"The same key gives the same answer, and starts nothing twice"`
	Body T
}

type reply[T any] struct{ Body T }

type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

type cookied struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   wire.Me
}

func etag(version int64) string { return fmt.Sprintf("%q", strconv.FormatInt(version, 10)) }

func ifMatch(header string) (int64, error) {
	if header == "" || header == "*" {
		return 0, nil
	}
	n, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(header, "W/"), `"`), 10, 64)
	if err != nil {
		var f problem.Fields
		f.Add("If-Match", "the version in quotes, as the ETag gives it", `"3"`)
		return 0, f.Err("The request was not understood.")
	}
	return n, nil
}

// handle registers an operation for people and programs that are signed in.
func handle[I, O any](s *server, api huma.API, method, path, id, summary string, status int, fn func(context.Context, *I) (*O, error)) {
	register(s, api, method, path, id, summary, status, true, fn)
}

func register[I, O any](s *server, api huma.API, method, path, id, summary string, status int, guarded bool, fn func(context.Context, *I) (*O, error)) {
	op := huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, DefaultStatus: status, MaxBodyBytes: firmware.MaxArchive + 1<<20,
		Errors: []int{401, 404, 409, 412, 422, 500}}
	if !guarded {
		op.Security = []map[string][]string{}
	}
	huma.Register(api, op, func(ctx context.Context, in *I) (*O, error) {
		if guarded && actor(ctx) == "" {
			return nil, s.failure(ctx, signedOut())
		}
		out, err := fn(ctx, in)
		if err != nil {
			return nil, s.failure(ctx, err)
		}
		return out, nil
	})
}

func (s *server) routes(api huma.API) {
	s.accountRoutes(api)
	s.siteRoutes(api)
	s.catalogRoutes(api)
	s.deviceRoutes(api)
	s.settingRoutes(api)
	s.taskRoutes(api)
	s.checkRoutes(api)
	s.imageRoutes(api)
	s.paperRoutes(api)
	s.messageRoutes(api)
}

func (s *server) accountRoutes(api huma.API) {
	register(s, api, "GET", "/session", "who-am-i", "Who is signed in", 200, false, func(ctx context.Context, _ *none) (*reply[wire.Me], error) {
		n, err := store.Count[store.Person](s.Store.Read(ctx), "1 = 1")
		return &reply[wire.Me]{wire.Me{Name: actor(ctx), First: n == 0}}, err
	})
	register(s, api, "POST", "/first-account", "first-account", "Make the first account with the one-time link", 201, false, func(ctx context.Context, in *withBody[wire.FirstAccount]) (*cookied, error) {
		keys := "first from " + remote(ctx)
		if err := s.gate.slowDown(keys); err != nil {
			return nil, err
		}
		m, err := store.One[store.Meta](s.Store.Read(ctx), "name = ?", firstLink)
		ok := err == nil && m.Value == s.Store.Hash(in.Body.Link)
		s.gate.note(ok, keys)
		if !ok {
			return nil, problem.New(problem.Denied, "The one-time link is not valid.", "It was used, or the service was started again since it was printed.", "Take the link that the service printed last. If there is an account already, sign in.")
		}
		if err := s.gate.addPerson(ctx, in.Body.Name, in.Body.Password); err != nil {
			return nil, err
		}
		c, err := s.gate.signIn(ctx, in.Body.Name)
		return &cookied{c, wire.Me{Name: in.Body.Name}}, err
	})
	register(s, api, "POST", "/session", "sign-in", "Sign in", 201, false, func(ctx context.Context, in *withBody[wire.Account]) (*cookied, error) {
		p, err := s.gate.check(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		c, err := s.gate.signIn(ctx, p.Name)
		return &cookied{c, wire.Me{Name: p.Name}}, err
	})
	handle(s, api, "DELETE", "/session", "sign-out", "Sign out", 200, func(ctx context.Context, _ *none) (*cookied, error) {
		if r, _ := ctx.Value(requestKey{}).(*http.Request); r != nil {
			if c, err := r.Cookie(cookieName); err == nil {
				if loaded, err := s.gate.sessions.Load(ctx, c.Value); err == nil {
					_ = s.gate.sessions.Destroy(loaded)
				}
			}
		}
		return &cookied{http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode}, wire.Me{}}, nil
	})
	handle(s, api, "POST", "/people", "add-person", "Make an account for another person", 201, func(ctx context.Context, in *withBody[wire.Account]) (*reply[wire.Me], error) {
		if err := s.gate.addPerson(ctx, in.Body.Name, in.Body.Password); err != nil {
			return nil, err
		}
		return &reply[wire.Me]{wire.Me{Name: in.Body.Name}}, s.Record(ctx, store.Event{Actor: actor(ctx), Kind: "account", Text: "An account was made for " + in.Body.Name + "."})
	})
	register(s, api, "POST", "/tokens", "make-token", "Make a token for a program; its text is shown once", 201, false, func(ctx context.Context, in *struct {
		Body struct {
			wire.NewToken
			Account *wire.Account `json:"account,omitempty" doc:"Name and password, where there is no session"`
		}
	}) (*reply[wire.Token], error) {
		name := actor(ctx)
		if in.Body.Account != nil {
			p, err := s.gate.check(ctx, *in.Body.Account)
			if err != nil {
				return nil, err
			}
			name = p.Name
		}
		if name == "" {
			return nil, signedOut()
		}
		t, err := s.makeToken(ctx, name, in.Body.Name)
		return &reply[wire.Token]{t}, err
	})
	handle(s, api, "GET", "/tokens", "list-tokens", "List your tokens", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Token], error) {
		p, err := store.One[store.Person](s.Store.Read(ctx), "name = ?", actor(ctx))
		if err != nil {
			return nil, err
		}
		list, err := store.All[store.Token](s.Store.Read(ctx), "created_at", "person_id = ? AND revoked_at IS NULL", p.ID)
		out := []wire.Token{}
		for _, t := range list {
			out = append(out, wire.Token{ID: t.ID, Name: t.Name, CreatedAt: t.CreatedAt, UsedAt: t.UsedAt})
		}
		return &reply[[]wire.Token]{out}, err
	})
	handle(s, api, "DELETE", "/tokens/{id}", "revoke-token", "Revoke a token", 204, func(ctx context.Context, in *path1) (*none, error) {
		return &none{}, s.Store.Write(ctx, func(tx *store.Tx) error {
			n, err := store.Change[store.Token](tx, map[string]any{"revoked_at": time.Now().UTC()}, "(id = ? OR name = ?) AND revoked_at IS NULL", in.ID, in.ID)
			if err == nil && n == 0 {
				return problem.New(problem.NotFound, fmt.Sprintf("There is no token %q.", in.ID), "It was misspelt or revoked.", "«fado token list» shows them.")
			}
			return err
		})
	})
	handle(s, api, "GET", "/info", "info", "About this service", 200, func(ctx context.Context, _ *none) (*reply[wire.Info], error) {
		return &reply[wire.Info]{wire.Info{Version: s.o.Version, Radio: s.HasRadio(), Broker: s.o.BrokerName, Now: s.Clock.Now(), Scale: s.Clock.Scale(), Sessions: s.Sessions()}}, nil
	})
}

func (s *server) makeToken(ctx context.Context, person, name string) (wire.Token, error) {
	var f problem.Fields
	if rule, passes := naming.CheckLabel(name); rule != "" {
		f.Add("name", rule, passes)
	}
	if err := f.Err("The token was not made."); err != nil {
		return wire.Token{}, err
	}
	p, err := store.One[store.Person](s.Store.Read(ctx), "name = ?", person)
	if err != nil {
		return wire.Token{}, err
	}
	text := "fado_" + randomText()
	t := store.Token{ID: store.NewID(), PersonID: p.ID, Name: name, Hash: s.Store.Hash(text), CreatedAt: s.Clock.Now()}
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &t); err != nil {
			return err
		}
		return store.Log(tx, store.Event{At: t.CreatedAt, Actor: person, Kind: "account", Text: fmt.Sprintf("%s made the token «%s».", person, name)})
	})
	return wire.Token{ID: t.ID, Name: name, Text: text, CreatedAt: t.CreatedAt}, err
}

func (s *server) siteRoutes(api huma.API) {
	handle(s, api, "GET", "/sites", "list-sites", "List the sites", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Site], error) {
		list, err := store.All[store.Site](s.Store.Read(ctx), "name", "1 = 1")
		out := []wire.Site{}
		for _, x := range list {
			w, err := s.site(ctx, x)
			if err != nil {
				return nil, err
			}
			out = append(out, w)
		}
		return &reply[[]wire.Site]{out}, err
	})
	one := func(ctx context.Context, x store.Site, err error) (*tagged[wire.Site], error) {
		if err != nil {
			return nil, err
		}
		w, err := s.site(ctx, x)
		return &tagged[wire.Site]{etag(w.Version), w}, err
	}
	handle(s, api, "GET", "/sites/{id}", "get-site", "One site", 200, func(ctx context.Context, in *path1) (*tagged[wire.Site], error) {
		x, err := s.FindSite(ctx, in.ID)
		return one(ctx, x, err)
	})
	handle(s, api, "POST", "/sites", "add-site", "Add a site", 201, func(ctx context.Context, in *withBody[wire.SiteEdit]) (*tagged[wire.Site], error) {
		x, err := s.SaveSite(ctx, actor(ctx), "", 0, in.Body)
		return one(ctx, x, err)
	})
	handle(s, api, "PATCH", "/sites/{id}", "edit-site", "Change a site", 200, func(ctx context.Context, in *pathBody[wire.SiteEdit]) (*tagged[wire.Site], error) {
		v, err := ifMatch(in.IfMatch)
		if err != nil {
			return nil, err
		}
		x, err := s.SaveSite(ctx, actor(ctx), in.ID, v, in.Body)
		return one(ctx, x, err)
	})
	handle(s, api, "POST", "/sites/{id}/download-address/proof", "prove-download-address", "Confirm that units reach the service at the site's download address", 200, func(ctx context.Context, in *path1) (*tagged[wire.Site], error) {
		x, err := s.ProveDownload(ctx, actor(ctx), in.ID)
		return one(ctx, x, err)
	})
	handle(s, api, "POST", "/sites/{id}/rooms", "add-room", "Add a room", 201, func(ctx context.Context, in *pathBody[struct {
		Name string `json:"name"`
	}]) (*reply[wire.Room], error) {
		r, err := s.AddRoom(ctx, actor(ctx), in.ID, in.Body.Name)
		return &reply[wire.Room]{wire.Room{ID: r.ID, Name: r.Name}}, err
	})
	handle(s, api, "PATCH", "/sites/{id}/settings", "set-site-settings", "Change intended settings of a site, or of a model at it", 204, func(ctx context.Context, in *struct {
		ID    string `path:"id"`
		Model string `query:"model"`
		Body  map[string]any
	}) (*none, error) {
		raw, err := rawMap(in.Body)
		if err != nil {
			return nil, err
		}
		return &none{}, s.SetIntended(ctx, actor(ctx), in.ID, in.Model, "", raw)
	})
	network := func(n store.Network) wire.Network {
		return wire.Network{ID: n.ID, Site: n.SiteID, SSID: n.SSID, HasPassphrase: len(n.Passphrase) > 0}
	}
	handle(s, api, "GET", "/sites/{id}/networks", "list-networks", "List a site's Wi-Fi networks", 200, func(ctx context.Context, in *path1) (*reply[[]wire.Network], error) {
		site, err := s.FindSite(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		list, err := store.All[store.Network](s.Store.Read(ctx), "ssid", "site_id = ?", site.ID)
		out := []wire.Network{}
		for _, n := range list {
			out = append(out, network(n))
		}
		return &reply[[]wire.Network]{out}, err
	})
	handle(s, api, "POST", "/sites/{id}/networks", "add-network", "Add a Wi-Fi network", 201, func(ctx context.Context, in *pathBody[wire.NetworkEdit]) (*reply[wire.Network], error) {
		n, err := s.SaveNetwork(ctx, actor(ctx), in.ID, "", in.Body)
		return &reply[wire.Network]{network(n)}, err
	})
	handle(s, api, "PATCH", "/networks/{id}", "edit-network", "Change a Wi-Fi network", 200, func(ctx context.Context, in *pathBody[wire.NetworkEdit]) (*reply[wire.Network], error) {
		n, err := s.SaveNetwork(ctx, actor(ctx), "", in.ID, in.Body)
		return &reply[wire.Network]{network(n)}, err
	})
	s.brokerRoutes(api)
	s.hubRoutes(api)
}

func rawMap(m map[string]any) (map[string]json.RawMessage, error) {
	out := map[string]json.RawMessage{}
	for k, v := range m {
		b, err := json.Marshal(v)
		if err != nil {
			return nil, err
		}
		out[k] = b
	}
	return out, nil
}

func (s *server) catalogRoutes(api huma.API) {
	handle(s, api, "GET", "/models", "list-models", "List the models", 200, func(ctx context.Context, _ *none) (*reply[[]inventory.Model], error) {
		return &reply[[]inventory.Model]{s.Models()}, nil
	})
	handle(s, api, "GET", "/models/{id}", "get-model", "One model", 200, func(ctx context.Context, in *path1) (*reply[inventory.Model], error) {
		m, ok := s.Model(in.ID)
		if !ok {
			_, err := s.File(ctx, "model", in.ID)
			return nil, err
		}
		return &reply[inventory.Model]{m}, nil
	})
	handle(s, api, "PUT", "/models", "put-model", "Add a model by its file, or replace it", 200, func(ctx context.Context, in *withBody[wire.FileText]) (*reply[inventory.Model], error) {
		m, err := s.PutModel(ctx, actor(ctx), []byte(in.Body.File))
		return &reply[inventory.Model]{m}, err
	})
	handle(s, api, "GET", "/dialects", "list-dialects", "List the dialects", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Dialect], error) {
		out := []wire.Dialect{}
		for _, d := range s.Dialects() {
			out = append(out, s.asDialect(d, ""))
		}
		return &reply[[]wire.Dialect]{out}, nil
	})
	handle(s, api, "GET", "/dialects/{id}", "get-dialect", "One dialect with its file", 200, func(ctx context.Context, in *path1) (*reply[wire.Dialect], error) {
		f, err := s.File(ctx, "dialect", in.ID)
		if err != nil {
			return nil, err
		}
		d, ok := s.Dialect(in.ID)
		if !ok {
			return nil, problem.New(problem.Conflict, "The stored dialect cannot be read by this version.", "It was written for another version.", "Load it again with «fado dialect add FILE».")
		}
		return &reply[wire.Dialect]{s.asDialect(d, f.Body)}, nil
	})
	handle(s, api, "PUT", "/dialects", "put-dialect", "Add a dialect by its file, or replace it", 200, func(ctx context.Context, in *withBody[wire.FileText]) (*reply[wire.Dialect], error) {
		d, err := s.PutDialect(ctx, actor(ctx), []byte(in.Body.File))
		if err != nil {
			return nil, err
		}
		return &reply[wire.Dialect]{s.asDialect(d, "")}, nil
	})
	handle(s, api, "POST", "/dialects/check", "check-dialect", "Check a dialect file without keeping it", 200, func(_ context.Context, in *withBody[wire.FileText]) (*reply[wire.Checked], error) {
		_, faults := dialect.Parse("dialect", []byte(in.Body.File))
		if faults == nil {
			faults = []dialect.Fault{}
		}
		return &reply[wire.Checked]{wire.Checked{Valid: len(faults) == 0, Faults: faults}}, nil
	})
}

type deviceQuery struct {
	Site      string `query:"site"`
	Room      string `query:"room"`
	Model     string `query:"model"`
	Stage     string `query:"stage"`
	Presence  string `query:"presence"`
	Standing  string `query:"standing"`
	Tag       string `query:"tag"`
	Search    string `query:"search" maxLength:"100" doc:"Words in name, room, label, hostname, topic, model, tags or hardware id; accents and case do not matter"`
	Attention bool   `query:"attention" doc:"Only those that need a person"`
	After     string `query:"after" doc:"Cursor of the last page"`
	Limit     int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

func (s *server) deviceRoutes(api huma.API) {
	handle(s, api, "GET", "/devices", "list-devices", "List devices, by name", 200, func(ctx context.Context, in *deviceQuery) (*reply[wire.DevicePage], error) {
		p, err := s.devicePage(ctx, in)
		return &reply[wire.DevicePage]{p}, err
	})
	one := func(ctx context.Context, d store.Device, err error) (*tagged[wire.Device], error) {
		if err != nil {
			return nil, err
		}
		w, err := s.deviceWhole(ctx, d)
		return &tagged[wire.Device]{etag(w.Version), w}, err
	}
	handle(s, api, "GET", "/devices/{id}", "get-device", "One device, by id, hostname, topic or hardware id", 200, func(ctx context.Context, in *path1) (*tagged[wire.Device], error) {
		d, err := s.FindDevice(ctx, in.ID)
		return one(ctx, d, err)
	})
	handle(s, api, "POST", "/sites/{id}/devices", "add-device", "Add a device", 201, func(ctx context.Context, in *pathBody[wire.DeviceEdit]) (*tagged[wire.Device], error) {
		d, err := s.CreateDevice(ctx, actor(ctx), in.ID, deviceEdit(in.Body, 0))
		return one(ctx, d, err)
	})
	handle(s, api, "GET", "/sites/{id}/inventory", "export-inventory", "A site's inventory as CSV, without secrets", 200, func(ctx context.Context, in *path1) (*file, error) {
		var b bytes.Buffer
		err := s.Export(ctx, in.ID, &b)
		return &file{"text/csv; charset=utf-8", b.Bytes()}, err
	})
	handle(s, api, "POST", "/sites/{id}/inventory", "import-inventory", "Take an inventory in from CSV, all of it or nothing", 200, func(ctx context.Context, in *struct {
		ID      string `path:"id"`
		Dry     bool   `query:"dry_run" doc:"Tell what would become of each row, and change nothing"`
		RawBody []byte `contentType:"text/csv"`
	}) (*reply[wire.Import], error) {
		out, err := s.Import(ctx, actor(ctx), in.ID, in.RawBody, in.Dry)
		return &reply[wire.Import]{out}, err
	})
	handle(s, api, "POST", "/sites/{id}/names", "propose-names", "What a new device would be called", 200, func(ctx context.Context, in *pathBody[wire.NameQuestion]) (*reply[naming.Names], error) {
		site, err := s.FindSite(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		m, ok := s.Model(in.Body.Model)
		if !ok {
			var f problem.Fields
			f.Add("model", "there is no such model", "")
			return nil, f.Err("No names can be proposed.")
		}
		n, err := s.ProposeNames(s.Store.Read(ctx), site, naming.Facts{Room: in.Body.Room, Kind: m.Kind, Name: in.Body.Name})
		return &reply[naming.Names]{n}, err
	})
	handle(s, api, "PATCH", "/devices/{id}", "edit-device", "Change a device", 200, func(ctx context.Context, in *pathBody[wire.DeviceEdit]) (*tagged[wire.Device], error) {
		v, err := ifMatch(in.IfMatch)
		if err != nil {
			return nil, err
		}
		d, err := s.EditDevice(ctx, actor(ctx), in.ID, deviceEdit(in.Body, v))
		return one(ctx, d, err)
	})
	handle(s, api, "DELETE", "/devices/{id}", "remove-device", "Remove a device that was never in service", 204, func(ctx context.Context, in *path1) (*none, error) {
		return &none{}, s.RemoveDevice(ctx, actor(ctx), in.ID)
	})
	handle(s, api, "POST", "/devices/{id}/reset", "reset-device", "Take a device back to «listed»", 200, func(ctx context.Context, in *path1) (*tagged[wire.Device], error) {
		d, err := s.ResetDevice(ctx, actor(ctx), in.ID)
		return one(ctx, d, err)
	})
	takenOut := func(ctx context.Context, d store.Device, said string, err error) (*reply[wire.TakenOut], error) {
		if err != nil {
			return nil, err
		}
		w, err := s.deviceWhole(ctx, d)
		return &reply[wire.TakenOut]{wire.TakenOut{Device: w, Unit: said}}, err
	}
	handle(s, api, "POST", "/devices/{id}/replace", "replace-unit", "Have another unit fill a device, which keeps its name, topic, history and place in the hub", 200, func(ctx context.Context, in *pathBody[wire.Replace]) (*reply[wire.TakenOut], error) {
		swap := engine.Swap{HardwareID: in.Body.HardwareID, Reason: in.Body.Reason}
		if in.Body.SetUpCode != "" {
			swap.SetUpCode = new(secret.New(in.Body.SetUpCode))
		}
		d, said, err := s.Replace(ctx, actor(ctx), in.ID, swap)
		return takenOut(ctx, d, said, err)
	})
	handle(s, api, "POST", "/devices/{id}/retire", "retire-device", "Take a device out of service for good", 200, func(ctx context.Context, in *pathBody[wire.Retire]) (*reply[wire.TakenOut], error) {
		d, said, err := s.Retire(ctx, actor(ctx), in.ID, in.Body.Reason, in.Body.KeepUnit)
		return takenOut(ctx, d, said, err)
	})
	handle(s, api, "POST", "/devices/{id}/blink", "blink", "Ask the unit to show itself", 204, func(ctx context.Context, in *path1) (*none, error) {
		return &none{}, s.Blink(ctx, actor(ctx), in.ID)
	})
	handle(s, api, "GET", "/devices/{id}/settings", "device-settings", "Intended against reported", 200, func(ctx context.Context, in *path1) (*reply[[]wire.Setting], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		lines, err := s.Lines(s.Store.Read(ctx), d)
		return &reply[[]wire.Setting]{asSettings(lines)}, err
	})
	handle(s, api, "PATCH", "/devices/{id}/settings", "set-device-settings", "Change intended settings of a device; null takes one away", 204, func(ctx context.Context, in *struct {
		ID   string `path:"id"`
		Body map[string]any
	}) (*none, error) {
		raw, err := rawMap(in.Body)
		if err != nil {
			return nil, err
		}
		return &none{}, s.SetIntended(ctx, actor(ctx), "", "", in.ID, raw)
	})
	handle(s, api, "GET", "/devices/{id}/messages", "device-messages", "The last message of each topic", 200, func(ctx context.Context, in *path1) (*reply[[]wire.Message], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		list, err := s.Messages(ctx, d.ID)
		out := []wire.Message{}
		for _, m := range list {
			said, err := s.HideSecrets(ctx, d, strings.ToValidUTF8(string(m.Payload), "\uFFFD"))
			if err != nil {
				return nil, err
			}
			out = append(out, wire.Message{Topic: strings.TrimPrefix(m.Topic, "/"), Kind: m.Kind, Payload: said, Retained: m.Retained, At: m.At})
		}
		return &reply[[]wire.Message]{out}, err
	})
	handle(s, api, "GET", "/devices/{id}/thing", "device-thing", "Its W3C Thing Description", 200, func(ctx context.Context, in *path1) (*reply[map[string]any], error) {
		d, err := s.FindDevice(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		td, err := s.Thing(ctx, d)
		return &reply[map[string]any]{td}, err
	})
	handle(s, api, "GET", "/sightings", "list-sightings", "Units in set-up mode, and other evidence of units", 200, func(ctx context.Context, in *struct {
		All bool `query:"all" doc:"Those that are gone or ignored, too"`
	}) (*reply[[]wire.Sighting], error) {
		list, err := s.Sightings(ctx, in.All)
		if err != nil {
			return nil, err
		}
		return &reply[[]wire.Sighting]{s.asSightings(ctx, list)}, nil
	})
	handle(s, api, "POST", "/sightings/scan", "scan", "Let the radio list access points now", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Sighting], error) {
		if _, err := s.Scan(ctx); err != nil {
			return nil, err
		}
		list, err := s.Sightings(ctx, false)
		if err != nil {
			return nil, err
		}
		return &reply[[]wire.Sighting]{s.asSightings(ctx, list)}, nil
	})
	handle(s, api, "POST", "/sightings/claim", "claim", "Match a sighting to a device", 200, func(ctx context.Context, in *withBody[wire.Claim]) (*tagged[wire.Device], error) {
		d, err := s.Claim(ctx, actor(ctx), in.Body)
		return one(ctx, d, err)
	})
	handle(s, api, "POST", "/sightings", "see-by-hand", "Note a unit that a person has in front of them", 201, func(ctx context.Context, in *withBody[wire.SeenByHand]) (*reply[wire.Sighting], error) {
		x, err := s.SeeByHand(ctx, actor(ctx), in.Body)
		if err != nil {
			return nil, err
		}
		return &reply[wire.Sighting]{s.asSightings(ctx, []store.Sighting{x})[0]}, nil
	})
	handle(s, api, "POST", "/sightings/find", "find", "Ask the homes' networks for units now", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Sighting], error) {
		if err := s.FindAll(ctx); err != nil {
			return nil, err
		}
		list, err := s.Sightings(ctx, false)
		if err != nil {
			return nil, err
		}
		return &reply[[]wire.Sighting]{s.asSightings(ctx, list)}, nil
	})
	handle(s, api, "POST", "/sightings/ignore", "ignore", "Hide a sighting, or show it again", 204, func(ctx context.Context, in *withBody[wire.Ignore]) (*none, error) {
		return &none{}, s.Ignore(ctx, actor(ctx), in.Body.Sighting, in.Body.Ignored)
	})
}

func deviceEdit(b wire.DeviceEdit, version int64) engine.DeviceEdit {
	x := engine.DeviceEdit{Name: b.Name, Room: b.Room, Model: b.Model, HardwareID: b.HardwareID, Hostname: b.Hostname, Topic: b.Topic, Label: b.Label, Tags: b.Tags, IfVersion: version}
	if b.SetUpCode != nil {
		x.SetUpCode = new(secret.New(*b.SetUpCode))
	}
	return x
}

func (s *server) taskRoutes(api huma.API) {
	answer := func(ctx context.Context, rec store.Task, err error) (*reply[wire.Task], error) {
		if err != nil {
			return nil, err
		}
		if rec, err = s.Task(ctx, rec.ID); err != nil {
			return nil, err
		}
		t, err := s.asTask(ctx, rec)
		return &reply[wire.Task]{t}, err
	}
	handle(s, api, "POST", "/devices/{id}/commission", "commission", "Start commissioning", 202, func(ctx context.Context, in *startBody[wire.Commissioning]) (*reply[wire.Task], error) {
		return once(ctx, s, in.Key, "commission "+in.ID, in.Body, func() (*reply[wire.Task], error) {
			rec, err := s.Commission(ctx, actor(ctx), in.ID, in.Body.Prepared)
			return answer(ctx, rec, err)
		})
	})
	handle(s, api, "POST", "/devices/{id}/update", "update", "Start an update", 202, func(ctx context.Context, in *startBody[wire.Start]) (*reply[wire.Task], error) {
		return once(ctx, s, in.Key, "update "+in.ID, in.Body, func() (*reply[wire.Task], error) {
			rec, err := s.Update(ctx, actor(ctx), in.ID, in.Body.Image)
			return answer(ctx, rec, err)
		})
	})
	handle(s, api, "GET", "/tasks", "list-tasks", "List tasks, the newest first", 200, func(ctx context.Context, in *struct {
		Device string `query:"device"`
		Status string `query:"status" doc:"One or more, with commas"`
		Before string `query:"before" doc:"Id of the last task of the page before"`
		Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
	}) (*reply[[]wire.Task], error) {
		device := ""
		if in.Device != "" {
			d, err := s.FindDevice(ctx, in.Device)
			if err != nil {
				return nil, err
			}
			device = d.ID
		}
		list, err := store.Some[store.Task](s.Store.Read(ctx), in.Limit, "id DESC",
			"(? = '' OR device_id = ?) AND (? = '' OR instr(?, status) > 0) AND (? = '' OR id < ?)", device, device, in.Status, in.Status, in.Before, in.Before)
		if err != nil {
			return nil, err
		}
		out, err := s.asTasks(ctx, list)
		return &reply[[]wire.Task]{out}, err
	})
	handle(s, api, "GET", "/tasks/{id}", "get-task", "One task with its steps", 200, func(ctx context.Context, in *path1) (*reply[wire.Task], error) {
		rec, err := s.Task(ctx, in.ID)
		return answer(ctx, rec, err)
	})
	handle(s, api, "POST", "/tasks/{id}/retry", "retry-task", "Try a failed task again", 202, func(ctx context.Context, in *path1) (*reply[wire.Task], error) {
		rec, err := s.Retry(ctx, actor(ctx), in.ID)
		return answer(ctx, rec, err)
	})
	handle(s, api, "POST", "/tasks/{id}/cancel", "cancel-task", "Cancel a task", 202, func(ctx context.Context, in *path1) (*reply[wire.Task], error) {
		rec, err := s.CancelTask(ctx, actor(ctx), in.ID)
		return answer(ctx, rec, err)
	})
	handle(s, api, "GET", "/events", "list-events", "The record of what happened, the newest first", 200, func(ctx context.Context, in *struct {
		Device string `query:"device"`
		Site   string `query:"site"`
		Task   string `query:"task"`
		Before int64  `query:"before"`
		Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
	}) (*reply[wire.EventPage], error) {
		p, err := s.events(ctx, in.Device, in.Site, in.Task, in.Before, in.Limit)
		return &reply[wire.EventPage]{p}, err
	})
	handle(s, api, "GET", "/attention", "attention", "What needs a person first", 200, func(ctx context.Context, in *struct {
		Site string `query:"site"`
	}) (*reply[wire.Attention], error) {
		a, err := s.attention(ctx, in.Site)
		return &reply[wire.Attention]{a}, err
	})
}

// once answers a start that carries an Idempotency-Key as it was answered the
// first time.
func once[T any](ctx context.Context, s *server, key, what string, body any, start func() (*reply[T], error)) (*reply[T], error) {
	if key == "" {
		return start()
	}
	id := s.Store.Hash(actor(ctx) + "\x00" + what + "\x00" + key)
	sum := sha256.Sum256([]byte(store.JSON(body)))
	digest := hex.EncodeToString(sum[:])
	if old, err := store.One[store.Answer](s.Store.Read(ctx), "key = ?", id); err == nil {
		if old.Digest != digest {
			return nil, problem.New(problem.Conflict, "This Idempotency-Key was used for another request.", "A program reuses its keys.", "Use a new key for a new request.")
		}
		var out reply[T]
		return &out, json.Unmarshal(old.Body, &out.Body)
	}
	out, err := start()
	if err != nil {
		return nil, err
	}
	return out, s.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.Delete[store.Answer](tx, "at < ?", time.Now().UTC().Add(-48*time.Hour)); err != nil {
			return err
		}
		return store.Save(tx, &store.Answer{Key: id, Body: []byte(store.JSON(out.Body)), Digest: digest, Status: 202, At: time.Now().UTC()})
	})
}

func (s *server) imageRoutes(api huma.API) {
	handle(s, api, "GET", "/images", "list-images", "List the images", 200, func(ctx context.Context, in *struct {
		Model string `query:"model"`
	}) (*reply[[]wire.Image], error) {
		list, err := store.All[store.Image](s.Store.Read(ctx), "firmware, sequence DESC", "? = '' OR instr(models, ?) > 0", in.Model, ","+in.Model+",")
		out := []wire.Image{}
		for _, i := range list {
			out = append(out, asImage(i))
		}
		return &reply[[]wire.Image]{out}, err
	})
	handle(s, api, "GET", "/images/{id}", "get-image", "One image", 200, func(ctx context.Context, in *path1) (*reply[wire.Image], error) {
		i, err := s.FindImage(ctx, in.ID)
		return &reply[wire.Image]{asImage(i)}, err
	})
	handle(s, api, "POST", "/images", "add-image", "Add an image", 201, func(ctx context.Context, in *struct {
		RawBody huma.MultipartFormFiles[struct {
			File  huma.FormFile `form:"file" required:"true"`
			Facts string        `form:"facts" required:"true" doc:"ImageFacts as JSON"`
		}]
	}) (*reply[wire.Image], error) {
		form := in.RawBody.Data()
		defer form.File.Close()
		f, err := factsOf(form.Facts)
		if err != nil {
			return nil, err
		}
		i, err := s.AddImage(ctx, actor(ctx), form.File, f)
		return &reply[wire.Image]{asImage(i)}, err
	})
	handle(s, api, "POST", "/images/{id}/withdraw", "withdraw-image", "Take an image out of use", 200, func(ctx context.Context, in *pathBody[wire.Reason]) (*reply[wire.Image], error) {
		i, err := s.Withdraw(ctx, actor(ctx), in.ID, in.Body.Reason)
		return &reply[wire.Image]{asImage(i)}, err
	})
	handle(s, api, "GET", "/images/{id}/fit", "image-fit", "Does an image suit the devices of its models, and why not", 200, func(ctx context.Context, in *struct {
		ID     string `path:"id"`
		Device string `query:"device" doc:"One device only, of any model"`
	}) (*reply[[]wire.Fit], error) {
		out, err := s.fits(ctx, in.ID, in.Device)
		return &reply[[]wire.Fit]{out}, err
	})
	handle(s, api, "GET", "/devices/{id}/fit", "device-fit", "Which images suit a device, by which route, and why not", 200, func(ctx context.Context, in *path1) (*reply[[]wire.Fit], error) {
		out, err := s.fitsDevice(ctx, in.ID)
		return &reply[[]wire.Fit]{out}, err
	})
	s.firmwareRoutes(api)
	s.feedRoutes(api)
	s.rolloutRoutes(api)
}
