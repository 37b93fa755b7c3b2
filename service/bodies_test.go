package service

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"undertide/api"
	"undertide/api/operations"
)

var bodiesFor = flag.Duration("bodies", 10*time.Second, "how long TestBodies asks")

// TestBodies sends bodies at random to every address that takes one, made from what the OpenAPI page says of them and from what it does not: wrong types, fields that are
// not there, ends that are missing. Nothing is answered that the page does not say, and nothing is a fault of the service's own.
func TestBodies(t *testing.T) {
	p := servingPeople(t)
	doc, err := openapi3.NewLoader().LoadFromData(api.OpenAPI)
	if err != nil {
		t.Fatal(err)
	}
	doc.Servers = openapi3.Servers{{URL: "/api/v1"}}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	p.by(p.tokens["ena"]).with("Content-Type", "application/yaml").want(201, "POST", "/jobs", fmt.Sprintf(simulated, filepath.Join(p.dir, "out")), nil)
	var with []operations.Operation
	for _, o := range operations.All {
		// Of those that let somebody in each try takes the time of a password, and most have to wait; whoever is asked by is not to change or go.
		if o.Body != nil && !slices.Contains([]string{"signIn", "enter", "lookAtCode", "changePerson"}, o.ID) {
			with = append(with, o)
		}
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	g := bodies{rand.New(rand.NewPCG(seed, 1))}
	statuses := map[int]int{}
	for begun, n := time.Now(), 0; time.Since(begun) < *bodiesFor && !t.Failed(); n++ {
		o := with[n%len(with)]
		path := strings.NewReplacer("{job}", "lifts", "{run}", "1", "{step}", "second").Replace(o.Path)
		path = places.ReplaceAllString(path, "made-up")
		op := doc.Paths.Value(o.Path).GetOperation(o.Method)
		body := g.text(op.RequestBody.Value.Content.Get("application/json").Schema.Value)
		r, err := http.NewRequest(o.Method, p.base+"/api/v1"+path, bytes.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Authorization", "Bearer "+p.tokens["kit"])
		judged := r.Clone(context.Background())
		judged.URL.Host, judged.URL.Scheme, judged.Host = "", "", ""
		route, params, err := router.FindRoute(judged)
		if err != nil {
			t.Fatalf("%s %s: %v", o.Method, path, err)
		}
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatalf("%s %s with %s: %v", o.Method, path, body, err)
		}
		text, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		statuses[res.StatusCode]++
		if res.StatusCode == 500 || res.StatusCode == 401 {
			t.Errorf("%s %s with %s: %d %s", o.Method, path, body, res.StatusCode, text)
		}
		in := &openapi3filter.RequestValidationInput{Request: judged, PathParams: params, Route: route}
		out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: res.StatusCode, Header: res.Header, Body: io.NopCloser(bytes.NewReader(text)), Options: &openapi3filter.Options{IncludeResponseStatus: true}}
		if err := openapi3filter.ValidateResponse(context.Background(), out); err != nil {
			t.Errorf("%s %s with %s: the answer %d does not fit the page: %v\n%s", o.Method, path, body, res.StatusCode, err, cut(string(text)))
		}
	}
	t.Logf("by status: %v", statuses)
	good := 0
	for status, n := range statuses {
		if status < 300 {
			good += n
		}
	}
	if good == 0 || statuses[400] == 0 {
		t.Errorf("bodies at random were all taken, or none was: %v", statuses)
	}
}

// bodies makes JSON at random.
type bodies struct{ *rand.Rand }

var oddTexts = []string{"", "a", "lifts", "ena", "keeper", "made-up", "90d", "1s", "-5m", "earliest", "2026-03-01T00:00:00Z", "a b", "../../etc/passwd", "${env.HOME}", "${secret.X}", "\x00", "\u2028", "ü", strings.Repeat("x", 3000), "true", "0", "-1", "lag_seconds > 3", "{{", "'; DROP TABLE jobs; --",
	"undertide: 1\njob: x\n", "via: mail\nwith: {}\n", "[[[[[[", "a: &a [*a]", `{"fields": []}`, "kafka", "fresh", "pin:x", "checkpoint:1", "<script>", "\xff"}

// text is a body for a schema: most are as it says, some are not.
func (g bodies) text(s *openapi3.Schema) []byte {
	text, err := json.Marshal(g.value(s, 0))
	if err != nil {
		return []byte("null")
	}
	switch g.IntN(12) {
	case 0:
		return text[:g.IntN(len(text)+1)]
	case 1:
		i := g.IntN(len(text))
		text[i] = byte(g.IntN(256))
	case 2:
		return append(text, text...)
	}
	return text
}

func (g bodies) value(s *openapi3.Schema, depth int) any {
	if s == nil || g.IntN(12) == 0 || depth > 6 {
		return g.any()
	}
	for _, one := range s.AllOf {
		return g.value(one.Value, depth+1)
	}
	switch {
	case s.Type == nil:
		return g.any()
	case s.Type.Is("object"):
		out := map[string]any{}
		for name, p := range s.Properties {
			if g.IntN(4) > 0 {
				out[name] = g.value(p.Value, depth+1)
			}
		}
		if s.AdditionalProperties.Schema != nil {
			for range g.IntN(3) {
				out[oddTexts[g.IntN(len(oddTexts))]] = g.value(s.AdditionalProperties.Schema.Value, depth+1)
			}
		}
		if g.IntN(20) == 0 {
			out["unheard_of"] = g.any()
		}
		return out
	case s.Type.Is("array"):
		out := []any{}
		for range g.IntN(4) {
			out = append(out, g.value(s.Items.Value, depth+1))
		}
		return out
	case s.Type.Is("string"):
		return oddTexts[g.IntN(len(oddTexts))]
	case s.Type.Is("integer"):
		return []int64{0, 1, -1, 3, 240, 1 << 31, 1<<63 - 1, -1 << 63}[g.IntN(8)]
	case s.Type.Is("boolean"):
		return g.IntN(2) == 0
	}
	return g.any()
}

func (g bodies) any() any {
	switch g.IntN(6) {
	case 0:
		return nil
	case 1:
		return oddTexts[g.IntN(len(oddTexts))]
	case 2:
		return g.Float64() * 1e18
	case 3:
		return []any{map[string]any{}}
	case 4:
		return map[string]any{"a": []any{1}}
	}
	return g.IntN(2) == 0
}
