package service

import (
	"encoding/json"
	"testing"

	"undertide/store"
)

// TestOldConnections: records that hold the settings beside `via`, as they were written before, are read as those that
// hold them within.
func TestOldConnections(t *testing.T) {
	for _, text := range []string{
		`{"via":"kafka","brokers":["127.0.0.1:1"],"tls":null,"sasl":{"mechanism":"plain","user":"a","password":"${env.P}"}}`,
		`{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"sasl":{"mechanism":"plain","user":"a","password":"${env.P}"}}}`,
	} {
		spec, err := specOf(store.Connection{Name: "port", Definition: text})
		if err != nil {
			t.Fatal(err)
		}
		got, err := json.Marshal(spec)
		if want := `{"via":"kafka","settings":{"brokers":["127.0.0.1:1"],"sasl":{"mechanism":"plain","password":"${env.P}","user":"a"}}}`; err != nil || string(got) != want {
			t.Errorf("%s is read as %s, %v", text, got, err)
		}
		v := &vault{}
		if c, err := v.parse("port", spec, false); err != nil || c.Link.Words().SignIn != "a by plain" {
			t.Errorf("%s: %+v, %v", text, c, err)
		}
	}
}
