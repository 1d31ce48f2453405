package broker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fado/internal/core/secret"
)

// The topics of a broker's dynamic security plugin, by which it is told of
// accounts over MQTT itself.
const (
	controlTopic  = "$CONTROL/dynamic-security/v1"
	responseTopic = controlTopic + "/response"
)

// ErrUnmanaged says that a broker does not let its accounts be managed.
var ErrUnmanaged = errors.New("the broker does not answer about its accounts")

// managedTime is how long a broker may take to answer about accounts.
const managedTime = 10 * time.Second

// mostCommands is how many commands go in one message.
const mostCommands = 40

// serviceRole is the role by which the service itself reads and writes all topics.
const serviceRole = "fado-service"

// Managed is a broker elsewhere whose accounts Fado keeps, through the broker's
// dynamic security plugin. Each account has a role of its own name. Accounts and
// roles that are not Fado's are left alone.
type Managed struct {
	*External
	user string

	asking  sync.Mutex // one question at a time
	next    int
	mu      sync.Mutex
	waiting map[string]chan answer
}

// Login is an account as a broker elsewhere keeps it: unlike the embedded broker it
// is given the password itself.
type Login struct {
	Name     string
	Password secret.Secret // not changed when it is zero
	Rights   Rights
}

type command map[string]any

type answer struct {
	Command     string          `json:"command"`
	Correlation string          `json:"correlationData"`
	Error       string          `json:"error"`
	Data        json.RawMessage `json:"data"`
}

// DialManaged prepares the client; as Dial, it does not wait for the broker.
func DialManaged(a Address) (*Managed, error) {
	x, err := Dial(a)
	if err != nil {
		return nil, err
	}
	m := &Managed{External: x, user: a.User, waiting: map[string]chan answer{}}
	return m, x.Subscribe(context.Background(), responseTopic, m.answered)
}

func (m *Managed) answered(msg Message) {
	var in struct {
		Responses []answer `json:"responses"`
	}
	if json.Unmarshal(msg.Payload, &in) != nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, a := range in.Responses {
		if c, ok := m.waiting[a.Correlation]; ok {
			c <- a // it has room for one, and one comes
			delete(m.waiting, a.Correlation)
		}
	}
}

// do gives commands to the broker and returns its answers in their order.
func (m *Managed) do(ctx context.Context, commands ...command) ([]answer, error) {
	m.asking.Lock()
	defer m.asking.Unlock()
	ctx, cancel := context.WithTimeout(ctx, managedTime)
	defer cancel()
	var out []answer
	for part := range slices.Chunk(commands, mostCommands) {
		waits := make([]chan answer, len(part))
		ids := make([]string, len(part))
		m.mu.Lock()
		for i, c := range part {
			m.next++
			ids[i], waits[i] = strconv.Itoa(m.next), make(chan answer, 1)
			c["correlationData"] = ids[i]
			m.waiting[ids[i]] = waits[i]
		}
		m.mu.Unlock()
		forget := func() {
			m.mu.Lock()
			defer m.mu.Unlock()
			for _, id := range ids {
				delete(m.waiting, id)
			}
		}
		body, err := json.Marshal(map[string]any{"commands": part})
		if err == nil {
			err = m.Publish(ctx, controlTopic, body, false)
		}
		if err != nil {
			forget()
			return nil, fmt.Errorf("tell the broker of accounts: %w", err)
		}
		for _, w := range waits {
			select {
			case a := <-w:
				out = append(out, a)
			case <-ctx.Done():
				forget()
				return nil, fmt.Errorf("%w: %w", ErrUnmanaged, ctx.Err())
			}
		}
	}
	return out, nil
}

// must gives commands and fails with the first that the broker refused, other than
// for one of the reasons that may be.
func (m *Managed) must(ctx context.Context, commands []command, may ...string) error {
	list, err := m.do(ctx, commands...)
	if err != nil {
		return err
	}
	for i, a := range list {
		if a.Error != "" && !slices.Contains(may, a.Error) {
			return fmt.Errorf("the broker refused «%s»: %s", commands[i]["command"], a.Error)
		}
	}
	return nil
}

// The broker's words for what is there already, or is not.
const (
	roleThere    = "Role already exists"
	clientThere  = "Client already exists"
	roleMissing  = "Role not found"
	clientGone   = "Client not found"
	roleGiven    = "Client is already in this role" // as later versions say it
	internalSame = "Internal error"                 // as earlier ones say the same
)

type acl struct {
	Kind     string `json:"acltype"`
	Topic    string `json:"topic,omitempty"`
	Priority int    `json:"priority"`
	Allow    bool   `json:"allow"`
}

// Prepare closes the broker to all that is not granted, and sees that the service
// itself may read and write everything. It may be repeated.
func (m *Managed) Prepare(ctx context.Context) error {
	var all []acl
	for _, kind := range []string{"publishClientSend", "publishClientReceive", "subscribePattern", "unsubscribePattern"} {
		all = append(all, acl{Kind: kind, Topic: "#", Allow: true})
	}
	return m.must(ctx, []command{
		{"command": "createRole", "rolename": serviceRole, "acls": all},
		{"command": "addClientRole", "username": m.user, "rolename": serviceRole},
		{"command": "setDefaultACLAccess", "acls": []acl{{Kind: "publishClientSend"}, {Kind: "publishClientReceive"}, {Kind: "subscribe"}, {Kind: "unsubscribe", Allow: true}}},
	}, roleThere, roleGiven, internalSame)
}

