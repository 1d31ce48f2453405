package dialect

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/yosida95/uritemplate/v3"

	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
)

// Request is an encoded exchange. For HTTP, Path begins with a slash and is
// below the unit's own address; for the broker, Topic is set instead.
type Request struct {
	Title       string
	Method      string
	Path        string
	Topic       string
	ContentType string
	Body        []byte
	Headers     map[string]string
	Expect      []int
	Restarts    bool
}

// Values is what an exchange may use: settings under their keys and the words
// of Context. Nothing else can be reached by a placeholder.
type Values map[string]any

// Context lists the placeholders that are no settings, with what they mean.
var Context = map[string]string{
	"hardware_id": "the unit's hardware id, with colons",
	"digits":      "the hardware id's twelve digits",
	"set_up_code": "the key printed on the unit (secret)",
	"capability":  "the capability that a command is for",
	"value":       "the value of a command",
	"ask_id":      "a name for this request, repeated in the answer",
	"link":        "the signed address of an image (secret)",
	"manifest":    "the image's signed manifest",
	"image":       "the image's bytes",
	"size":        "the image's size in bytes",
	"sha256":      "the image's SHA-256",
	"version":     "the image's version",
	"token":       "what the login gave (secret)",
	"address":     "the unit's own address in the home's network",

	"clock.posix":  "the time zone as a POSIX rule, for units that know no zone names",
	"address.mask": "the prefix length as a mask, such as 255.255.255.0",

	"login.user":     "the user to sign in with: Fado's own, or the factory's",
	"login.password": "the password to sign in with (secret)",
}

// LiveTopic is the value under which an exchange finds the topic that the unit
// uses now. Where a message is published, {topic} is that one; everywhere else
// it is the topic that is intended.
const LiveTopic = "topic in use"

// Merge adds settings to the values. The items of families are added too, under
// the label and the pin of the model's ports.
func (v Values) Merge(s settings.Values, m inventory.Model) Values {
	items := map[string]map[string]Values{}
	for k, x := range s {
		v[string(k)] = x
		f, item, field, ok := settings.Split(k)
		if !ok {
			continue
		}
		if items[f.Name] == nil {
			items[f.Name] = map[string]Values{}
		}
		one := items[f.Name][item]
		if one == nil {
			one = Values{f.Name + ".capability": item}
			if f.Item == "port" {
				one = Values{f.Name + ".label": item}
				if p, found := m.Port(item); found {
					one[f.Name+".label"], one[f.Name+".pin"] = p.Label, p.Pin
				}
			}
			items[f.Name][item] = one
		}
		one[f.Name+"."+field] = x
	}
	for k, x := range s.Derived() {
		v[k] = x
	}
	for family, byItem := range items {
		list := make([]Values, 0, len(byItem))
		for _, item := range slices.Sorted(maps.Keys(byItem)) {
			list = append(list, byItem[item])
		}
		v[family] = list
	}
	return v
}

// itemNames are the placeholders of each family's items.
func itemNames(f settings.Family) []string {
	out := []string{f.Name + ".capability"}
	if f.Item == "port" {
		out = []string{f.Name + ".label", f.Name + ".pin"}
	}
	for _, x := range f.Fields {
		out = append(out, f.Name+"."+x.Name)
	}
	return out
}

// itemFamilies are the families by the placeholders of their items.
var itemFamilies = func() map[string]string {
	m := map[string]string{}
	for _, f := range settings.Families {
		for _, name := range itemNames(f) {
			m[name] = f.Name
		}
	}
	return m
}()

// itemFamily is the family whose item a placeholder belongs to, or "".
func itemFamily(name string) string { return itemFamilies[name] }

// repeats finds the family whose items a part of a body is written for.
func repeats(texts ...string) string {
	for _, t := range texts {
		if strings.IndexByte(t, '{') < 0 {
			continue
		}
		for _, m := range placeholder.FindAllStringSubmatch(t, -1) {
			if f := itemFamily(m[1]); f != "" {
				return f
			}
		}
	}
	return ""
}

// items runs write once for each item of a family, with the item's values.
func (enc encoder) items(family string, write func(encoder)) {
	list, _ := enc.values[family].([]Values)
	for _, item := range list {
		v := maps.Clone(enc.values)
		maps.Copy(v, item)
		write(encoder{v, enc.mask, enc.exchange})
	}
}

