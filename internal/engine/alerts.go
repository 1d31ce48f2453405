package engine

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/rollout"
	"fado/internal/core/secret"
	"fado/internal/core/task"
	"fado/internal/store"
)

// AlertsTo is where news of rollouts goes: a webhook, a topic on the service's broker,
// both or neither.
type AlertsTo struct {
	URL    string
	Topic  string
	Keyed  bool // a key signs what is posted
	sealed []byte
}

// alertsKey is the record under which it is kept.
const alertsKey = "alerts"

type keptAlerts struct {
	URL, Topic string
	Sealed     []byte
}

// AlertsTo reads where news goes.
func (e *Engine) AlertsTo(ctx context.Context) (AlertsTo, error) {
	m, err := store.One[store.Meta](e.Store.Read(ctx), "name = ?", alertsKey)
	if isNone(err) {
		return AlertsTo{}, nil
	}
	if err != nil {
		return AlertsTo{}, err
	}
	var k keptAlerts
	if err := json.Unmarshal([]byte(m.Value), &k); err != nil {
		return AlertsTo{}, fmt.Errorf("read where news goes: %w", err)
	}
	return AlertsTo{k.URL, k.Topic, len(k.Sealed) > 0, k.Sealed}, nil
}

// SetAlertsTo says where news goes. A zero key leaves the one that is kept.
func (e *Engine) SetAlertsTo(ctx context.Context, actor, address, topic string, key secret.Secret) error {
	var f problem.Fields
	if u, err := url.Parse(address); address != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil) {
		f.Add("url", "an address that begins with http:// or https:// and holds no login", "https://alerts.example/fado")
	}
	if topic != "" {
		if rule, _ := naming.CheckTopic(topic); rule != "" {
			f.Add("topic", rule, "news/rollouts")
		}
		n, err := store.Count[store.Device](e.Store.Read(ctx), "stage <> 'retired' AND (topic = ? OR substr(?, 1, length(topic) + 1) = topic || '/')", topic, topic)
		if err != nil {
			return fmt.Errorf("see whose topic it is: %w", err)
		}
		if n > 0 {
			f.Add("topic", "none of a device, whose unit would take the news for a word to it", "news/rollouts")
		}
	}
	was, err := e.AlertsTo(ctx)
	if err != nil {
		return err
	}
	sealed := was.sealed
	if !key.IsZero() {
		if len(key.Expose()) < 16 {
			f.Add("key", "16 characters or more", "a long random word")
		}
		sealed = e.seal("alerts", "key", key)
	}
	if address != "" && len(sealed) == 0 {
		f.Add("key", "with a webhook, what signs the news", "a long random word")
	}
	if err := f.Err("Where news goes was not changed."); err != nil {
		return err
	}
	if address == "" {
		sealed = nil
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Save(tx, &store.Meta{Name: alertsKey, Value: store.JSON(keptAlerts{address, topic, sealed})}); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "alerts", Text: "Where news of rollouts goes was changed."})
	})
	if err != nil || was.Topic == topic || e.embedded == nil && e.managed == nil {
		return err
	}
	// The hubs may read the news; their accounts learn of it.
	live, _, err := e.entitledAccounts(e.Store.Read(ctx))
	if err != nil {
		return err
	}
	for _, a := range live {
		if a.Kind == "hub" {
			if err := e.setAccount(ctx, a.Account, a.rights); err != nil {
				return err
			}
		}
	}
	return nil
}

// alertBody is what is told of a rollout.
type alertBody struct {
	What    string         `json:"what"` // held, done or lost
	Rollout string         `json:"rollout"`
	ID      string         `json:"id"`
	At      time.Time      `json:"at"`
	Text    string         `json:"text"`
	Devices []string       `json:"devices,omitempty"` // lost
	Counts  map[string]int `json:"counts"`            // devices by outcome; «open» has none yet
}

