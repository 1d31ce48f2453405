package dialect

import (
	"encoding/json"
	"maps"
	"slices"
)

// Commands reports whether a payload is this command to a capability and nothing
// else: where a family uses one topic for all it is told, other payloads on it may
// hold a secret.
func (e *Exchange) Commands(capability string, payload []byte) bool {
	if e.Text != "" {
		return len(payload) <= 64 && e.commandLeaf(e.Text, capability, wordOf(payload))
	}
	if e.JSON == nil {
		return false
	}
	var v any
	return json.Unmarshal(payload, &v) == nil && e.commandTree(e.JSON, capability, v)
}

// wordOf reads a plain-text payload as the value that it may be.
func wordOf(payload []byte) any {
	var v any
	if json.Unmarshal(payload, &v) == nil {
		return v
	}
	return string(payload)
}

func (e *Exchange) commandTree(node any, capability string, v any) bool {
	switch n := node.(type) {
	case string:
		return e.commandLeaf(n, capability, v)
	case map[string]any:
		got, ok := v.(map[string]any)
		if !ok || !slices.Equal(slices.Sorted(maps.Keys(n)), slices.Sorted(maps.Keys(got))) {
			return false
		}
		for k := range n {
			if !e.commandTree(n[k], capability, got[k]) {
				return false
			}
		}
		return true
	}
	return plainText(node) == plainText(v)
}

func (e *Exchange) commandLeaf(leaf, capability string, v any) bool {
	text, isText := v.(string)
	switch lone(leaf) {
	case "":
		return isText && text == leaf
	case "value":
		if _, known := e.Values["value"][plainText(v)]; known {
			return true
		}
		_, isNumber := v.(float64)
		_, isBool := v.(bool)
		return isNumber || isBool
	case "capability":
		return isText && text == capability
	case "ask_id":
		return isText && len(text) <= 64
	}
	return false
}