var placeholder = regexp.MustCompile(`\{([a-z0-9_.]+)\}`)

// Offer gives what an exchange that starts an update may use, for showing it:
// the image is named, and the link is hidden as it always is.
func (v Values) Offer(version string) Values {
	v["link"], v["manifest"], v["image"] = secret.New("link"), "(the signed manifest)", []byte("(the image)")
	v["size"], v["sha256"], v["version"] = int64(655360), "(its SHA-256)", version
	return v
}

// SignIn is one way to try at a unit's login.
type SignIn struct {
	Factory  bool // it is what a fresh unit wants
	User     string
	Password secret.Secret
}

// SignIns lists what to try at the login, in order: Fado's own when there is
// one, then the factory's. A login of a form that wants nothing is left out.
func (l *Login) SignIns(values Values) []SignIn {
	if l == nil {
		return nil
	}
	enc := encoder{values: values}
	var out []SignIn
	if user, ok := enc.leaf(l.User); ok {
		if pass := enc.hidden(l.Password); !pass.IsZero() {
			out = append(out, SignIn{User: plainText(user), Password: pass})
		}
	}
	if l.Factory != nil {
		user, _ := enc.leaf(l.Factory.User)
		out = append(out, SignIn{Factory: true, User: plainText(user), Password: enc.hidden(l.Factory.Password)})
	}
	return out
}

// Wants reports whether the sign-in says anything at all.
func (s SignIn) Wants() bool { return s.User != "" || !s.Password.IsZero() }

// HeaderValue writes the header that carries a token.
func (l *Login) HeaderValue(token string) (string, error) {
	v, _ := encoder{values: Values{"token": token}}.leaf(l.Value)
	text := plainText(v)
	if strings.ContainsAny(text, "\r\n\x00") {
		return "", fmt.Errorf("the token cannot go into a header")
	}
	return text, nil
}

// hidden evaluates a lone placeholder of a secret, or takes the text as it is.
func (enc encoder) hidden(leaf string) secret.Secret {
	if m := placeholder.FindStringSubmatch(leaf); m != nil && m[0] == leaf {
		s, _ := enc.values[m[1]].(secret.Secret)
		return s
	}
	return secret.New(leaf)
}

type encoder struct {
	values   Values
	mask     bool
	exchange *Exchange // whose words and scales apply
}

// Encode builds the request. Values that are absent leave their member out of
// a JSON object, form or query; in a path or topic they are an error.
func (e *Exchange) Encode(values Values) (Request, error) { return e.encode(encoder{values, false, e}) }

// Preview builds the request as Encode does, with every secret masked and forms
// and parts written for people, a field a line.
func (e *Exchange) Preview(values Values) (Request, error) { return e.encode(encoder{values, true, e}) }

func (e *Exchange) encode(enc encoder) (Request, error) {
	r := Request{Title: e.Title, Expect: e.Expect, Restarts: e.Restarts}
	if e.Publish != "" {
		topic, err := enc.topic(e.Publish)
		if err != nil {
			return r, err
		}
		r.Topic = topic
	} else {
		method, path := e.verb()
		r.Method = method
		expanded, err := enc.path(path)
		if err != nil {
			return r, err
		}
		if len(e.Query) > 0 {
			q := url.Values{}
			for k, leaf := range e.Query {
				if v, ok := enc.leaf(leaf); ok {
					q.Set(k, plainText(v))
				}
			}
			expanded += "?" + q.Encode()
		}
		r.Path = expanded
	}
	for k, leaf := range e.Headers {
		v, ok := enc.leaf(leaf)
		text := plainText(v)
		if !ok {
			continue
		}
		if strings.ContainsAny(text, "\r\n\x00") {
			return r, fmt.Errorf("the header %s cannot hold a line end", k)
		}
		if r.Headers == nil {
			r.Headers = map[string]string{}
		}
		r.Headers[k] = text
	}
	return r, enc.body(e, &r)
}

func (e *Exchange) verb() (method, path string) {
	switch {
	case e.Get != "":
		return "GET", e.Get
	case e.Put != "":
		return "PUT", e.Put
	case e.Post != "":
		return "POST", e.Post
	}
	return "DELETE", e.Delete
}

