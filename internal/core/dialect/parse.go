package dialect

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"github.com/yosida95/uritemplate/v3"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"fado/internal/core/problem"
	"fado/internal/core/settings"
)

// Schema is the published JSON Schema of dialect files.
//
//go:embed dialect.schema.json
var Schema []byte

// MaxFile is the largest dialect file that is read, in bytes.
const MaxFile = 256 << 10

// Fault is one thing wrong with a file, and where.
type Fault struct {
	Line    int    `json:"line" doc:"Line, from 1; 0 when it is the file as a whole"`
	Column  int    `json:"column"`
	Where   string `json:"where" doc:"JSON Pointer to the place"`
	What    string `json:"what"`
	Suggest string `json:"suggest,omitempty"`
}

// String writes the fault as compilers do.
func (f Fault) String() string {
	s := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.What)
	if f.Suggest != "" {
		s += " (" + f.Suggest + ")"
	}
	return s
}

// Parse reads and validates a file. name is used in messages only. When the
// file is refused, all its faults are returned and the dialect is nil.
func Parse(name string, file []byte) (*Dialect, []Fault) {
	d := &Dialect{}
	find, faults := Document(name, file, Schema, d)
	if len(faults) > 0 {
		return nil, faults
	}
	c := compiler{d: d, find: find}
	c.compile()
	if len(c.faults) > 0 {
		sort.SliceStable(c.faults, func(i, j int) bool { return c.faults[i].Line < c.faults[j].Line })
		return nil, c.faults
	}
	return d, nil
}

// Document reads a file of one of Fado's kinds into a value, by its JSON Schema. It
// returns how the line and column of a place are found, for what the schema cannot
// say, or all faults.
func Document(name string, file, schema []byte, into any) (find func(path []string) (line, column int), faults []Fault) {
	if len(file) > MaxFile {
		return nil, []Fault{{What: fmt.Sprintf("%s is %d bytes long; such a file is at most %d", name, len(file), MaxFile), Suggest: "is this the right file?"}}
	}
	tree, err := parser.ParseBytes(file, 0)
	if err != nil {
		return nil, []Fault{syntaxFault(err)}
	}
	if f := noAliases(tree); f != nil {
		return nil, []Fault{*f}
	}
	var doc any
	if err := yaml.Unmarshal(file, &doc); err != nil {
		return nil, []Fault{syntaxFault(err)}
	}
	if doc == nil {
		return nil, []Fault{{Line: 1, Column: 1, What: "the file is empty", Suggest: "start with its kind and its name"}}
	}
	at := locator{tree}
	if faults := checkSchema(doc, at, schema); len(faults) > 0 {
		return nil, faults
	}
	if err := yaml.UnmarshalWithOptions(file, into, yaml.Strict()); err != nil {
		return nil, []Fault{syntaxFault(err)}
	}
	return at.find, nil
}

// PlaceholdersIn lists the names of the placeholders in a text.
func PlaceholdersIn(text string) (out []string) {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	return out
}

// TextsIn lists the texts in a part of a body, its members' names among them.
func TextsIn(node any) []string { return texts(node) }

// Refuse turns faults into the problem that a person sees.
func Refuse(name string, faults []Fault) error {
	var f problem.Fields
	for _, x := range faults {
		rule := x.What
		if x.Suggest != "" {
			rule += " (" + x.Suggest + ")"
		}
		f.Add(fmt.Sprintf("%s:%d:%d", name, x.Line, x.Column), rule, "")
	}
	p := &problem.Problem{Kind: problem.BadInput, What: fmt.Sprintf("The dialect file %s has %d faults.", name, len(faults)),
		Next: "Correct the places named; nothing was changed.", Fields: f}
	if len(faults) == 1 {
		p.What = fmt.Sprintf("The dialect file %s has a fault.", name)
	}
	return p
}

func syntaxFault(err error) Fault {
	f := Fault{Line: 1, Column: 1, What: "this is not YAML", Suggest: "see that the lines are indented alike, and that texts with braces, colons or quotes stand in quotes"}
	if m := regexp.MustCompile(`^\[(\d+):(\d+)\] (.*)`).FindStringSubmatch(err.Error()); m != nil {
		_, _ = fmt.Sscan(m[1], &f.Line)
		_, _ = fmt.Sscan(m[2], &f.Column)
		f.What = m[3]
	}
	return f
}

