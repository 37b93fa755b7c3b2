// Command generate writes api/openapi.json, the page that describes the API, from the types of
// package api: go generate ./api
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3gen"

	"undertide/access"
	"undertide/api"
	"undertide/api/operations"
	"undertide/connect"
	"undertide/inside"
	"undertide/look"
	"undertide/run"
)

func main() {
	text, err := page()
	if err == nil {
		err = os.WriteFile("openapi.json", text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}

// names of the schemas that other pages refer to.
var names = map[reflect.Type]string{
	reflect.TypeFor[api.Page[api.Job]]():        "JobPage",
	reflect.TypeFor[api.Page[api.Version]]():    "VersionPage",
	reflect.TypeFor[api.Page[api.Run]]():        "RunPage",
	reflect.TypeFor[api.Page[api.Event]]():      "EventPage",
	reflect.TypeFor[api.Page[api.LogLine]]():    "LogPage",
	reflect.TypeFor[api.Page[api.Checkpoint]](): "CheckpointPage",
	reflect.TypeFor[api.Page[api.Alarm]]():      "AlarmPage",
	reflect.TypeFor[api.Page[api.TrailLine]]():  "TrailPage",
	reflect.TypeFor[connect.Example]():          "Beginning",
	reflect.TypeFor[look.Field]():               "InferredField",
	reflect.TypeFor[run.CheckpointFigures]():    "CheckpointFigures",
	reflect.TypeFor[inside.Shown]():             "StateRows",
	reflect.TypeFor[inside.About]():             "StateAbout",
	reflect.TypeFor[inside.Field]():             "StateField",
	reflect.TypeFor[inside.SpansShown]():        "StateSpans",
	reflect.TypeFor[inside.SpanShown]():         "StateSpan",
	reflect.TypeFor[inside.SkewShown]():         "StateSkew",
	reflect.TypeFor[inside.Share]():             "StateShare",
	reflect.TypeFor[inside.Heavy]():             "StateHeavy",
	reflect.TypeFor[inside.ComparedShown]():     "StateCompared",
	reflect.TypeFor[inside.ShownDifference]():   "StateDifference",
}

func page() ([]byte, error) {
	doc := &openapi3.T{OpenAPI: "3.0.3", Info: &openapi3.Info{Title: "Under Tide", Version: "1", Description: "Jobs, runs, rows and figures of a service. Faults come as RFC 9457 problem documents with permanent codes."},
		Servers: openapi3.Servers{{URL: "/api/v1"}}, Paths: openapi3.NewPaths(), Components: &openapi3.Components{Schemas: openapi3.Schemas{}}}
	given := map[string]reflect.Type{}
	gen := openapi3gen.NewGenerator(openapi3gen.UseAllExportedFields(), openapi3gen.CreateComponentSchemas(openapi3gen.ExportComponentSchemasOptions{ExportComponentSchemas: true, ExportTopLevelSchema: true}),
		openapi3gen.CreateTypeNameGenerator(func(t reflect.Type) string {
			name := names[t]
			if name == "" {
				name = t.Name()
			}
			if other, taken := given[name]; taken && other != t && name != "" {
				fmt.Fprintf(os.Stderr, "generate: %v and %v would both be %s; name one of them in names\n", other, t, name)
				os.Exit(1)
			}
			given[name] = t
			return name
		}), openapi3gen.SchemaCustomizer(customize))
	schema := func(v any) (*openapi3.SchemaRef, error) {
		if _, free := v.(operations.AnyJSON); free {
			return openapi3.NewSchemaRef("", openapi3.NewObjectSchema()), nil
		}
		return gen.NewSchemaRefForValue(v, doc.Components.Schemas)
	}
	problem, err := schema(api.Problem{})
	if err != nil {
		return nil, err
	}
	doc.Components.SecuritySchemes = openapi3.SecuritySchemes{
		"token":   &openapi3.SecuritySchemeRef{Value: &openapi3.SecurityScheme{Type: "http", Scheme: "bearer", Description: "A token of a person (POST /tokens)."}},
		"session": &openapi3.SecuritySchemeRef{Value: &openapi3.SecurityScheme{Type: "apiKey", In: "cookie", Name: "__Host-undertide-PORT", Description: "The session of a browser (POST /sign-in). Without TLS, on loopback, the name is undertide-PORT; behind a proxy it has no port."}},
	}
	for _, o := range operations.All {
		op, err := describe(o, schema, problem)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", o.Method, o.Path, err)
		}
		item := doc.Paths.Value(o.Path)
		if item == nil {
			item = &openapi3.PathItem{}
			doc.Paths.Set(o.Path, item)
		}
		item.SetOperation(o.Method, op)
	}
	require(doc.Components.Schemas)
	return json.MarshalIndent(doc, "", " ")
}

// customize marks raw JSON as anything, and pointers as nullable.
func customize(_ string, t reflect.Type, _ reflect.StructTag, s *openapi3.Schema) error {
	if t == reflect.TypeFor[json.RawMessage]() {
		*s = openapi3.Schema{Nullable: true}
	}
	return nil
}

// require says of all fields but the optional ones that they are there: ours always write them.
func require(all openapi3.Schemas) {
	optional := map[string]bool{"Problem.faults": true, "Version.document": true, "Saved.document": true, "Saved.filled": true, "Health.why": true, "Health.since": true, "SourceFigures.trouble": true, "SourceFigures.posts": true, "SinkFigures.trouble": true, "ReferenceFigures.trouble": true, "ReferenceFigures.first": true, "StepFigures.join": true, "StepFigures.lookup": true, "Pin.trouble": true, "NewPin.checkpoint": true, "NewToken.source": true, "NewToken.rate": true,
		"Rehearse.set": true, "Rehearse.rows": true, "Rehearse.from": true, "Play.set": true, "Play.by_arrival": true, "Given.source": true, "Given.event": true, "Given.clock": true, "NewTopic.partitions": true,
		"Enter.name": true, "NewPerson.role": true, "NewPerson.email": true, "ChangedPerson.role": true, "ChangedPerson.email": true, "NewPersonToken.person": true, "NewPersonToken.role": true, "NewPersonToken.job": true, "NewPersonToken.for": true,
		"Field.levels": true, "Problem.request": true, "ConnectionSpec.secrets": true, "Connection.secrets": true, "SecretText.for": true}
	nullable := map[string]bool{"Job.run": true, "Job.live": true, "Plan.spread": true, "CheckpointFigures.last": true, "RehearsedStep.forecast": true,
		"Connector.connection": true, "Connector.source": true, "Connector.reference": true, "Connector.sink": true, "Peek.profile": true, "Peek.inference": true, "Checked.plan": true, "LatenessOf.run": true}
	for name, s := range all {
		if name == "Start" {
			continue
		}
		s.Value.Required = nil
		for _, field := range slices.Sorted(maps.Keys(s.Value.Properties)) {
			if !optional[name+"."+field] {
				s.Value.Required = append(s.Value.Required, field)
			}
			if nullable[name+"."+field] {
				s.Value.Properties[field] = openapi3.NewSchemaRef("", &openapi3.Schema{Nullable: true, AllOf: openapi3.SchemaRefs{s.Value.Properties[field]}})
			}
		}
	}
}

func describe(o operations.Operation, schema func(any) (*openapi3.SchemaRef, error), problem *openapi3.SchemaRef) (*openapi3.Operation, error) {
	op := &openapi3.Operation{OperationID: o.ID, Summary: o.Summary, Responses: &openapi3.Responses{}, Extensions: map[string]any{"x-needs": string(o.Needs)}}
	if o.Needs != access.Nobody { // who needs no right needs no credentials
		op.Security = &openapi3.SecurityRequirements{{"token": []string{}}, {"session": []string{}}}
	}
	for part := range strings.SplitSeq(o.Path, "/") {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			op.AddParameter(openapi3.NewPathParameter(strings.TrimSuffix(name, "}")).WithSchema(openapi3.NewStringSchema()))
		}
	}
	for _, q := range o.Query {
		s := openapi3.NewStringSchema()
		if q.Kind == "integer" {
			s = openapi3.NewInt64Schema()
		}
		op.AddParameter(openapi3.NewQueryParameter(q.Name).WithSchema(s).WithDescription(q.About))
	}
	if o.Document {
		op.AddParameter(openapi3.NewHeaderParameter("If-Match").WithSchema(openapi3.NewStringSchema()).WithDescription("The number of the version that the document was made from, as an entity tag: \"3\". Where another is the newest by now, nothing is saved."))
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithRequired(true).WithContent(openapi3.NewContentWithSchema(openapi3.NewStringSchema(), []string{"application/yaml"})).WithDescription("The document, as it is.")}
	}
	if o.Body != nil {
		ref, err := schema(o.Body)
		if err != nil {
			return nil, err
		}
		op.RequestBody = &openapi3.RequestBodyRef{Value: openapi3.NewRequestBody().WithJSONSchemaRef(ref)}
	}
	good := openapi3.NewResponse().WithDescription(http.StatusText(o.Status))
	if o.Answer != nil {
		ref, err := schema(o.Answer)
		if err != nil {
			return nil, err
		}
		good = good.WithJSONSchemaRef(ref)
	}
	if o.Stream != nil {
		events := &openapi3.Schema{}
		var words []string
		for _, e := range o.Stream {
			ref, err := schema(e.Data)
			if err != nil {
				return nil, err
			}
			one := openapi3.NewObjectSchema().WithProperty("event", openapi3.NewStringSchema().WithEnum(e.Name)).WithPropertyRef("data", ref).WithRequired([]string{"event", "data"})
			one.Description = e.About
			events.OneOf = append(events.OneOf, openapi3.NewSchemaRef("", one))
			words = append(words, "`"+e.Name+"`: "+e.About)
		}
		good.Content["text/event-stream"] = openapi3.NewMediaType().WithSchema(events)
		op.Description = "As server-sent events, where they are accepted. Each has a kind (`event`) and data. " + strings.Join(words, "; ") + "."
	}
	op.Responses.Set(strconv.Itoa(o.Status), &openapi3.ResponseRef{Value: good})
	if o.ID == "save" {
		op.Responses.Set("200", &openapi3.ResponseRef{Value: good})
	}
	var codes []string
	if o.Needs != access.Nobody {
		o.Problems = append(slices.Clone(o.Problems), api.NotSignedIn, api.NotAllowed)
	}
	for _, p := range append(o.Problems, api.WrongRequest, api.ForeignHost, api.ForeignOrigin, api.TooMany, api.DatabaseUnreachable, api.Stopping, api.Internal) {
		codes = append(codes, p.Code)
	}
	bad := openapi3.NewResponse().WithDescription("A problem: " + strings.Join(codes, ", ") + ".").WithContent(openapi3.NewContentWithSchemaRef(problem, []string{"application/problem+json"}))
	op.Responses.Set("default", &openapi3.ResponseRef{Value: bad})
	return op, nil
}