// acls are the broker's own form of an account's rights, in a fixed order.
func (r Rights) acls() []acl {
	var out []acl
	add := func(topic string, kinds ...string) {
		for _, k := range kinds {
			out = append(out, acl{Kind: k, Topic: topic, Allow: true})
		}
	}
	for _, own := range []string{r.Own, r.Also} {
		if own != "" {
			add(own+"/#", "publishClientSend", "publishClientReceive", "subscribePattern")
		}
	}
	for _, f := range r.Listen {
		add(f, "publishClientReceive", "subscribePattern")
	}
	for _, t := range slices.Sorted(maps.Keys(r.Read)) {
		add(t, "publishClientReceive", "subscribeLiteral")
	}
	for _, t := range slices.Sorted(maps.Keys(r.Write)) {
		add(t, "publishClientSend")
	}
	return out
}

// SetLogins makes accounts, or brings their rights up to date. It may be repeated.
func (m *Managed) SetLogins(ctx context.Context, logins ...Login) error {
	var first, then []command
	for _, l := range logins {
		list := l.Rights.acls()
		if list == nil {
			list = []acl{}
		}
		first = append(first, command{"command": "createRole", "rolename": l.Name, "acls": list}, command{"command": "modifyRole", "rolename": l.Name, "acls": list})
		if l.Password.IsZero() {
			continue
		}
		// The client id belongs to the account: nobody else can take its session.
		then = append(then, command{"command": "createClient", "username": l.Name, "password": l.Password.Expose(), "clientid": l.Name, "roles": []map[string]any{{"rolename": l.Name, "priority": 0}}})
	}
	if err := m.must(ctx, first, roleThere); err != nil {
		return err
	}
	return m.must(ctx, then, clientThere)
}

// SetPassword gives an account that is there another password.
func (m *Managed) SetPassword(ctx context.Context, name string, password secret.Secret) error {
	return m.must(ctx, []command{{"command": "setClientPassword", "username": name, "password": password.Expose()}}, clientGone)
}

// RemoveLogins revokes accounts and drops their sessions. One that is not there is
// no error.
func (m *Managed) RemoveLogins(ctx context.Context, names ...string) error {
	var list []command
	for _, n := range names {
		list = append(list, command{"command": "deleteClient", "username": n}, command{"command": "deleteRole", "rolename": n})
	}
	return m.must(ctx, list, clientGone, roleMissing)
}

// Held is an account as the broker has it.
type Held struct {
	Disabled bool
	roles    []string
	acls     []string
}

// Logins lists the accounts that the broker has, by name.
func (m *Managed) Logins(ctx context.Context) (map[string]Held, error) {
	var out = map[string]Held{}
	roles := map[string][]string{}
	const page = 500
	for at := 0; ; at += page {
		list, err := m.do(ctx, command{"command": "listRoles", "verbose": true, "count": page, "offset": at})
		if err != nil {
			return nil, err
		}
		var data struct {
			Roles []struct {
				Name string `json:"rolename"`
				ACLs []acl  `json:"acls"`
			} `json:"roles"`
		}
		if err := read(list, &data); err != nil {
			return nil, err
		}
		for _, r := range data.Roles {
			roles[r.Name] = spell(r.ACLs)
		}
		if len(data.Roles) < page {
			break
		}
	}
	for at := 0; ; at += page {
		list, err := m.do(ctx, command{"command": "listClients", "verbose": true, "count": page, "offset": at})
		if err != nil {
			return nil, err
		}
		var data struct {
			Clients []struct {
				Name     string `json:"username"`
				Disabled bool   `json:"disabled"`
				Roles    []struct {
					Name string `json:"rolename"`
				} `json:"roles"`
			} `json:"clients"`
		}
		if err := read(list, &data); err != nil {
			return nil, err
		}
		for _, c := range data.Clients {
			h := Held{Disabled: c.Disabled, acls: roles[c.Name]}
			for _, r := range c.Roles {
				h.roles = append(h.roles, r.Name)
			}
			out[c.Name] = h
		}
		if len(data.Clients) < page {
			return out, nil
		}
	}
}

func read(list []answer, into any) error {
	if len(list) != 1 || list[0].Error != "" {
		return fmt.Errorf("the broker does not list its accounts: %s", list[0].Error)
	}
	if err := json.Unmarshal(list[0].Data, into); err != nil {
		return fmt.Errorf("read the broker's accounts: %w", err)
	}
	return nil
}

func spell(list []acl) []string {
	out := make([]string, 0, len(list))
	for _, a := range list {
		out = append(out, fmt.Sprint(a.Kind, " ", a.Topic, " ", a.Allow))
	}
	slices.Sort(out)
	return out
}

// Has reports whether an account has these rights and no others.
func (h Held) Has(name string, r Rights) bool {
	return !h.Disabled && slices.Equal(h.roles, []string{name}) && slices.Equal(h.acls, spell(r.acls()))
}

// Ours reports whether an account's name is one that Fado gives.
func Ours(name string) bool { return strings.HasPrefix(name, "unit-") }
