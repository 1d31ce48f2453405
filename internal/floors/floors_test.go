// Package floors tests how the house is built: which package may import which,
// where secrets may be opened, and that the words of the product stay its own.
package floors

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fado/dialects"
)

type pkg struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func packages(t *testing.T) []pkg {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "fado/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	var list []pkg
	d := json.NewDecoder(strings.NewReader(string(out)))
	for {
		var p pkg
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return list
		} else if err != nil {
			t.Fatal(err)
		}
		list = append(list, p)
	}
}

// allowed lists the packages of each floor; a package imports from its own
// allowance only. Standard and outside packages are judged apart.
var allowed = map[string][]string{
	"fado/internal/core/":               {"fado/internal/core/"},
	"fado/internal/clock":               {},
	"fado/internal/fail":                {},
	"fado/internal/carrier":             {},
	"fado/internal/authority":           {"fado/internal/core/secret"},
	"fado/internal/carrier/carriertest": {"fado/internal/carrier"},
	"fado/internal/wire":                {"fado/internal/core/"},
	"fado/internal/store":               {"fado/internal/core/", "fado/internal/fail"},
	"fado/internal/broker":              {"fado/internal/carrier", "fado/internal/core/", "fado/internal/fail"},
	"fado/internal/reach":               {"fado/internal/carrier", "fado/internal/core/", "fado/internal/fail", "fado/internal/clock"},
	"fado/internal/rehearsal":           {"fado/internal/carrier", "fado/internal/core/", "fado/internal/reach", "fado/internal/broker", "fado/internal/sim", "fado/internal/clock"},
	"fado/internal/hub":                 {"fado/internal/carrier", "fado/internal/core/", "fado/internal/fail"},
	"fado/internal/engine":              {"fado/internal/carrier", "fado/internal/authority", "fado/internal/core/", "fado/internal/store", "fado/internal/broker", "fado/internal/reach", "fado/internal/hub", "fado/internal/clock", "fado/internal/fail", "fado/internal/wire"},
	"fado/internal/paper":               {"fado/internal/core/", "fado/internal/wire"},
	"fado/internal/api":                 {"fado/internal/authority", "fado/internal/paper", "fado/internal/core/", "fado/internal/store", "fado/internal/engine", "fado/internal/wire", "fado/internal/rehearsal", "fado/internal/sim"},
	"fado/internal/client":              {"fado/internal/core/problem", "fado/internal/wire"},
	"fado/internal/sim":                 {"fado/internal/carrier", "fado/internal/clock"},
	"fado/internal/service":             {"fado/internal/"},
	"fado/internal/demo":                {"fado/internal/", "fado/demo", "fado/dialects"},
	"fado/internal/cli":                 {"fado/internal/", "fado/web"},
	"fado/internal/floors":              {"fado/dialects"},
	"fado/cmd/fado":                     {"fado/internal/cli"},
	"fado/web":                          {},
	"fado/demo":                         {},
	"fado/dialects":                     {},
	"fado/test/":                        {"fado/"},
}

func TestImportsRunDownwards(t *testing.T) {
	for _, p := range packages(t) {
		var may []string
		known := false
		for floor, list := range allowed {
			if p.ImportPath == floor || strings.HasSuffix(floor, "/") && strings.HasPrefix(p.ImportPath, floor) {
				may, known = list, true
			}
		}
		if !known {
			t.Errorf("%s stands on no floor: add it to the list in this test", p.ImportPath)
			continue
		}
		for _, i := range p.Imports {
			if !strings.HasPrefix(i, "fado/") {
				continue
			}
			if !slices.ContainsFunc(may, func(m string) bool { return i == m || strings.HasSuffix(m, "/") && strings.HasPrefix(i, m) }) {
				t.Errorf("%s must not import %s", p.ImportPath, i)
			}
		}
	}
}

