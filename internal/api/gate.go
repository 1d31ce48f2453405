package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"golang.org/x/crypto/argon2"

	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/store"
	"fado/internal/wire"
)

const cookieName = "fado_session"

type actorKey struct{}

// actor is who sends a request; "" for nobody.
func actor(ctx context.Context) string {
	name, _ := ctx.Value(actorKey{}).(string)
	return name
}

func signedOut() error {
	return problem.New(problem.SignedOut, "You are not signed in.", "The session ended, or no token was sent.", "Sign in, or run «fado login».")
}

// gate knows who may come in.
type gate struct {
	s        *server
	sessions *scs.SessionManager
	mu       sync.Mutex
	failures map[string]attempts
	hashing  chan struct{} // slow hashing takes 19 MiB; two at a time
}

type attempts struct {
	count int
	until time.Time
}

func newGate(s *server) *gate {
	// Made by hand: scs.New starts a store of its own, with a goroutine that
	// nobody stops. Cookies are this package's.
	return &gate{s: s, failures: map[string]attempts{}, hashing: make(chan struct{}, 2), sessions: &scs.SessionManager{
		Lifetime: 7 * 24 * time.Hour, IdleTimeout: 12 * time.Hour, Store: sessionStore{s.Store}, Codec: scs.GobCodec{}, HashTokenInStore: true,
	}}
}

// who finds out who sends a request and notes it in the context.
func (g *gate) who(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := g.byToken(r)
		if name == "" {
			name = g.bySession(r)
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(context.WithValue(r.Context(), actorKey{}, name), requestKey{}, r)))
	})
}

type requestKey struct{}

func (g *gate) bySession(r *http.Request) string {
	c, err := r.Cookie(cookieName)
	if err != nil {
		return ""
	}
	ctx, err := g.sessions.Load(r.Context(), c.Value)
	if err != nil {
		return ""
	}
	return g.sessions.GetString(ctx, "name")
}

func (g *gate) byToken(r *http.Request) string {
	text, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok || len(text) < 20 {
		return ""
	}
	tx := g.s.Store.Read(r.Context())
	t, err := store.One[store.Token](tx, "hash = ? AND revoked_at IS NULL", g.s.Store.Hash(text))
	if err != nil {
		return ""
	}
	p, err := store.One[store.Person](tx, "id = ?", t.PersonID)
	if err != nil {
		return ""
	}
	if now := time.Now().UTC(); t.UsedAt == nil || now.Sub(*t.UsedAt) > time.Minute {
		_ = g.s.Store.Write(r.Context(), func(tx *store.Tx) error {
			_, err := store.Change[store.Token](tx, map[string]any{"used_at": now}, "id = ?", t.ID)
			return err
		})
	}
	return p.Name
}

// sessionStore keeps browser sessions in the records.
type sessionStore struct{ s *store.Store }

// Find implements scs.Store.
func (x sessionStore) Find(token string) ([]byte, bool, error) {
	r, err := store.One[store.Session](x.s.Read(context.Background()), "hash = ? AND expiry > ?", token, time.Now().UTC())
	if errors.Is(err, store.ErrNone) {
		return nil, false, nil
	}
	return r.Data, err == nil, err
}

// Commit implements scs.Store. It clears out what has expired.
func (x sessionStore) Commit(token string, b []byte, expiry time.Time) error {
	return x.s.Write(context.Background(), func(tx *store.Tx) error {
		if _, err := store.Delete[store.Session](tx, "expiry < ?", time.Now().UTC()); err != nil {
			return err
		}
		return store.Save(tx, &store.Session{Hash: token, Data: b, Expiry: expiry.UTC()})
	})
}

// Delete implements scs.Store.
func (x sessionStore) Delete(token string) error {
	return x.s.Write(context.Background(), func(tx *store.Tx) error {
		_, err := store.Delete[store.Session](tx, "hash = ?", token)
		return err
	})
}

// The parameters of argon2id, as OWASP recommends them: 19 MiB, two passes.
const (
	argonTime   = 2
	argonMemory = 19 * 1024
)

func (g *gate) hash(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	return "argon2id$" + base64.RawStdEncoding.EncodeToString(salt) + "$" + base64.RawStdEncoding.EncodeToString(g.slow(password, salt))
}

func (g *gate) slow(password string, salt []byte) []byte {
	g.hashing <- struct{}{}
	defer func() { <-g.hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, 32)
}

func (g *gate) fits(password, kept string) bool {
	parts := strings.Split(kept, "$")
	if len(parts) != 3 || parts[0] != "argon2id" {
		// The same work for a name that is not there, so that time tells nothing.
		g.slow(password, make([]byte, 16))
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[1])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[2])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(g.slow(password, salt), want) == 1
}

