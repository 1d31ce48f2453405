package dialect

import "testing"

func TestCommands(t *testing.T) {
	envelope := Exchange{JSON: map[string]any{"order": "set", "part": "{capability}", "to": "{value}", "tag": "{ask_id}"}}
	words := Exchange{Text: "{value}", Values: map[string]map[string]string{"value": {"close": "true", "open": "false"}}}
	other := Exchange{JSON: map[string]any{"net": "{wifi.ssid}", "key": "{wifi.passphrase}"}}
	for _, c := range []struct {
		e       Exchange
		payload string
		want    bool
	}{
		{envelope, `{"order":"set","part":"lamp","to":true,"tag":"a.1"}`, true},
		{envelope, `{"order":"set","part":"lamp","to":40,"tag":"a.1"}`, true},
		{envelope, `{"order":"set","part":"level","to":40,"tag":"a.1"}`, false},
		{envelope, `{"order":"load","from":"http://x/secret","sum":"ab","tag":"a.1"}`, false},
		{envelope, `{"order":"set","part":"lamp","to":true,"tag":"a.1","key":"a passphrase"}`, false},
		{envelope, `{"order":"set","part":"lamp","to":"a passphrase","tag":"a.1"}`, false},
		{envelope, `{"order":"set","part":"lamp","to":{"a":1},"tag":"a.1"}`, false},
		{envelope, `not JSON`, false},
		{words, "close", true}, {words, "open", true}, {words, "40", true}, {words, "a passphrase", false}, {words, "", false},
		{other, `{"net":"casa","key":"a passphrase"}`, false},
		{Exchange{}, "x", false},
	} {
		if got := c.e.Commands("lamp", []byte(c.payload)); got != c.want {
			t.Errorf("%s: %v, want %v", c.payload, got, c.want)
		}
	}
}