func (enc encoder) body(e *Exchange, r *Request) error {
	switch {
	case e.JSON != nil:
		tree, ok := enc.tree(e.JSON)
		if !ok {
			return fmt.Errorf("the body's value %v is not there", e.JSON)
		}
		var b bytes.Buffer
		j := json.NewEncoder(&b)
		j.SetEscapeHTML(false)
		if err := j.Encode(tree); err != nil {
			return fmt.Errorf("encode body: %w", err)
		}
		r.Body, r.ContentType = bytes.TrimRight(b.Bytes(), "\n"), "application/json"
	case e.Form != nil:
		form := url.Values{}
		for k, leaf := range e.Form {
			if family := repeats(k, leaf); family != "" {
				enc.items(family, func(one encoder) { one.field(form, k, leaf) })
				continue
			}
			enc.field(form, k, leaf)
		}
		r.Body, r.ContentType = []byte(form.Encode()), "application/x-www-form-urlencoded"
		if enc.mask { // a person reads it
			var lines []string
			for _, k := range slices.Sorted(maps.Keys(form)) {
				for _, v := range form[k] {
					lines = append(lines, k+" = "+v)
				}
			}
			r.Body = []byte(strings.Join(lines, "\n"))
		}
	case e.Multipart != nil:
		return enc.multipart(e, r)
	case e.Text != "":
		v, ok := enc.leaf(e.Text)
		if !ok {
			return fmt.Errorf("the value %s is not there", e.Text)
		}
		r.Body, r.ContentType = []byte(plainText(v)), "text/plain; charset=utf-8"
	}
	return nil
}

func (enc encoder) field(form url.Values, name, leaf string) {
	k, named := enc.leaf(name)
	v, ok := enc.leaf(leaf)
	if named && ok {
		form.Add(plainText(k), plainText(v))
	}
}

// multipart writes the parts in order of their names, under a boundary that is
// derived from the content, so that the same values give the same bytes.
func (enc encoder) multipart(e *Exchange, r *Request) error {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if err := w.SetBoundary("part-of-a-whole-7c1f0b"); err != nil {
		return err
	}
	names := make([]string, 0, len(e.Multipart))
	for k := range e.Multipart {
		names = append(names, k)
	}
	slices.Sort(names)
	var lines []string
	for _, k := range names {
		v, ok := enc.leaf(e.Multipart[k])
		if !ok {
			continue
		}
		h := textproto.MIMEHeader{}
		data, isImage := v.([]byte)
		if isImage {
			h.Set("Content-Disposition", multipart.FileContentDisposition(k, "image.bin"))
			h.Set("Content-Type", "application/octet-stream")
		} else {
			h.Set("Content-Disposition", multipart.FileContentDisposition(k, ""))
			data = []byte(plainText(v))
		}
		part, err := w.CreatePart(h)
		if err != nil {
			return fmt.Errorf("write part %s: %w", k, err)
		}
		_, _ = part.Write(data)
		lines = append(lines, k+" = "+string(data))
	}
	r.ContentType = w.FormDataContentType()
	err := w.Close()
	r.Body = b.Bytes()
	if enc.mask { // a person reads it
		r.Body = []byte(strings.Join(lines, "\n"))
	}
	return err
}

// lookup returns a placeholder's value as the encoder may use it.
func (enc encoder) lookup(name string) (any, bool) {
	v, ok := enc.values[name]
	if !ok || v == nil {
		return nil, false
	}
	if s, isSecret := v.(secret.Secret); isSecret {
		if enc.mask {
			return s.String(), true
		}
		return s.Expose(), true
	}
	return v, true
}

// leaf evaluates a string leaf: a lone placeholder keeps its value's type, text
// with placeholders becomes text, and anything else is itself. It is false when
// a placeholder has no value.
func (enc encoder) leaf(s string) (any, bool) {
	if strings.IndexByte(s, '{') < 0 {
		return s, true
	}
	if name := lone(s); name != "" {
		v, ok := enc.lookup(name)
		return enc.said(name, v), ok
	}
	ok := true
	out := placeholder.ReplaceAllStringFunc(s, func(m string) string {
		name := m[1 : len(m)-1]
		v, found := enc.lookup(name)
		ok = ok && found
		return plainText(enc.said(name, v))
	})
	return out, ok
}

// lone is the name of a text that is one placeholder and nothing else, or "".
func lone(s string) string {
	if len(s) < 3 || s[0] != '{' || s[len(s)-1] != '}' {
		return ""
	}
	name := s[1 : len(s)-1]
	for _, c := range []byte(name) {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '_' && c != '.' {
			return ""
		}
	}
	return name
}

