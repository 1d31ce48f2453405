package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	mqtt "github.com/eclipse/paho.mqtt.golang"

	"fado/internal/client"
	"fado/internal/core/task"
	"fado/internal/sim"
	"fado/internal/wire"
)

// listener is a hub that listens: it knows what the broker keeps below «casa», and
// nothing of Fado.
type listener struct {
	mqtt.Client
	mu   sync.Mutex
	kept map[string]string
}

func listen(t *testing.T, at, user, pass string) *listener {
	t.Helper()
	l := &listener{kept: map[string]string{}}
	l.Client = mqtt.NewClient(mqtt.NewClientOptions().AddBroker("tcp://" + at).SetClientID(user).SetUsername(user).SetPassword(pass).SetAutoReconnect(false).SetOrderMatters(true))
	if k := l.Connect(); !k.WaitTimeout(5*time.Second) || k.Error() != nil {
		t.Fatal(k.Error())
	}
	t.Cleanup(func() { l.Disconnect(50) })
	for _, f := range []string{"#", "lagar/#"} {
		if k := l.Subscribe(f, 1, nil).(*mqtt.SubscribeToken); k.WaitTimeout(5*time.Second) && k.Error() == nil && k.Result()[f] < 0x80 {
			t.Errorf("the hub may hear %s", f)
		}
	}
	k := l.Subscribe("casa/#", 1, func(_ mqtt.Client, m mqtt.Message) {
		l.mu.Lock()
		defer l.mu.Unlock()
		if len(m.Payload()) == 0 {
			delete(l.kept, m.Topic())
			return
		}
		l.kept[m.Topic()] = string(m.Payload())
	}).(*mqtt.SubscribeToken)
	if !k.WaitTimeout(5*time.Second) || k.Error() != nil || k.Result()["casa/#"] >= 0x80 {
		t.Fatal(k.Error(), k.Result())
	}
	return l
}

// named finds what the hub was told of the device of a name; "" for nothing.
func (l *listener) named(name string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, body := range l.kept {
		var x struct{ Name, Place string }
		if json.Unmarshal([]byte(body), &x) == nil && x.Name == name {
			return body
		}
	}
	return ""
}

func (l *listener) count() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.kept)
}

// TestAHubThatListens: a device is adopted by retained messages of the form that a
// file describes; it can be switched by what stands there alone; renamed, lost,
// retired: the hub is kept in step. On the embedded broker and on Debian's.
func TestAHubThatListens(t *testing.T) {
	for name, start := range map[string]func(t *testing.T) (*home, string){
		"embedded": func(t *testing.T) (*home, string) {
			s, began := oneUnit(t, 8, sim.None)
			h := startHome(t, homeOptions{radio: s.Address(), scale: 8, began: began, hubURL: s.HubAddress(0), hub: sim.HubSpec{Token: "t"}})
			h.add(unitID, "olival-azeite")
			h.sighted()
			return h, h.running.BrokerAt
		},
		"real": func(t *testing.T) (*home, string) {
			b := newRealBroker(t)
			h, _ := startManaged(t, b)
			return h, b.at
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h, at := start(t)
			file, err := os.ReadFile("../../docs/examples/notice.yaml")
			if err != nil {
				t.Fatal(err)
			}
			if err := h.Do(t.Context(), http.MethodPut, "/api/v1/notices", wire.FileText{File: strings.Replace(string(file), "{label}", "{lable}", 1)}, nil); err == nil || !strings.Contains(err.Error(), "notice file") {
				t.Error("a file with a fault was taken: ", err)
			}
			wide := strings.NewReplacer("casa/", "lagar/", "notice: casa", "notice: wide").Replace(string(file))
			h.do("PUT", "/api/v1/notices", wire.FileText{File: wide})
			if err := h.Do(t.Context(), http.MethodPatch, "/api/v1/hubs/hub", wire.HubEdit{Notice: new("wide")}, nil); err == nil {
				t.Error("a hub may hear what units say that it has not adopted")
			}
			h.do("PUT", "/api/v1/notices", wire.FileText{File: string(file)})
			h.do("PATCH", "/api/v1/hubs/hub", wire.HubEdit{Notice: new("casa")})
			if x := h.run("/api/v1/devices/relay-1/commission", struct{}{}); x.Status != task.Done {
				t.Fatalf("%+v\n%s", x.Failure, sheet(x))
			}
			l := listen(t, at, "hub-lagar", "0123456789abcdef")
			const n = 6 // the device, and its five capabilities
			waitFor(t, "the device at the hub", func() bool { return l.named("Rega") != "" && l.count() == n })

			// By what stands there alone it is switched, and says so.
			var relay struct {
				State struct{ At, On, Off string }
				Do    struct{ At, On string }
			}
			l.mu.Lock()
			for topic, body := range l.kept {
				if strings.HasSuffix(topic, "/relay-1") {
					_ = json.Unmarshal([]byte(body), &relay)
				}
			}
			l.mu.Unlock()
			states := make(chan string, 16)
			l.Subscribe(relay.State.At, 1, func(_ mqtt.Client, m mqtt.Message) { states <- string(m.Payload()) }).WaitTimeout(5 * time.Second)
			l.Publish(relay.Do.At, 1, false, relay.Do.On).WaitTimeout(5 * time.Second)
			waitFor(t, "the state that follows", func() bool {
				select {
				case s := <-states:
					return s == relay.State.On
				default:
					return false
				}
			})

			view := func() string {
				v, err := client.Get[wire.HubView](t.Context(), h.Client, "/api/v1/hubs/hub/things")
				if err != nil {
					t.Fatal(err)
				}
				return standings(v)
			}
			if got := view(); got != "Rega: same" {
				t.Error(got)
			}
			h.do("PATCH", "/api/v1/devices/relay-1", wire.DeviceEdit{Label: new("Rega nova")})
			if x := h.run("/api/v1/devices/relay-1/apply", struct{}{}); x.Status != task.Done {
				t.Fatalf("%+v", x.Failure)
			}
			waitFor(t, "the new name", func() bool { return l.named("Rega nova") != "" && l.named("Rega") == "" && l.count() == n })

			// The broker forgets a half, and keeps nonsense of the other.
			l.mu.Lock()
			var topics []string
			for topic := range l.kept {
				topics = append(topics, topic)
			}
			l.mu.Unlock()
			if err := h.running.Say(t.Context(), topics[0], nil, true); err != nil {
				t.Fatal(err)
			}
			if err := h.running.Say(t.Context(), topics[1], []byte("nonsense"), true); err != nil {
				t.Fatal(err)
			}
			if got := view(); got != "Rega: differs" {
				t.Error(got)
			}
			h.do("POST", "/api/v1/hubs/hub/catch-up", nil)
			waitFor(t, "what the broker forgot", func() bool { return view() == "Rega: same" && l.count() == n })

			// Another form: what the old one kept is taken away.
			h.do("PUT", "/api/v1/notices", wire.FileText{File: strings.ReplaceAll(string(file), `topic: "casa/{device_id}/{capability}"`, `topic: "casa/parts/{device_id}/{capability}"`)})
			waitFor(t, "the other form", func() bool {
				l.mu.Lock()
				defer l.mu.Unlock()
				parts := 0
				for topic := range l.kept {
					if strings.HasPrefix(topic, "casa/parts/") {
						parts++
					}
				}
				return parts == n-1 && len(l.kept) == n
			})
			h.do("POST", "/api/v1/devices/relay-1/retire", wire.Retire{Reason: "sold"})
			waitFor(t, "its leaving the hub", func() bool { return l.count() == 0 })
		})
	}
}
