package broker

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/hamba/avro/v2"
)

// DefaultRegistry is where the registry listens unless told otherwise.
const DefaultRegistry = "127.0.0.1:19081"

// Registry is a stand-in for a schema registry, for development, tests and the demo: it speaks the part of the HTTP interface
// that registries share which concerns Avro, and keeps its schemas in a file. It knows two levels of compatibility: BACKWARD, by
// which a new schema reads what was written by the one before, and NONE.
type Registry struct {
	Addr string // host:port

	server *http.Server
	ended  chan struct{}
	path   string // of the file; empty for none

	mu   sync.Mutex // guards all below
	kept registered
}

// registered is what a registry has.
type registered struct {
	Schemas  []string         `json:"schemas"`  // by number, from 1
	Subjects map[string][]int `json:"subjects"` // the numbers of the versions of each, from 1
	Levels   map[string]string
}

// StartRegistry starts one that keeps its schemas in a folder, or, where it is empty, as long as the process lasts.
func StartRegistry(listen, data string) (*Registry, error) {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, fmt.Errorf("%q is not an address; write it as %s", listen, DefaultRegistry)
	}
	if !onLoopback(host) {
		return nil, fmt.Errorf("the registry stand-in has no sign-in and listens on loopback only; use %s", DefaultRegistry)
	}
	r := &Registry{ended: make(chan struct{}), kept: registered{Subjects: map[string][]int{}, Levels: map[string]string{}}}
	if data != "" {
		r.path = filepath.Join(data, "schemas.json")
		text, err := os.ReadFile(r.path)
		if err == nil {
			err = json.Unmarshal(text, &r.kept)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("read the registry's schemas: %w", err)
		}
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("the registry stand-in cannot listen on %s: %w; choose another address with --registry", listen, err)
	}
	r.Addr = l.Addr().String()
	r.server = &http.Server{Handler: r.routes(), ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second}
	go func() {
		defer close(r.ended)
		_ = r.server.Serve(l) // it ends with Close
	}()
	return r, nil
}

// Close ends it.
func (r *Registry) Close() {
	_ = r.server.Close() // what it took is in its file
	<-r.ended
}

func (r *Registry) routes() http.Handler {
	m := http.NewServeMux()
	for pattern, answer := range map[string]func(*http.Request) (any, error){
		"GET /subjects":                                             r.subjects,
		"GET /subjects/{subject}/versions":                          r.versions,
		"GET /subjects/{subject}/versions/{version}":                r.version,
		"POST /subjects/{subject}/versions":                         r.register,
		"POST /subjects/{subject}":                                  r.lookup,
		"DELETE /subjects/{subject}":                                r.remove,
		"GET /schemas/ids/{id}":                                     r.schema,
		"GET /schemas/ids/{id}/versions":                            r.uses,
		"GET /schemas/types":                                        func(*http.Request) (any, error) { return []string{"AVRO"}, nil },
		"POST /compatibility/subjects/{subject}/versions/{version}": r.compatible,
		"GET /config":                                               func(*http.Request) (any, error) { return map[string]string{"compatibilityLevel": "BACKWARD"}, nil },
		"GET /config/{subject}":                                     r.level,
		"PUT /config/{subject}":                                     r.setLevel,
	} {
		m.HandleFunc(pattern, func(w http.ResponseWriter, q *http.Request) {
			r.mu.Lock()
			out, err := answer(q)
			r.mu.Unlock()
			w.Header().Set("Content-Type", "application/vnd.schemaregistry.v1+json")
			if said := (*refusal)(nil); errors.As(err, &said) {
				w.WriteHeader(said.Code / 100)
				out = said
			} else if err != nil {
				w.WriteHeader(http.StatusInternalServerError)
				out = &refusal{50001, err.Error()}
			}
			_ = json.NewEncoder(w).Encode(out) // who asked has gone
		})
	}
	return m
}