// said puts a value as the unit says it: in its own word, or its own unit of
// numbers.
func (enc encoder) said(name string, v any) any {
	if enc.exchange == nil || v == nil {
		return v
	}
	text := ""
	if len(enc.exchange.Values[name]) > 0 {
		text = plainText(v)
	}
	for theirs, ours := range enc.exchange.Values[name] {
		if ours == text {
			return theirs
		}
	}
	if scale := enc.exchange.Scale[name]; scale != 0 {
		if n, ok := number(v); ok {
			return whole(n / scale)
		}
	}
	return v
}

// whole gives a number that has no fraction as an integer. Scales such as 0.1
// are not exact in binary, so what is nearly whole is whole.
func whole(n float64) any {
	r := math.Round(n*1e6) / 1e6
	if r == math.Trunc(r) && math.Abs(r) < 1<<53 {
		return int64(r)
	}
	return r
}

func (enc encoder) tree(node any) (any, bool) {
	switch n := node.(type) {
	case string:
		return enc.leaf(n)
	case map[string]any:
		out := make(map[string]any, len(n))
		member := func(enc encoder, k string, child any) {
			name, named := enc.leaf(k)
			if v, ok := enc.tree(child); ok && named {
				out[plainText(name)] = v
			}
		}
		for k, child := range n {
			if family := repeats(k); family != "" {
				enc.items(family, func(one encoder) { member(one, k, child) })
				continue
			}
			member(enc, k, child)
		}
		return out, len(out) > 0 || len(n) == 0
	case []any:
		out := make([]any, 0, len(n))
		for _, child := range n {
			one := func(enc encoder) {
				if v, ok := enc.tree(child); ok {
					out = append(out, v)
				}
			}
			if family := repeats(texts(child)...); family != "" {
				enc.items(family, one)
				continue
			}
			one(enc)
		}
		return out, len(out) > 0 || len(n) == 0
	}
	return node, true
}

// texts lists the texts in a part of a body.
func texts(node any) (out []string) {
	switch n := node.(type) {
	case string:
		out = append(out, n)
	case map[string]any:
		for k, v := range n {
			out = append(append(out, k), texts(v)...)
		}
	case []any:
		for _, v := range n {
			out = append(out, texts(v)...)
		}
	}
	return out
}

// path expands an RFC 6570 template.
func (enc encoder) path(template string) (string, error) {
	t, err := uritemplate.New(template)
	if err != nil {
		return "", fmt.Errorf("path %q is no URI template: %w", template, err)
	}
	vars := uritemplate.Values{}
	for _, name := range t.Varnames() {
		v, ok := enc.lookup(name)
		if !ok {
			return "", fmt.Errorf("path %q needs %s, which has no value", template, name)
		}
		vars.Set(name, uritemplate.String(plainText(v)))
	}
	p, err := t.Expand(vars)
	if err != nil {
		return "", fmt.Errorf("expand path %q: %w", template, err)
	}
	return p, nil
}

// topic puts values into a topic as they are; each must be good as a topic.
func (enc encoder) topic(pattern string) (string, error) {
	if live, ok := enc.values[LiveTopic]; ok {
		enc.values = maps.Clone(enc.values)
		enc.values["topic"] = live
	}
	enc.exchange = nil // a topic's levels are the values themselves
	v, ok := enc.leaf(pattern)
	topic, isText := v.(string)
	if !ok || !isText {
		return "", fmt.Errorf("topic %q needs a value that is not there", pattern)
	}
	if rule, _ := naming.CheckTopic(topic); rule != "" && len(topic) <= naming.MaxTopic {
		return "", fmt.Errorf("topic %q %s", topic, rule)
	}
	return topic, nil
}

// plainText writes a value as units read it: no exponent, no quotes.
func plainText(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case bool:
		return strconv.FormatBool(x)
	case int:
		return strconv.Itoa(x)
	case int64:
		return strconv.FormatInt(x, 10)
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case json.Number:
		return x.String()
	}
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return strings.Trim(string(b), `"`)
}

func number(v any) (float64, bool) {
	switch x := v.(type) {
	case float64:
		return x, true
	case int64:
		return float64(x), true
	case int:
		return float64(x), true
	case string:
		f, err := strconv.ParseFloat(strings.TrimSpace(x), 64)
		return f, err == nil
	}
	return 0, false
}