type aliasFinder struct{ found ast.Node }

func (a *aliasFinder) Visit(n ast.Node) ast.Visitor {
	switch n.Type() {
	case ast.AnchorType, ast.AliasType, ast.MergeKeyType, ast.TagType:
		if a.found == nil {
			a.found = n
		}
	}
	return a
}

// noAliases refuses anchors, aliases and tags: a dialect is short enough to be
// written out, and aliases can make a small file huge.
func noAliases(f *ast.File) *Fault {
	finder := &aliasFinder{}
	for _, doc := range f.Docs {
		if doc.Body != nil {
			ast.Walk(finder, doc.Body)
		}
	}
	if len(f.Docs) > 1 {
		return &Fault{Line: 1, Column: 1, What: "the file holds several documents", Suggest: "one dialect a file"}
	}
	if finder.found == nil {
		return nil
	}
	p := finder.found.GetToken().Position
	return &Fault{Line: p.Line, Column: p.Column, What: "anchors, aliases, merge keys and tags are not allowed", Suggest: "write the part out"}
}

// locator finds the line and column of a place in the document.
type locator struct{ file *ast.File }

func (l locator) find(path []string) (line, column int) {
	var node ast.Node
	if len(l.file.Docs) > 0 {
		node = l.file.Docs[0].Body
	}
	line, column = 1, 1
	for _, step := range path {
		switch n := node.(type) {
		case *ast.MappingNode:
			node = nil
			for _, v := range n.Values {
				if strings.Trim(v.Key.String(), `"'`) == step {
					p := v.Key.GetToken().Position
					line, column, node = p.Line, p.Column, v.Value
				}
			}
		case *ast.MappingValueNode:
			node = nil
			if strings.Trim(n.Key.String(), `"'`) == step {
				p := n.Key.GetToken().Position
				line, column, node = p.Line, p.Column, n.Value
			}
		case *ast.SequenceNode:
			i := -1
			_, _ = fmt.Sscan(step, &i)
			if i < 0 || i >= len(n.Values) {
				return line, column
			}
			node = n.Values[i]
			p := node.GetToken().Position
			line, column = p.Line, p.Column
		default:
			return line, column
		}
	}
	return line, column
}

// schemas keeps the compiled form of each schema.
var schemas sync.Map // by its text

func compiled(text []byte) (*jsonschema.Schema, error) {
	if s, ok := schemas.Load(string(text)); ok {
		return s.(*jsonschema.Schema), nil
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("schema.json", doc); err != nil {
		return nil, err
	}
	s, err := c.Compile("schema.json")
	if err == nil {
		schemas.Store(string(text), s)
	}
	return s, err
}

func checkSchema(doc any, at locator, text []byte) []Fault {
	schema, err := compiled(text)
	if err != nil {
		return []Fault{{What: "the schema itself is broken: " + err.Error()}}
	}
	// The validator wants the types that encoding/json gives.
	encoded, err := json.Marshal(doc)
	if err != nil {
		return []Fault{{Line: 1, Column: 1, What: "keys must be text", Suggest: "quote the keys"}}
	}
	clean, err := jsonschema.UnmarshalJSON(strings.NewReader(string(encoded)))
	if err != nil {
		return []Fault{{Line: 1, Column: 1, What: err.Error(), Suggest: "quote the keys"}}
	}
	err = schema.Validate(clean)
	if err == nil {
		return nil
	}
	var faults []Fault
	printer := message.NewPrinter(language.English)
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		if len(e.Causes) == 0 {
			line, column := at.find(e.InstanceLocation)
			f := Fault{Line: line, Column: column, Where: "/" + strings.Join(e.InstanceLocation, "/"), What: e.ErrorKind.LocalizedString(printer)}
			if m := regexp.MustCompile(`^additional properties '([^']+)'`).FindStringSubmatch(f.What); m != nil {
				f.Line, f.Column = at.find(append(slices.Clone(e.InstanceLocation), m[1]))
				f.What = fmt.Sprintf("there is no key %q here", m[1])
				f.Suggest = "docs/dialects.md lists the keys there are"
				if near := Nearest(m[1], keywords(text)); near != "" {
					f.Suggest = fmt.Sprintf("did you mean %q?", near)
				}
			}
			if f.Suggest == "" {
				f.Suggest = suggest(e.ErrorKind)
			}
			if f.What != "false schema" {
				faults = append(faults, f)
			}
			return
		}
		for _, c := range e.Causes {
			walk(c)
		}
	}
	if v, ok := err.(*jsonschema.ValidationError); ok {
		walk(v)
	}
	sort.SliceStable(faults, func(i, j int) bool { return faults[i].Line < faults[j].Line })
	return faults
}