// refusal is an answer that says why not; its code begins with the status.
type refusal struct {
	Code    int    `json:"error_code"`
	Message string `json:"message"`
}

func (r *refusal) Error() string { return r.Message }

func (r *Registry) subjects(*http.Request) (any, error) {
	out := []string{}
	for name := range r.kept.Subjects {
		out = append(out, name)
	}
	slices.Sort(out)
	return out, nil
}

func (r *Registry) of(q *http.Request) (string, []int, error) {
	name := q.PathValue("subject")
	ids := r.kept.Subjects[name]
	if len(ids) == 0 {
		return name, nil, &refusal{40401, "Subject '" + name + "' not found."}
	}
	return name, ids, nil
}

func (r *Registry) versions(q *http.Request) (any, error) {
	_, ids, err := r.of(q)
	out := []int{}
	for n := range ids {
		out = append(out, n+1)
	}
	return out, err
}

// versionOf gives the version of a subject that is asked for, from 1.
func (r *Registry) versionOf(q *http.Request) (name string, ids []int, n int, err error) {
	if name, ids, err = r.of(q); err != nil {
		return name, nil, 0, err
	}
	text := q.PathValue("version")
	if text == "latest" || text == "-1" {
		return name, ids, len(ids), nil
	}
	if n, err = strconv.Atoi(text); err != nil || n < 1 || n > len(ids) {
		return name, nil, 0, &refusal{40402, "Version " + text + " not found."}
	}
	return name, ids, n, nil
}

type subjectVersion struct {
	Subject string `json:"subject"`
	Version int    `json:"version"`
	ID      int    `json:"id"`
	Schema  string `json:"schema"`
}

func (r *Registry) version(q *http.Request) (any, error) {
	name, ids, n, err := r.versionOf(q)
	if err != nil {
		return nil, err
	}
	return subjectVersion{name, n, ids[n-1], r.kept.Schemas[ids[n-1]-1]}, nil
}

// given reads the schema of a request.
func given(q *http.Request) (text string, parsed avro.Schema, err error) {
	body, err := io.ReadAll(io.LimitReader(q.Body, 4<<20))
	if err != nil {
		return "", nil, err
	}
	var in struct{ Schema, SchemaType string }
	if err := json.Unmarshal(body, &in); err != nil {
		return "", nil, &refusal{42201, "The request is not JSON: " + err.Error()}
	}
	if in.SchemaType != "" && in.SchemaType != "AVRO" {
		return "", nil, &refusal{42201, "The stand-in takes Avro alone, not " + in.SchemaType}
	}
	if parsed, err = avro.ParseWithCache(in.Schema, "", &avro.SchemaCache{}); err != nil {
		return "", nil, &refusal{42201, "Invalid schema: " + err.Error()}
	}
	var plain bytes.Buffer
	if err := json.Compact(&plain, []byte(in.Schema)); err != nil {
		return in.Schema, parsed, nil //nolint:nilerr // the name of a type alone
	}
	return plain.String(), parsed, nil
}

func (r *Registry) find(name, text string) (version int) {
	for n, id := range r.kept.Subjects[name] {
		if r.kept.Schemas[id-1] == text {
			return n + 1
		}
	}
	return 0
}

func (r *Registry) lookup(q *http.Request) (any, error) {
	name, ids, err := r.of(q)
	if err != nil {
		return nil, err
	}
	text, _, err := given(q)
	if err != nil {
		return nil, err
	}
	n := r.find(name, text)
	if n == 0 {
		return nil, &refusal{40403, "Schema not found"}
	}
	return subjectVersion{name, n, ids[n-1], text}, nil
}