// slowDown refuses attempts that come too fast after failures: after the third
// each doubles the pause, up to five minutes, by name and by address.
func (g *gate) slowDown(keys ...string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, k := range keys {
		if a := g.failures[k]; time.Now().Before(a.until) {
			wait := time.Until(a.until).Round(time.Second) + time.Second
			return problem.New(problem.TooMany, fmt.Sprintf("Too many attempts failed. The next one is possible in %s.", wait), "The password was wrong several times.", "Wait, then try again.")
		}
	}
	return nil
}

func (g *gate) note(ok bool, keys ...string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.failures) > 10_000 {
		clear(g.failures)
	}
	for _, k := range keys {
		if ok {
			delete(g.failures, k)
			continue
		}
		a := g.failures[k]
		a.count++
		if a.count >= 3 {
			a.until = time.Now().Add(min(time.Second<<min(a.count-3, 20), 5*time.Minute))
		}
		g.failures[k] = a
	}
}

func remote(ctx context.Context) string {
	r, _ := ctx.Value(requestKey{}).(*http.Request)
	if r == nil {
		return ""
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

// check compares name and password, slowed down after failures.
func (g *gate) check(ctx context.Context, a wire.Account) (store.Person, error) {
	keys := []string{"name " + a.Name, "from " + remote(ctx)}
	if err := g.slowDown(keys...); err != nil {
		return store.Person{}, err
	}
	p, err := store.One[store.Person](g.s.Store.Read(ctx), "name = ?", a.Name)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return p, err
	}
	ok := g.fits(a.Password, p.Password)
	g.note(ok, keys...)
	if !ok {
		_ = g.s.Record(ctx, store.Event{Actor: "unknown", Kind: "sign-in", Text: fmt.Sprintf("A sign-in as %.40q from %s failed.", a.Name, remote(ctx))})
		return p, problem.New(problem.SignedOut, "Name and password do not belong together.", "One of them is misspelt.", "Try again.")
	}
	return p, nil
}

// signIn opens a session and returns its cookie.
func (g *gate) signIn(ctx context.Context, name string) (http.Cookie, error) {
	ctx, err := g.sessions.Load(ctx, "")
	if err != nil {
		return http.Cookie{}, err
	}
	g.sessions.Put(ctx, "name", name)
	token, expiry, err := g.sessions.Commit(ctx)
	if err != nil {
		return http.Cookie{}, fmt.Errorf("open a session: %w", err)
	}
	_ = g.s.Record(ctx, store.Event{Actor: name, Kind: "sign-in", Text: name + " signed in."})
	return http.Cookie{Name: cookieName, Value: token, Path: "/", Expires: expiry, HttpOnly: true, Secure: g.s.o.Secure, SameSite: http.SameSiteStrictMode}, nil
}

func checkAccount(name, password string) error {
	var f problem.Fields
	if rule, _ := naming.CheckHostname(name); rule != "" || len(name) > 32 {
		f.Add("name", "lower-case letters, digits and hyphens, at most 32", "marta")
	}
	switch {
	case len([]rune(password)) < 12 || len(password) > 256:
		f.Add("password", "12 to 256 characters", "four words and a number")
	case strings.Contains(strings.ToLower(password), strings.ToLower(name)) && name != "":
		f.Add("password", "must not contain the name", "four words and a number")
	}
	return f.Err("The account was not made.")
}

func (g *gate) addPerson(ctx context.Context, name, password string) error {
	if err := checkAccount(name, password); err != nil {
		return err
	}
	hashed := g.hash(password)
	return g.s.Store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &store.Person{ID: store.NewID(), Name: name, Password: hashed, CreatedAt: g.s.Clock.Now()}); err != nil {
			if store.Taken(err) {
				var f problem.Fields
				f.Add("name", "is taken", name+"-2")
				return f.Err("The account was not made.")
			}
			return err
		}
		// The one-time link ends with its use.
		_, err := store.Delete[store.Meta](tx, "name = ?", firstLink)
		return err
	})
}

const firstLink = "first account"

// FirstLink returns the one-time text that makes the first account, a new one
// at each start until it is used; "" when there is an account.
func FirstLink(ctx context.Context, s *store.Store) (string, error) {
	n, err := store.Count[store.Person](s.Read(ctx), "1 = 1")
	if err != nil || n > 0 {
		return "", err
	}
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	text := base64.RawURLEncoding.EncodeToString(b)
	return text, s.Write(ctx, func(tx *store.Tx) error { return store.Save(tx, &store.Meta{Name: firstLink, Value: s.Hash(text)}) })
}
