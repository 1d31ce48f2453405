package reach

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"time"

	"github.com/icholy/digest"

	"fado/internal/clock"
	"fado/internal/core/dialect"
	"fado/internal/core/secret"
)

// Talk is a conversation with one unit over its pages: it signs in as the
// dialect says, sends exchanges, and reads their replies.
type Talk struct {
	line   *Line
	base   string
	login  *dialect.Login
	clock  clock.Clock
	try    []dialect.SignIn
	at     int // which sign-in works, or is tried
	in     bool
	token  string
	digest http.RoundTripper
	// Heard is told of every exchange, for a rehearsal's record. It may be nil.
	Heard func(x *dialect.Exchange, values dialect.Values, reply []byte, err error)
}

// NewTalk begins a conversation. values are for the login only.
func NewTalk(l *Line, base string, login *dialect.Login, values dialect.Values, c clock.Clock) *Talk {
	return &Talk{line: l, base: base, login: login, clock: c, try: login.SignIns(values)}
}

// ErrLogin says that the unit accepted none of the logins that are known.
var ErrLogin = errors.New("the unit's login was refused")

// ErrNotYet says that the unit did not come to the state that was waited for.
var ErrNotYet = errors.New("the unit is not as far as its dialect waits for")

// ByFactory reports whether the unit still accepts what it had when it was new.
func (t *Talk) ByFactory() bool { return t.at < len(t.try) && t.try[t.at].Factory }

// Patiently gives each reply more time, and Sent tells how much of the last request's
// body went out; they are those of the conversation's line.
func (t *Talk) Patiently(d time.Duration) { t.line.Patiently(d) }

// Sent is how many bytes of its body the last request has handed to the network.
func (t *Talk) Sent() int64 { return t.line.Sent() }

// Only limits the conversation to the factory's login, to see whether the unit
// still accepts it. It returns false when there is none to try.
func (t *Talk) Only(factory bool) bool {
	var keep []dialect.SignIn
	for _, s := range t.try {
		if s.Factory == factory {
			keep = append(keep, s)
		}
	}
	t.try, t.at, t.in = keep, 0, false
	return len(keep) > 0
}

// Do sends one exchange, again as often as it says, and reads its reply.
func (t *Talk) Do(ctx context.Context, x *dialect.Exchange, values dialect.Values) (dialect.Facts, error) {
	body, facts, err := t.repeat(ctx, x, values)
	if t.Heard != nil {
		t.Heard(x, values, body, err)
	}
	return facts, err
}

// Raw sends one exchange and returns the reply as it came.
func (t *Talk) Raw(ctx context.Context, x *dialect.Exchange, values dialect.Values) ([]byte, error) {
	body, err := t.once(ctx, x, values)
	if t.Heard != nil {
		t.Heard(x, values, nil, err)
	}
	return body, err
}

func (t *Talk) repeat(ctx context.Context, x *dialect.Exchange, values dialect.Values) (body []byte, facts dialect.Facts, err error) {
	for n := 0; ; n++ {
		if x.WaitMS > 0 {
			if err := t.clock.Sleep(ctx, time.Duration(x.WaitMS)*time.Millisecond); err != nil {
				return nil, nil, err
			}
		}
		if body, err = t.once(ctx, x, values); err == nil {
			if facts, err = x.Read(body); err == nil && !x.Satisfied(facts) {
				err = ErrNotYet
			}
		}
		var status *StatusError
		if err == nil || errors.As(err, &status) || errors.Is(err, ErrLogin) || n >= x.Retries || ctx.Err() != nil {
			return body, facts, err
		}
		if x.WaitMS == 0 {
			if err := t.clock.Sleep(ctx, time.Second); err != nil {
				return nil, nil, err
			}
		}
	}
}

// once sends an exchange under the first login that the unit accepts.
func (t *Talk) once(ctx context.Context, x *dialect.Exchange, values dialect.Values) ([]byte, error) {
	for renewed := false; ; {
		body, err := t.under(ctx, x, values)
		if !refused(err) || len(t.try) == 0 {
			return body, err
		}
		if t.in && !renewed && t.login.Form != nil { // the session may have ended
			t.in, renewed = false, true
			continue
		}
		if t.at+1 >= len(t.try) {
			return nil, fmt.Errorf("%w: %w", ErrLogin, err)
		}
		t.at, t.in, t.digest, renewed = t.at+1, false, nil, false
	}
}

func refused(err error) bool {
	var s *StatusError
	return errors.As(err, &s) && (s.Status == http.StatusUnauthorized || s.Status == http.StatusForbidden) || errors.Is(err, ErrLogin)
}

func (t *Talk) under(ctx context.Context, x *dialect.Exchange, values dialect.Values) (body []byte, err error) {
	defer func() { t.hide(err, values) }()
	r, err := x.Encode(values)
	if err != nil {
		return nil, err
	}
	if len(t.try) == 0 || !t.try[t.at].Wants() {
		return t.line.send(ctx, t.base, r, nil)
	}
	s := t.try[t.at]
	switch t.login.Kind {
	case dialect.BasicLogin:
		return t.line.send(ctx, t.base, r, func(q *http.Request) { q.SetBasicAuth(s.User, s.Password.Expose()) })
	case dialect.DigestLogin:
		if t.digest == nil {
			t.digest = &digest.Transport{Username: s.User, Password: s.Password.Expose(), Transport: t.line.client.Transport}
		}
		signed := *t.line.client
		signed.Transport = t.digest
		return (&Line{&signed, t.line.sent}).send(ctx, t.base, r, nil)
	}
	if !t.in {
		if err := t.signIn(ctx, s); err != nil {
			return nil, err
		}
	}
	return t.line.send(ctx, t.base, r, func(q *http.Request) {
		if t.login.Kind == dialect.TokenLogin {
			if v, err := t.login.HeaderValue(t.token); err == nil {
				q.Header.Set(t.login.Header, v)
			}
		}
	})
}

// hide keeps secrets that a unit repeats when it refuses them out of the error.
func (t *Talk) hide(err error, values dialect.Values) {
	var s *StatusError
	if !errors.As(err, &s) {
		return
	}
	told := maps.Clone(values)
	if told == nil {
		told = dialect.Values{}
	}
	if t.at < len(t.try) {
		told["login.password"] = t.try[t.at].Password
	}
	s.Body, s.To = secret.Hide(s.Body, maps.Values(told)), secret.Hide(s.To, maps.Values(told))
}

// signIn sends the login's form. The unit's cookie stays in the line's jar.
func (t *Talk) signIn(ctx context.Context, s dialect.SignIn) error {
	r, err := t.login.Form.Encode(dialect.Values{"login.user": s.User, "login.password": s.Password})
	if err != nil {
		return err
	}
	body, err := t.line.send(ctx, t.base, r, nil)
	if err != nil {
		return err
	}
	facts, err := t.login.Form.Read(body)
	if err != nil {
		return fmt.Errorf("read the reply to the login: %w", err)
	}
	if !t.login.Form.Satisfied(facts) {
		return ErrLogin
	}
	if t.token = facts.Text("token"); t.login.Kind == dialect.TokenLogin && t.token == "" {
		return fmt.Errorf("%w: it gave no token", ErrLogin)
	}
	t.in = true
	return nil
}