// suggest says what would pass where the schema says no.
func suggest(k jsonschema.ErrorKind) string {
	switch k := k.(type) {
	case *kind.Type:
		names := strings.NewReplacer("string", "a text", "object", "a map", "array", "a list", "integer", "a whole number", "number", "a number", "boolean", "true or false")
		return names.Replace(strings.Join(k.Want, " or ")) + "; a text that looks like something else stands in quotes"
	case *kind.Enum:
		words := make([]string, len(k.Want))
		for i, w := range k.Want {
			words[i] = fmt.Sprint(w)
		}
		if near := Nearest(fmt.Sprint(k.Got), words); near != "" {
			return fmt.Sprintf("did you mean %q?", near)
		}
		return "one of " + strings.Join(words, ", ")
	case *kind.Const:
		return fmt.Sprintf("write %v", k.Want)
	case *kind.Required:
		return "add " + strings.Join(k.Missing, ", ")
	case *kind.Minimum:
		return "at least " + k.Want.RatString()
	case *kind.Maximum:
		return "at most " + k.Want.RatString()
	case *kind.MinItems:
		return fmt.Sprintf("at least %d of them", k.Want)
	case *kind.MaxItems:
		return fmt.Sprintf("at most %d of them", k.Want)
	case *kind.Pattern:
		if strings.HasPrefix(k.Want, "^_") {
			return "_junco._tcp, for example"
		}
		return "lower-case letters, digits and hyphens, starting with a letter"
	}
	return "docs/dialects.md lists the keys and their values"
}

// keywords lists every key that a schema knows.
func keywords(text []byte) []string {
	var schema any
	_ = json.Unmarshal(text, &schema)
	var out []string
	var walk func(any)
	walk = func(n any) {
		m, ok := n.(map[string]any)
		if !ok {
			return
		}
		if props, ok := m["properties"].(map[string]any); ok {
			for k := range props {
				out = append(out, k)
			}
		}
		for _, v := range m {
			walk(v)
		}
	}
	walk(schema)
	sort.Strings(out)
	return slices.Compact(out)
}

type compiler struct {
	d      *Dialect
	find   func(path []string) (line, column int)
	faults []Fault
}

func (c *compiler) fault(path []string, suggest, format string, args ...any) {
	line, column := c.find(path)
	c.faults = append(c.faults, Fault{line, column, "/" + strings.Join(path, "/"), fmt.Sprintf(format, args...), suggest})
}

func below(path []string, more ...string) []string { return append(slices.Clone(path), more...) }

func (c *compiler) compile() {
	d := c.d
	c.accessPoint()
	if u, err := url.Parse(d.SetUp.At); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || (u.Path != "" && u.Path != "/") || u.User != nil {
		c.fault([]string{"set_up", "at"}, `"http://10.47.0.1", for example`, "the address of the set-up pages is http:// and a host, nothing more")
	}
	c.login([]string{"set_up", "login"}, d.SetUp.Login)
	c.exchange([]string{"identify"}, &d.Identify)
	if !d.Identify.reads("hardware_id") {
		c.fault([]string{"identify"}, "add hardware_id to read_json or read_text", "identify must read hardware_id: only that proves which unit this is")
	}
	if d.Networks != nil {
		c.exchange([]string{"networks"}, &d.Networks.Exchange)
	}
	for i := range d.Settings {
		c.page([]string{"settings", fmt.Sprint(i)}, &d.Settings[i])
	}
	c.service([]string{"in_service"}, d.Service)
	if d.Backup != nil {
		c.exchange([]string{"backup"}, d.Backup)
		c.http([]string{"backup"}, d.Backup)
	}
	if d.Commit != nil {
		c.exchange([]string{"commit"}, d.Commit)
	}
	for i := range d.Messages {
		c.message([]string{"messages", fmt.Sprint(i)}, &d.Messages[i])
	}
	for i := range d.Commands {
		c.exchange([]string{"commands", fmt.Sprint(i)}, &d.Commands[i])
	}
	for name, e := range map[string]*Exchange{"report": d.Asks.Report, "blink": d.Asks.Blink, "restart": d.Asks.Restart, "leave": d.Asks.Leave} {
		if e != nil {
			c.exchange([]string{"asks", name}, e)
		}
	}
	c.announces([]string{"announces"}, d.Announces)
	for i := range d.Updates {
		c.exchange([]string{"updates", fmt.Sprint(i), "start"}, &d.Updates[i].Start)
	}
}