// alert puts news of a rollout on its way, in the transaction of what happened.
func (e *Engine) alert(tx *store.Tx, id, name string, before, after rollout.State, now time.Time) error {
	counts := map[string]int{}
	var lost []string
	for i, u := range after.Units {
		if u.Outcome == "" {
			counts["open"]++
		} else {
			counts[string(u.Outcome)]++
		}
		if u.Outcome == task.Lost && before.Units[i].Outcome != task.Lost {
			lost = append(lost, u.Name)
		}
	}
	send := func(what, text string, devices []string) error {
		b := alertBody{What: what, Rollout: name, ID: id, At: now, Text: text, Devices: devices, Counts: counts}
		return store.Create(tx, &store.Alert{RolloutID: id, What: what, Body: store.JSON(b), At: now, NextTry: now})
	}
	if len(lost) > 0 {
		if err := send("lost", fmt.Sprintf("%d units were lost in the rollout %s.", len(lost), name), lost); err != nil {
			return err
		}
	}
	if after.Status != before.Status && after.Status == rollout.Held {
		return send("held", after.Reason, nil)
	}
	if after.Status != before.Status && after.Status == rollout.Done {
		return send("done", "The rollout "+name+" is done: "+tally(after), nil)
	}
	return nil
}

// How news is sent: how often is looked for it, how long an answer is waited for, and
// how often it is tried, ever more seldom, up to a day.
const (
	alertRound = 2 * time.Second
	alertTime  = 10 * time.Second
	mostTries  = 20
)

// alertLoop sends news, the oldest first.
func (e *Engine) alertLoop(ctx context.Context) {
	for e.Clock.Sleep(ctx, e.Clock.Scaled(alertRound)) == nil {
		list, err := store.Some[store.Alert](e.Store.Read(ctx), 20, "id", "over = 0 AND next_try <= ?", e.Clock.Now())
		if err != nil || len(list) == 0 {
			continue
		}
		to, err := e.AlertsTo(ctx)
		if err != nil {
			e.Log.Error("send news", "error", err)
			continue
		}
		for _, a := range list {
			e.sendAlert(ctx, to, a)
		}
	}
}

func (e *Engine) sendAlert(ctx context.Context, to AlertsTo, a store.Alert) {
	var errs []error
	if to.URL != "" && !a.Posted {
		err := e.post(ctx, to, a)
		a.Posted = err == nil
		errs = append(errs, err)
	}
	if to.Topic != "" && !a.Published {
		err := e.bus.Publish(ctx, to.Topic, []byte(a.Body), false)
		a.Published = err == nil
		errs = append(errs, err)
	}
	if ctx.Err() != nil {
		return
	}
	a.Tries++
	a.Trouble, a.Over = "", true
	if err := errors.Join(errs...); err != nil {
		a.Trouble, a.Over = reason(err), a.Tries >= mostTries
		a.NextTry = e.Clock.Now().Add(min(time.Duration(1)<<min(a.Tries, 13)*5*time.Second, 6*time.Hour))
		e.Log.Warn("news was not sent", "error", err, "tries", a.Tries)
	}
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		if a.Over && a.Trouble != "" {
			if err := e.event(tx, store.Event{Actor: "fado", Kind: "alerts", Text: fmt.Sprintf("News that a rollout is %s was given up after %d tries: %s", a.What, a.Tries, a.Trouble)}); err != nil {
				return err
			}
		}
		return store.Save(tx, &a)
	})
	if err != nil {
		e.Log.Error("note that news was sent", "error", err)
	}
}

// post sends news to the webhook, signed over method, address and content (RFC 9421
// with hmac-sha256, and RFC 9530).
func (e *Engine) post(ctx context.Context, to AlertsTo, a store.Alert) error {
	key, err := e.open("alerts", "key", to.sealed)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, alertTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to.URL, bytes.NewReader([]byte(a.Body)))
	if err != nil {
		return fmt.Errorf("make the request: %w", err)
	}
	sum := sha256.Sum256([]byte(a.Body))
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest" "idempotency-key");created=%d;keyid="fado";alg="hmac-sha256"`, time.Now().Unix())
	id := fmt.Sprintf(`"%s-%d"`, a.RolloutID, a.ID)
	base := fmt.Sprintf("\"@method\": POST\n\"@target-uri\": %s\n\"content-digest\": %s\n\"idempotency-key\": %s\n\"@signature-params\": %s", req.URL, digest, id, params)
	mac := hmac.New(sha256.New, []byte(key.Expose()))
	mac.Write([]byte(base))
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Content-Digest", digest)
	req.Header.Set("Idempotency-Key", id)
	req.Header.Set("Signature-Input", "fado="+params)
	req.Header.Set("Signature", "fado=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
	h := http.Client{Transport: e.checker.Transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }} // what was signed was for this address
	resp, err := h.Do(req)
	if err != nil {
		return fmt.Errorf("post news: %w", err)
	}
	defer func() { _ = resp.Body.Close() }()
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("the webhook answered %s", resp.Status)
	}
	return nil
}
