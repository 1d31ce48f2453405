package thing

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Difference is a place where a directory holds something else than was put.
type Difference struct {
	At     string // JSON Pointer (RFC 6901)
	Ours   string // JSON; "" for nothing
	Theirs string // JSON; "" for nothing
}

// mostDifferences is how many differences of one thing are named.
const mostDifferences = 20

// Compare lists where a description in a directory does not say what ours does, at
// most twenty places. What a directory adds of its own, such as when the thing was
// registered, default values, or forms through itself, is no difference; a property,
// an action or an event that we do not have is one.
func Compare(ours, theirs map[string]any) []Difference {
	var out []Difference
	compare("", plainJSON(ours), plainJSON(theirs), &out)
	return out[:min(len(out), mostDifferences)]
}

// plainJSON gives a value the types that a decoder gives.
func plainJSON(v any) any {
	b, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	var out any
	if json.Unmarshal(b, &out) != nil {
		return nil
	}
	return out
}

func compare(at string, ours, theirs any, out *[]Difference) {
	switch o := ours.(type) {
	case map[string]any:
		t, ok := theirs.(map[string]any)
		if !ok {
			break
		}
		for _, k := range slices.Sorted(maps.Keys(o)) {
			below := at + "/" + member(k)
			v, has := t[k]
			if !has {
				*out = append(*out, Difference{At: below, Ours: text(o[k])})
				continue
			}
			compare(below, o[k], v, out)
		}
		if at == "/properties" || at == "/actions" || at == "/events" {
			for _, k := range slices.Sorted(maps.Keys(t)) {
				if _, has := o[k]; !has {
					*out = append(*out, Difference{At: at + "/" + member(k), Theirs: text(t[k])})
				}
			}
		}
		return
	case []any:
		t, ok := theirs.([]any)
		if !ok {
			if len(o) == 1 { // a list of one may be written as the one
				compare(at, o[0], theirs, out)
				return
			}
			break
		}
		if at == "/@context" {
			for i, x := range o {
				if !slices.ContainsFunc(t, func(y any) bool { return text(x) == text(y) }) {
					*out = append(*out, Difference{At: at + "/" + strconv.Itoa(i), Ours: text(x)})
				}
			}
			return
		}
		for i := range o {
			below := at + "/" + strconv.Itoa(i)
			if i >= len(t) {
				*out = append(*out, Difference{At: below, Ours: text(o[i])})
				continue
			}
			compare(below, o[i], t[i], out)
		}
		return
	}
	if text(ours) != text(theirs) {
		*out = append(*out, Difference{At: at, Ours: text(ours), Theirs: text(theirs)})
	}
}

// member is a name in a JSON Pointer (RFC 6901, section 3).
func member(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

func text(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}