func (c *compiler) page(path []string, p *Page) {
	c.exchange(path, &p.Exchange)
	for n, k := range p.Sets {
		if _, ok := settings.Lookup(k); !ok && !settings.IsFamily(string(k)) {
			c.fault(below(path, "sets", fmt.Sprint(n)), c.meant(string(k)), "there is no setting %q", k)
		}
	}
	if p.ReadBack == nil {
		return
	}
	c.exchange(below(path, "read_back"), p.ReadBack)
	c.http(below(path, "read_back"), p.ReadBack)
	for reader, m := range map[string]map[string]string{"read_json": p.ReadBack.ReadJSON, "read_text": p.ReadBack.ReadText} {
		for k := range m {
			c.open(below(path, "read_back", reader, k), k)
		}
	}
}

// open refuses a fact that is a secret: what a unit says is shown to people.
func (c *compiler) open(path []string, fact string) {
	if settings.IsSecret(settings.Key(fact)) {
		c.fault(path, "leave it out; secrets are proven by their effect", "%s is a secret and is never read back", fact)
	}
}

func (c *compiler) http(path []string, e *Exchange) {
	if e.Publish != "" {
		c.fault(below(path, "publish"), "use get", "this is asked over the unit's pages, not by a message")
	}
}

func (c *compiler) login(path []string, l *Login) {
	if l == nil {
		return
	}
	c.leaf(below(path, "user"), l.User)
	c.leaf(below(path, "password"), l.Password)
	c.leaf(below(path, "value"), l.Value)
	if l.Factory != nil {
		c.leaf(below(path, "factory", "user"), l.Factory.User)
		c.leaf(below(path, "factory", "password"), l.Factory.Password)
	}
	byForm := l.Kind == FormLogin || l.Kind == TokenLogin
	switch {
	case byForm && l.Form == nil:
		c.fault(path, "add form with the request that signs in", "a login of the kind %s needs its form", l.Kind)
	case !byForm && l.Form != nil:
		c.fault(below(path, "form"), "leave it out, or use kind: form", "a login of the kind %s has no form", l.Kind)
	case l.Form != nil:
		c.exchange(below(path, "form"), l.Form)
		c.http(below(path, "form"), l.Form)
	}
	if l.Kind == TokenLogin && (l.Header == "" || !strings.Contains(l.Value, "{token}") || l.Form != nil && !l.Form.reads("token")) {
		c.fault(path, `header: Authorization, value: "Bearer {token}", and token in the form's read_json`, "a login by token reads token from its form and says which header carries it")
	}
	c.header(below(path, "header"), l.Header)
}

// forbiddenHeaders are those that the sender itself writes.
var forbiddenHeaders = []string{"host", "content-length", "content-type", "transfer-encoding", "connection", "upgrade", "te", "trailer", "cookie", "expect", "proxy-authorization"}

