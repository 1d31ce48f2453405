package engine

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/store"
)

// Exchange is one request of a preview, with secrets masked.
type Exchange struct {
	Title    string
	Request  string
	Body     string
	Sets     []string
	Restarts bool
}

// Preview is what would be sent to a device, and why.
type Preview struct {
	Device    store.Device
	At        dialect.Place
	Exchanges []Exchange
	Restarts  int
	Differs   []Line // what is not on the unit yet
	Left      []settings.Key
	Unread    []settings.Key // sent, and cannot be told back
	AtWake    bool
	Assumed   bool     // its version is not known yet, and the newest is shown
	Listeners []string // who else listens on a topic that would be given up
	Update    *Exchange
}

// made stands for a secret that is made when it is needed.
const made = "(made when it is handed over)"

// PreviewDevice shows what commissioning would send to a device, or what would
// be applied to one in service, in order.
func (e *Engine) PreviewDevice(ctx context.Context, ref string) (Preview, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return Preview{}, err
	}
	tx := e.Store.Read(ctx)
	p := Preview{Device: d, At: dialect.AtSetUp}
	var values settings.Values
	if inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		p.At = dialect.AtService
		values, err = e.planApply(tx, d)
	} else {
		values, err = e.plan(tx, d)
	}
	if err != nil {
		return p, err
	}
	model, dl, err := e.speaker(d)
	if err != nil {
		return p, err
	}
	subject := shownSubject(model, d)
	p.Assumed = d.Running == "" && dl.Bounded()
	for _, k := range []settings.Key{settings.AccessUser, settings.AccessPassword, settings.AccessPointKey} {
		if _, has := values[k]; !has && dl.Supports(k, subject) {
			values[k] = secret.New(made)
			if k == settings.AccessUser {
				values[k] = accessUser
			}
		}
	}
	if _, has := values[settings.BrokerUser]; !has {
		values[settings.BrokerUser], values[settings.BrokerPassword] = made, secret.New(made)
	}
	known := withoutZero(values)
	held := func(settings.Key) bool { return false }
	lines, err := e.Lines(tx, d)
	if err != nil {
		return p, err
	}
	if p.At == dialect.AtService {
		on := map[settings.Key]bool{}
		for _, l := range lines {
			on[l.Key] = l.State() == settings.Equal || l.State() == settings.Proven || l.State() == settings.Unreadable
		}
		held = func(k settings.Key) bool { return on[k] }
		p.AtWake = dl.Service != nil && dl.Service.AtWake
	}
	for _, l := range lines {
		switch l.State() {
		case settings.Differs, settings.NotHandedOver:
			p.Differs = append(p.Differs, l)
		}
	}
	plan := dl.Plan(known, held, subject, p.At)
	if _, has := known[settings.BrokerPassword]; !has && plan.NeedsAll(settings.BrokerPassword) {
		known[settings.BrokerPassword] = secret.New(made)
		plan = dl.Plan(known, held, subject, p.At)
	}
	p.Left, p.Restarts = plan.Left, plan.Restarts
	if err := e.exchanges(&p, plan, dl, d, known, model); err != nil {
		return p, err
	}
	for _, page := range plan.Pages {
		for _, k := range page.Writes(known) {
			if !dl.ReadsBack(k, subject) {
				p.Unread = append(p.Unread, k)
			}
		}
	}
	if d.LiveTopic != "" {
		p.Listeners = e.Listeners(ctx, d)
	}
	return p, nil
}

func (e *Engine) exchanges(p *Preview, plan dialect.Plan, dl *dialect.Dialect, d store.Device, values settings.Values, model inventory.Model) error {
	code, err := e.open("set-up code", d.ID, d.SetUpCode)
	if err != nil {
		return err
	}
	may := e.context(d, code).Merge(values, model)
	may["ask_id"] = "ask"
	add := func(title string, x dialect.Exchange, sets []settings.Key) error {
		r, err := x.Preview(may)
		if err != nil {
			return fmt.Errorf("encode %s: %w", title, err)
		}
		out := Exchange{Title: title, Request: strings.TrimSpace(r.Method + " " + r.Path + r.Topic), Body: string(r.Body), Restarts: r.Restarts}
		for _, k := range sets {
			out.Sets = append(out.Sets, string(k))
		}
		p.Exchanges = append(p.Exchanges, out)
		return nil
	}
	byPages := p.At == dialect.AtSetUp || dl.Service != nil && dl.Service.By == dialect.ByPages
	if byPages && (p.At == dialect.AtSetUp || len(plan.Pages) > 0) {
		if err := add("identify", dl.Identify, nil); err != nil {
			return err
		}
	}
	for _, page := range plan.Pages {
		if err := add(page.Title, page.Exchange, page.Writes(values)); err != nil {
			return err
		}
	}
	if way, ok := dl.Delivery(shownSubject(model, d)); ok {
		r, err := way.Start.Preview(maps.Clone(may).Offer("the new version"))
		if err != nil {
			return fmt.Errorf("encode the update: %w", err)
		}
		p.Update = &Exchange{Title: way.Describe(), Request: strings.TrimSpace(r.Method + " " + r.Path + r.Topic), Body: string(r.Body), Restarts: r.Restarts}
	}
	if plan.Commit == nil {
		return nil
	}
	title := plan.Commit.Title
	if title == "" {
		title = "restart"
	}
	return add(title, *plan.Commit, nil)
}

// planApply checks that a device in service can be told what is intended, and
// returns it.
func (e *Engine) planApply(tx *store.Tx, d store.Device) (settings.Values, error) {
	if !inventory.Stage(d.Stage).AtLeast(inventory.Joined) {
		return nil, problem.New(problem.Conflict, fmt.Sprintf("%s is not in service yet.", d.Name), "It was not commissioned.", "Commission it with «fado device commission "+d.Hostname+"»; that hands over everything.")
	}
	o, err := e.order(tx, d)
	if err != nil {
		return nil, err
	}
	var f problem.Fields
	switch {
	case o.dl.Service == nil:
		f.Add("dialect", fmt.Sprintf("%s knows no way to change settings in service", o.dl.Name), "")
	case o.dl.Service.By == dialect.ByPages && o.site.Reach == "broker only":
		f.Add("reach", "the site can be reached by its broker only, and this firmware takes settings over its pages", "routed")
	case o.dl.Service.By == dialect.ByPages && d.Address == "":
		f.Add("address", "the unit has not said its address yet", "")
	}
	f = append(f, o.check(d)...)
	return o.values, f.Err(fmt.Sprintf("The settings of %s cannot be applied.", d.Name))
}
