package thing

import (
	"reflect"
	"testing"
)

func TestCompare(t *testing.T) {
	ours := func() map[string]any {
		return map[string]any{
			"@context": []any{"https://www.w3.org/2022/wot/td/v1.1"}, "id": "urn:uuid:1", "title": "Adega clima", "security": []any{"account"},
			"properties": map[string]any{"temperature": map[string]any{"type": "number", "minimum": 0, "forms": []any{map[string]any{"href": "mqtt://h:1/a/b", "op": []any{"readproperty"}}}}},
		}
	}
	for name, c := range map[string]struct {
		change func(map[string]any)
		want   []Difference
	}{
		"the same": {func(map[string]any) {}, nil},
		"what a directory adds of its own": {func(m map[string]any) {
			m["registration"] = map[string]any{"created": "2026-01-01T00:00:00Z"}
			m["@context"] = []any{"https://www.w3.org/2022/wot/discovery", "https://www.w3.org/2022/wot/td/v1.1"}
			m["security"] = "account"
		}, nil},
		"another title":  {func(m map[string]any) { m["title"] = "Adega" }, []Difference{{"/title", `"Adega clima"`, `"Adega"`}}},
		"no properties":  {func(m map[string]any) { delete(m, "properties") }, []Difference{{"/properties", text(ours()["properties"]), ""}}},
		"context is cut": {func(m map[string]any) { m["@context"] = []any{"x"} }, []Difference{{"/@context/0", `"https://www.w3.org/2022/wot/td/v1.1"`, ""}}},
		"another address": {func(m map[string]any) {
			p := m["properties"].(map[string]any)["temperature"].(map[string]any)
			p["forms"] = []any{map[string]any{"href": "mqtt://h:1/a/c", "op": []any{"readproperty"}}}
		}, []Difference{{"/properties/temperature/forms/0/href", `"mqtt://h:1/a/b"`, `"mqtt://h:1/a/c"`}}},
		"default values, and a form of the directory's own": {func(m map[string]any) {
			p := m["properties"].(map[string]any)["temperature"].(map[string]any)
			p["writeOnly"], p["@type"] = false, "Temperature"
			p["forms"] = []any{map[string]any{"href": "mqtt://h:1/a/b", "op": "readproperty", "contentType": "application/json"}, map[string]any{"href": "http://hub/t"}}
			m["links"] = []any{}
		}, nil},
		"no form": {func(m map[string]any) {
			m["properties"].(map[string]any)["temperature"].(map[string]any)["forms"] = []any{}
		}, []Difference{{"/properties/temperature/forms/0", `{"href":"mqtt://h:1/a/b","op":["readproperty"]}`, ""}}},
		"a property that was not put, with a slash in its name": {func(m map[string]any) { m["properties"].(map[string]any)["a/b"] = true }, []Difference{{"/properties/a~1b", "", "true"}}},
		"a part of another kind":                                {func(m map[string]any) { m["properties"] = "none" }, []Difference{{"/properties", text(ours()["properties"]), `"none"`}}},
	} {
		theirs := ours()
		c.change(theirs)
		if got := Compare(ours(), theirs); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, want %+v", name, got, c.want)
		}
	}
	many := map[string]any{}
	for i := range 100 {
		many[string(rune('a'+i%26))+string(rune('a'+i/26))] = i
	}
	if got := Compare(many, map[string]any{}); len(got) != mostDifferences {
		t.Errorf("%d differences are named", len(got))
	}
}