var headerName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]{0,63}$`)

func (c *compiler) header(path []string, name string) {
	if name != "" && (!headerName.MatchString(name) || slices.Contains(forbiddenHeaders, strings.ToLower(name))) {
		c.fault(path, "X-Requested-With, for example", "the header %q cannot be set by a dialect", name)
	}
}

func (c *compiler) service(path []string, s *InService) {
	if s == nil {
		return
	}
	switch s.By {
	case ByPages:
		u, err := url.Parse(strings.ReplaceAll(s.At, "{address}", "192.0.2.1"))
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() != "192.0.2.1" || (u.Path != "" && u.Path != "/") || u.User != nil || !strings.Contains(s.At, "{address}") {
			c.fault(below(path, "at"), `"http://{address}", for example`, "in service the pages are at the unit's own {address} and nowhere else")
		}
		if len(s.Settings) > 0 || s.Commit != nil {
			c.fault(path, "leave settings and commit out, or say by: messages", "in service by pages, the pages are those of settings")
		}
	case ByMessages:
		if len(s.Settings) == 0 {
			c.fault(path, "add settings", "in service by messages needs the messages that set")
		}
		for i := range s.Settings {
			c.page(below(path, "settings", fmt.Sprint(i)), &s.Settings[i])
			if s.Settings[i].Publish == "" {
				c.fault(below(path, "settings", fmt.Sprint(i)), "use publish", "in service by messages, a setting is published")
			}
		}
		if s.Commit != nil {
			c.exchange(below(path, "commit"), s.Commit)
		}
	}
}

func (c *compiler) accessPoint() {
	path := []string{"set_up", "access_point", "name"}
	ap := c.d.SetUp.AccessPoint
	if strings.Count(ap.Name, "{digits}")+strings.Count(ap.Name, "{last6}") != 1 {
		c.fault(path, `"fado-{digits}", for example`, "the name must carry {digits} or {last6} of the hardware id, once")
		return
	}
	c.d.accessPoint = carrying(ap.Name)
	if !ap.Open && ap.Key == "" {
		c.fault([]string{"set_up", "access_point"}, `key: "{set_up_code}" or open: true`, "say whether the access point is open or which key it wants")
	}
	c.leaf(below(path[:2], "key"), ap.Key)
}

func (c *compiler) exchange(path []string, e *Exchange) {
	verbs := 0
	for verb, target := range map[string]string{"get": e.Get, "put": e.Put, "post": e.Post, "delete": e.Delete} {
		if target == "" {
			continue
		}
		verbs++
		t, err := uritemplate.New(target)
		if err != nil || !strings.HasPrefix(target, "/") || strings.HasPrefix(target, "//") || strings.ContainsAny(target, " \r\n") {
			c.fault(below(path, verb), `"/settings", for example`, "%q is no path on the unit", target)
			continue
		}
		for _, name := range t.Varnames() {
			c.name(below(path, verb), name)
		}
	}
	if e.Publish != "" {
		verbs++
		c.topic(below(path, "publish"), e.Publish)
	}
	if verbs != 1 {
		c.fault(path, "keep one of get, put, post, delete and publish", "an exchange has one request; this one has %d", verbs)
	}
	for k, v := range e.Query {
		c.leaf(below(path, "query", k), v)
	}
	for k, v := range e.Form {
		c.leaf(below(path, "form", k), v)
	}
	for k, v := range e.Multipart {
		c.leaf(below(path, "multipart", k), v)
	}
	c.leaf(below(path, "text"), e.Text)
	c.tree(below(path, "json"), e.JSON)
	e.patterns = c.readers(path, e.ReadJSON, e.ReadText)
	e.each = c.items(path, e.ReadEach)
	for k, v := range e.Headers {
		c.header(below(path, "headers", k), k)
		c.leaf(below(path, "headers", k), v)
	}
	for fact := range e.Until {
		if !e.reads(fact) {
			c.fault(below(path, "until", fact), "add it to read_json or read_text", "%s is waited for and never read", fact)
		}
	}
	if len(e.Until) > 0 && (e.Retries == 0 || e.WaitMS == 0) && !slices.Contains(path, "login") {
		c.fault(below(path, "until"), "retries: 5, wait_ms: 1000", "until needs retries and wait_ms, so that it ends")
	}
	c.scales(path, e.Scale)
	for _, part := range append(append(texts(e.JSON), mapTexts(e.Form)...), e.Text) {
		c.oneFamily(path, part)
	}
}

func mapTexts(m map[string]string) (out []string) {
	for k, v := range m {
		out = append(out, k, v)
	}
	return out
}

// oneFamily refuses a text that is written for items of two families.
func (c *compiler) oneFamily(path []string, text string) {
	first := ""
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		f := itemFamily(m[1])
		if f != "" && first != "" && f != first {
			c.fault(path, "write two parts", "%q mixes items of %s and %s", text, first, f)
		}
		if f != "" {
			first = f
		}
	}
}

func (c *compiler) scales(path []string, scale map[string]float64) {
	for fact, n := range scale {
		if n <= 0 {
			c.fault(below(path, "scale", fact), "0.1 when the unit counts tenths", "what one of the unit's numbers is worth is more than 0")
		}
	}
}

// items compiles the readers of families.
func (c *compiler) items(path []string, each map[string]Each) map[string]*regexp.Regexp {
	out := map[string]*regexp.Regexp{}
	for family, e := range each {
		at := below(path, "read_each", family)
		i := slices.IndexFunc(settings.Families, func(f settings.Family) bool { return f.Name == family })
		if i < 0 {
			c.fault(at, c.meant(family), "there is no family of settings %q", family)
			continue
		}
		fields := []string{"capability"}
		if settings.Families[i].Item == "port" {
			fields = []string{"label", "pin"}
		}
		named := slices.Contains(fields, e.Name)
		if e.Name != "" && !named {
			c.fault(below(at, "name"), strings.Join(fields, " or "), "a member's name cannot be %q", e.Name)
		}
		for _, f := range settings.Families[i].Fields {
			fields = append(fields, f.Name)
		}
		for field, p := range e.ReadJSON {
			if !slices.Contains(fields, field) {
				c.fault(below(at, "read_json", field), strings.Join(fields, ", "), "an item of %s has no %q", family, field)
			}
			c.pointer(below(at, "read_json", field), p)
			named = named || field == "label" || field == "pin" || field == "capability"
		}
		c.pointer(below(at, "in"), e.In)
		if e.ReadText != "" {
			re := c.pattern(below(at, "read_text"), e.ReadText, "")
			if re == nil {
				continue
			}
			for _, name := range re.SubexpNames() {
				if name != "" && !slices.Contains(fields, name) {
					c.fault(below(at, "read_text"), strings.Join(fields, ", "), "an item of %s has no %q", family, name)
				}
				named = named || name == "label" || name == "pin" || name == "capability"
			}
			out[family] = re
		}
		if !named {
			c.fault(at, "read "+fields[0], "nothing says which %s an item is for", settings.Families[i].Item)
		}
	}
	return out
}

func (c *compiler) tree(path []string, node any) {
	switch n := node.(type) {
	case string:
		c.leaf(path, n)
	case map[string]any:
		for k, v := range n {
			c.leaf(below(path, k), k)
			c.tree(below(path, k), v)
		}
	case []any:
		for i, v := range n {
			c.tree(below(path, fmt.Sprint(i)), v)
		}
	}
}

func (c *compiler) leaf(path []string, s string) {
	for _, m := range placeholder.FindAllStringSubmatch(s, -1) {
		c.name(path, m[1])
	}
}

func (c *compiler) name(path []string, name string) {
	if _, ok := settings.Lookup(settings.Key(name)); ok {
		return
	}
	if _, ok := Context[name]; ok || itemFamily(name) != "" {
		return
	}
	c.fault(path, c.meant(name), "there is no placeholder {%s}", name)
}

func (c *compiler) meant(name string) string {
	var all []string
	for _, s := range settings.Specs {
		all = append(all, string(s.Key))
	}
	for k := range Context {
		all = append(all, k)
	}
	for _, f := range settings.Families {
		all = append(append(all, f.Name), itemNames(f)...)
	}
	if near := Nearest(name, all); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	return "docs/dialects.md lists the names there are"
}

func (c *compiler) topic(path []string, pattern string) {
	c.leaf(path, pattern)
	if !strings.HasPrefix(pattern, "{topic}") || strings.ContainsAny(pattern, "+#") {
		c.fault(path, `"{topic}/state/{capability}", for example`, "a topic starts with {topic} and has no wildcard: a unit stays below its own topic")
	}
}

func (c *compiler) message(path []string, m *Message) {
	c.topic(below(path, "topic"), m.Topic)
	m.patterns = c.readers(path, m.ReadJSON, m.ReadText)
	m.each = c.items(path, m.ReadEach)
	c.scales(path, m.Scale)
	for reader, facts := range map[string]map[string]string{"read_json": m.ReadJSON, "read_text": m.ReadText} {
		for fact := range facts {
			c.open(below(path, reader, fact), fact)
		}
	}
	c.needs(path, m)
	rest := regexp.QuoteMeta(strings.TrimPrefix(m.Topic, "{topic}"))
	rest = strings.ReplaceAll(rest, `\{capability\}`, `(?P<capability>[^/]+)`)
	re, err := regexp.Compile("^" + rest + "$")
	if err != nil {
		c.fault(below(path, "topic"), "use {capability} once", "the topic cannot be matched: %v", err)
		return
	}
	m.topic = re
}

// needs sees that a message gives what its kind is for.
func (c *compiler) needs(path []string, m *Message) {
	states := slices.ContainsFunc(slices.Concat(slices.Collect(maps.Keys(m.ReadJSON)), slices.Collect(maps.Keys(m.ReadText))), func(f string) bool { return strings.HasPrefix(f, "state.") })
	value := readsFact("value", m.ReadJSON, m.ReadText, nil)
	switch {
	case m.Kind == State && value && !strings.Contains(m.Topic, "{capability}"):
		c.fault(path, "read state.relay, for example, or put {capability} into the topic", "nothing says whose value this is")
	case m.Kind == State && !value && !states:
		c.fault(path, "read value, or state.relay, for example", "a state message reads the state of a capability")
	case m.Kind == Presence && !readsFact("presence", m.ReadJSON, m.ReadText, nil):
		c.fault(path, "read presence, and put it into «online» and «offline» with values", "a presence message reads presence")
	case m.Kind == Wake && !readsFact("hardware_id", m.ReadJSON, m.ReadText, nil):
		c.fault(path, "read hardware_id", "a wake message says which unit woke")
	}
}

func (c *compiler) readers(path []string, pointers, patterns map[string]string) map[string]*regexp.Regexp {
	for fact, p := range pointers {
		c.pointer(below(path, "read_json", fact), p)
	}
	out := map[string]*regexp.Regexp{}
	for fact, p := range patterns {
		if re := c.pattern(below(path, "read_text", fact), p, "value"); re != nil {
			out[fact] = re
		}
	}
	return out
}

func (c *compiler) pointer(path []string, p string) {
	if p != "" && !strings.HasPrefix(p, "/") {
		c.fault(path, fmt.Sprintf("%q", "/"+strings.ReplaceAll(p, ".", "/")), "%q is no JSON Pointer", p)
	}
}

// pattern compiles an anchored pattern with a group, or returns nil.
func (c *compiler) pattern(path []string, p, group string) *regexp.Regexp {
	re, err := regexp.Compile("(?m)" + p)
	switch {
	case err != nil:
		c.fault(path, "docs/dialects.md shows the syntax", "the pattern cannot be read: %v", err)
	case !strings.HasPrefix(p, "^") || !strings.HasSuffix(p, "$"):
		c.fault(path, fmt.Sprintf("%q", "^"+strings.Trim(p, "^$")+"$"), "a pattern starts with ^ and ends with $, so that it matches one whole line")
	case group != "" && re.SubexpIndex(group) < 0:
		c.fault(path, `(?<value>\S+)`, "a pattern has a group named %s", group)
	default:
		return re
	}
	return nil
}

// Nearest returns the candidate that is most like name, or "" when none is
// alike.
func Nearest(name string, candidates []string) string {
	best, bestAt := "", len(name)/3+2
	for _, c := range candidates {
		d := distance(name, c)
		if len(name) > 3 && strings.HasPrefix(c, name) {
			d = 1 // it was cut short
		}
		if d < bestAt {
			best, bestAt = c, d
		}
	}
	return best
}

// distance is the number of letters to change, add or drop (Levenshtein).
func distance(a, b string) int {
	prev := make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diag := prev[0]
		prev[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			diag, prev[j] = prev[j], min(prev[j]+1, prev[j-1]+1, diag+cost)
		}
	}
	return prev[len(b)]
}
