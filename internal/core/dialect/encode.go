package dialect

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/yosida95/uritemplate/v3"

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
}

// Merge adds settings to the values.
func (v Values) Merge(s settings.Values) Values {
	for k, x := range s {
		v[string(k)] = x
	}
	return v
}

var placeholder = regexp.MustCompile(`\{([a-z0-9_.]+)\}`)

type encoder struct {
	values Values
	mask   bool
}

// Encode builds the request. Values that are absent leave their member out of
// a JSON object, form or query; in a path or topic they are an error.
func (e *Exchange) Encode(values Values) (Request, error) { return e.encode(encoder{values, false}) }

// Preview builds the request as Encode does, with every secret masked.
func (e *Exchange) Preview(values Values) (Request, error) { return e.encode(encoder{values, true}) }

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
			if v, ok := enc.leaf(leaf); ok {
				form.Set(k, plainText(enc.worded(e, leaf, v)))
			}
		}
		r.Body, r.ContentType = []byte(form.Encode()), "application/x-www-form-urlencoded"
	case e.Multipart != nil:
		return enc.multipart(e, r)
	case e.Text != "":
		v, ok := enc.leaf(e.Text)
		if !ok {
			return fmt.Errorf("the value %s is not there", e.Text)
		}
		r.Body, r.ContentType = []byte(plainText(enc.worded(e, e.Text, v))), "text/plain; charset=utf-8"
	}
	return nil
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
	}
	r.ContentType = w.FormDataContentType()
	err := w.Close()
	r.Body = b.Bytes()
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
	if m := placeholder.FindStringSubmatch(s); m != nil && m[0] == s {
		return enc.lookup(m[1])
	}
	ok := true
	out := placeholder.ReplaceAllStringFunc(s, func(m string) string {
		v, found := enc.lookup(m[1 : len(m)-1])
		ok = ok && found
		return plainText(v)
	})
	return out, ok
}

// worded puts a value into the unit's own word, by the exchange's value map.
func (enc encoder) worded(e *Exchange, leaf string, v any) any {
	m := placeholder.FindStringSubmatch(leaf)
	if m == nil || m[0] != leaf {
		return v
	}
	for theirs, ours := range e.Values[m[1]] {
		if ours == plainText(v) {
			return theirs
		}
	}
	return v
}

func (enc encoder) tree(node any) (any, bool) {
	switch n := node.(type) {
	case string:
		return enc.leaf(n)
	case map[string]any:
		out := make(map[string]any, len(n))
		for k, child := range n {
			if v, ok := enc.tree(child); ok {
				out[k] = v
			}
		}
		return out, len(out) > 0 || len(n) == 0
	case []any:
		out := make([]any, 0, len(n))
		for _, child := range n {
			if v, ok := enc.tree(child); ok {
				out = append(out, v)
			}
		}
		return out, true
	}
	return node, true
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