// TestCoreDoesNoIO: the rules see no network, no file, no database, no clock.
func TestCoreDoesNoIO(t *testing.T) {
	values := []string{ // small packages of values
		"github.com/Masterminds/semver/v3", "github.com/go-jose/go-jose/v4", "github.com/goccy/go-yaml", "github.com/goccy/go-yaml/ast", "github.com/goccy/go-yaml/parser",
		"github.com/santhosh-tekuri/jsonschema/v6", "github.com/santhosh-tekuri/jsonschema/v6/kind", "github.com/yosida95/uritemplate/v3", "golang.org/x/text/encoding/charmap", "golang.org/x/text/language", "golang.org/x/text/message", "golang.org/x/text/unicode/norm",
	}
	forbidden := []string{"net", "net/http", "os", "os/exec", "database/sql", "syscall", "io/ioutil", "embed/fs", "gorm.io/gorm"}
	for _, p := range packages(t) {
		if !strings.HasPrefix(p.ImportPath, "fado/internal/core/") {
			continue
		}
		for _, i := range p.Imports {
			if slices.Contains(forbidden, i) {
				t.Errorf("%s imports %s", p.ImportPath, i)
			}
			if strings.Contains(strings.Split(i, "/")[0], ".") && !slices.Contains(values, i) {
				t.Errorf("%s imports %s, which is not on the list of value packages", p.ImportPath, i)
			}
		}
	}
	each(t, "../core", func(path string, f *ast.File, set *token.FileSet) {
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" && slices.Contains([]string{"Now", "Since", "Until", "Sleep", "After", "NewTimer", "NewTicker"}, s.Sel.Name) {
					t.Errorf("%s: core reads the clock with time.%s", set.Position(s.Pos()), s.Sel.Name)
				}
			}
			return true
		})
	})
}

// TestSecretsAreOpenedInFewPlaces: only encoders of requests, sealing, hashing
// and the judging of a rule may see the characters of a secret.
func TestSecretsAreOpenedInFewPlaces(t *testing.T) {
	may := []string{
		"core/dialect/encode.go",                // the encoder of a request to a unit
		"core/settings/spec.go",                 // the rules for passphrases and passwords
		"broker/broker.go", "broker/managed.go", // signing in to a broker, and its accounts
		"authority/authority.go",                    // an authority's own key
		"engine/certificates.go",                    // the embedded broker's own key
		"reach/reach.go", "reach/networkmanager.go", // joining an access point
		"reach/talk.go",          // signing in to a unit's pages
		"rehearsal/rehearsal.go", // the made-up secrets of a rehearsal
		"engine/access.go",       // the recorded reveal of one unit's login
		"hub/hub.go",             // the directory's bearer token
		"store/seal.go", "store/backup.go", "api/backup.go",
		"engine/tasks.go",    // sealing what a task pins
		"engine/intended.go", // keyed hash of a setting
		"engine/accounts.go", // keyed hash of a new account
		"engine/devices.go",  // the length of a set-up code
		"engine/images.go",   // the signing key
		"engine/alerts.go",   // signing what is posted to a webhook, and the length of its key
	}
	each(t, "..", func(path string, f *ast.File, set *token.FileSet) {
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "Expose" && !slices.ContainsFunc(may, func(m string) bool { return strings.HasSuffix(path, m) }) {
				t.Errorf("%s: a secret is opened here", set.Position(s.Pos()))
			}
			return true
		})
	})
}

// TestNoCodeKnowsADialect: what differs from one family to the next is in its
// file; only the simulated units, which are the other side, know their names.
func TestNoCodeKnowsADialect(t *testing.T) {
	names, err := fs.Glob(dialects.Files, "*.yaml")
	if err != nil || len(names) < 4 {
		t.Fatal(names, err)
	}
	seen := 0
	each(t, "..", func(path string, f *ast.File, set *token.FileSet) {
		if strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/sim/") {
			return
		}
		ast.Inspect(f, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			seen++
			for _, name := range names {
				name = strings.TrimSuffix(name, ".yaml")
				if text := strings.Trim(lit.Value, "`\""); text == name || name != "direct" && strings.Contains(text, name) {
					t.Errorf("%s: %s knows the dialect %s", set.Position(lit.Pos()), lit.Value, name)
				}
			}
			return true
		})
	})
	if seen < 1000 {
		t.Errorf("only %d texts were looked at", seen)
	}
}

// TestPackagesSayWhatTheyAreFor: each package's first comment says what it is
// for and what it never does.
func TestPackagesSayWhatTheyAreFor(t *testing.T) {
	doc := map[string]string{}
	each(t, "../..", func(path string, f *ast.File, _ *token.FileSet) {
		if !strings.Contains(path, "node_modules") && f.Doc != nil {
			doc[filepath.Dir(path)] += f.Doc.Text()
		} else if _, seen := doc[filepath.Dir(path)]; !seen {
			doc[filepath.Dir(path)] += ""
		}
	})
	for dir, text := range doc {
		if len(text) < 60 {
			t.Errorf("%s: its package comment does not say what it is for: %q", dir, text)
		}
	}
}

func each(t *testing.T, root string, visit func(path string, f *ast.File, set *token.FileSet)) {
	t.Helper()
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && d.Name() == "node_modules" {
			return fs.SkipDir
		}
		if !strings.HasSuffix(path, ".go") {
			return nil
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		visit(filepath.ToSlash(path), f, set)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