func (r *Registry) register(q *http.Request) (any, error) {
	name := q.PathValue("subject")
	text, parsed, err := given(q)
	if err != nil {
		return nil, err
	}
	if n := r.find(name, text); n > 0 {
		return map[string]int{"id": r.kept.Subjects[name][n-1]}, nil
	}
	if why := r.breaks(name, len(r.kept.Subjects[name]), parsed); why != "" {
		return nil, &refusal{40901, "Schema being registered is incompatible with an earlier schema for subject \"" + name + "\": " + why}
	}
	id := slices.Index(r.kept.Schemas, text) + 1
	if id == 0 {
		r.kept.Schemas = append(r.kept.Schemas, text)
		id = len(r.kept.Schemas)
	}
	r.kept.Subjects[name] = append(r.kept.Subjects[name], id)
	return map[string]int{"id": id}, r.keep()
}

// breaks says why a schema does not read what a version of a subject was written by; empty where it does.
func (r *Registry) breaks(name string, version int, next avro.Schema) string {
	if version == 0 || r.kept.Levels[name] == "NONE" {
		return ""
	}
	before, err := avro.ParseWithCache(r.kept.Schemas[r.kept.Subjects[name][version-1]-1], "", &avro.SchemaCache{})
	if err == nil {
		err = avro.NewSchemaCompatibility().Compatible(next, before)
	}
	if err != nil {
		return strings.TrimPrefix(err.Error(), "avro: ")
	}
	return ""
}

func (r *Registry) compatible(q *http.Request) (any, error) {
	name, _, n, err := r.versionOf(q)
	if err != nil {
		return nil, err
	}
	_, parsed, err := given(q)
	if err != nil {
		return nil, err
	}
	why := r.breaks(name, n, parsed)
	out := map[string]any{"is_compatible": why == ""}
	if why != "" {
		out["messages"] = []string{why}
	}
	return out, nil
}

func (r *Registry) schema(q *http.Request) (any, error) {
	id, err := r.number(q)
	if err != nil {
		return nil, err
	}
	return map[string]string{"schema": r.kept.Schemas[id-1]}, nil
}

// number gives the number of a schema that is asked for.
func (r *Registry) number(q *http.Request) (int, error) {
	id, err := strconv.Atoi(q.PathValue("id"))
	if err != nil || id < 1 || id > len(r.kept.Schemas) {
		return 0, &refusal{40403, "Schema " + q.PathValue("id") + " not found"}
	}
	return id, nil
}

// uses gives the subjects that have a schema, with its version there.
func (r *Registry) uses(q *http.Request) (any, error) {
	id, err := r.number(q)
	if err != nil {
		return nil, err
	}
	out := []subjectVersion{}
	for name, ids := range r.kept.Subjects {
		if n := slices.Index(ids, id); n >= 0 {
			out = append(out, subjectVersion{Subject: name, Version: n + 1})
		}
	}
	return out, nil
}

func (r *Registry) remove(q *http.Request) (any, error) {
	name, _, err := r.of(q)
	if err != nil {
		return nil, err
	}
	out, err := r.versions(q)
	delete(r.kept.Subjects, name)
	return out, errors.Join(err, r.keep())
}

func (r *Registry) level(q *http.Request) (any, error) {
	level, ok := r.kept.Levels[q.PathValue("subject")]
	if !ok {
		level = "BACKWARD"
	}
	return map[string]string{"compatibilityLevel": level}, nil
}

func (r *Registry) setLevel(q *http.Request) (any, error) {
	var in struct{ Compatibility string }
	if err := json.NewDecoder(io.LimitReader(q.Body, 1<<16)).Decode(&in); err != nil || in.Compatibility != "BACKWARD" && in.Compatibility != "NONE" {
		return nil, &refusal{42203, "The stand-in knows BACKWARD and NONE"}
	}
	r.kept.Levels[q.PathValue("subject")] = in.Compatibility
	return map[string]string{"compatibility": in.Compatibility}, r.keep()
}

// keep writes the file.
func (r *Registry) keep() error {
	if r.path == "" {
		return nil
	}
	text, err := json.MarshalIndent(r.kept, "", " ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(r.path+".part", text, 0o600); err != nil {
		return err
	}
	return os.Rename(r.path+".part", r.path)
}
