package e2e

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// allowed says which of our packages each may import (docs/architecture.md): by the first part of its
// path. A package may always import its own part.
var allowed = map[string][]string{
	"core":       {},
	"nearest":    {},
	"member":     {},
	"job":        {"connect", "core", "disk", "member", "nearest"},
	"connect":    {"core", "disk", "member", "nearest"},
	"checkpoint": {"core"},
	"figures":    {"api", "core", "job", "run"},
	"inside":     {"checkpoint", "connect", "core", "job"},
	"look":       {"connect", "core", "member"},
	"access":     {},
	"testcert":   {},
	"secret":     {},
	"leak":       {},
	"lease":      {},
	"pace":       {},
	"run":        {"checkpoint", "connect", "core", "disk", "job"},
	"try":        {"connect", "core", "job", "look", "run"},
	"disk":       {},
	"harbour":    {"connect", "core", "job"},
	"account":    {},
	"cli":        {"access", "account", "api", "broker", "client", "connect", "console", "core", "disk", "figures", "harbour", "inside", "job", "look", "run", "service", "try"},
	"cmd":        {"cli"},
	"bench":      {"api", "checkpoint", "client", "core", "job", "connect", "postgres", "run"},
	"e2e":        {"account", "api", "cli", "job", "testcert"},
	"api":        {"access", "connect", "inside", "job", "look", "run", "try"},
	"broker":     {},
	"client":     {"access", "api", "inside", "job", "try"},
	"console":    {},
	"postgres":   {"account"},
	"service":    {"access", "api", "checkpoint", "connect", "core", "disk", "figures", "inside", "job", "lease", "look", "postgres", "run", "secret", "store", "try"},
	"store":      {"lease"},
}

// forbidden says what the core may not reach at all, and what to do instead.
var forbidden = map[string]string{
	"net/http":                         "take an interface that a connector implements",
	"database/sql":                     "keep records in store/",
	"log/slog":                         "return the error; core does not log",
	"log":                              "return the error; core does not log",
	"flag":                             "take an option; flags are read in cli/",
	"github.com/goccy/go-yaml":         "documents are read in job/",
	"github.com/spf13/cobra":           "commands are in cli/",
	"github.com/go-faster/jx":          "formats are in connect/formats",
	"github.com/parquet-go/parquet-go": "files of columns are read and written in connect/formats/parquet,",
	"github.com/cockroachdb/pebble":    "the store of state is in checkpoint/",
}

// rooms are the kinds of connectors and the formats: all others ask the list (connect/all) and know no name. Rows are
// shown and given as JSON, and the demo feeds a broker of its own.
var rooms = map[string][]string{
	"undertide/connect/file":            {"connect"},
	"undertide/connect/kafka":           {"connect", "cli", "harbour"},
	"undertide/connect/mail":            {"connect"},
	"undertide/connect/mqtt":            {"connect"},
	"undertide/connect/postgres":        {"connect", "cli"},
	"undertide/connect/posts":           {"connect"},
	"undertide/connect/simulate":        {"connect", "harbour"},
	"undertide/connect/socket":          {"connect"},
	"undertide/connect/formats/avro":    {"connect"},
	"undertide/connect/formats/csv":     {"connect"},
	"undertide/connect/formats/text":    {"connect"},
	"undertide/connect/formats/table":   {"connect"},
	"undertide/connect/formats/ndjson":  {"connect", "inside", "run", "try"},
	"undertide/connect/formats/parquet": {"connect"},
	"undertide/connect/file/objects":    {"connect"},
}

// homes says which packages alone may import a library: others take what those hand out.
var homes = map[string][]string{
	"gorm.io/":                      {"store"},
	"github.com/jackc/":             {"store", "postgres", "connect", "bench", "harbour"},
	"github.com/gin-gonic/":         {"service"},
	"github.com/prometheus/":        {"service"},
	"github.com/twmb/franz-go":      {"connect", "broker", "bench"},
	"github.com/eclipse/":           {"connect"},
	"github.com/emersion/":          {"connect"},
	"github.com/wneessen/":          {"connect"},
	"github.com/hamba/":             {"connect", "broker", "e2e", "harbour", "bench"},
	"github.com/minio/":             {"connect"},
	"github.com/spf13/cobra":        {"cli", "cmd"},
	"github.com/goccy/go-yaml":      {"job", "cli"},
	"github.com/parquet-go/":        {"connect", "bench"},
	"github.com/cockroachdb/":       {"checkpoint"},
	"github.com/getkin/kin-openapi": {"api"},
	"github.com/alexedwards/":       {"access", "service"},
}

func goList(t *testing.T, args ...string) []string {
	t.Helper()
	c := exec.Command("go", append([]string{"list"}, args...)...)
	c.Dir = ".."
	out, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.Fields(string(out))
}

// TestArrows keeps the arrows between packages one-way.
func TestArrows(t *testing.T) {
	t.Parallel()
	packages := goList(t, "./...")
	if len(packages) < 15 {
		t.Fatalf("only %d packages", len(packages))
	}
	for _, p := range packages {
		part, _, _ := strings.Cut(strings.TrimPrefix(p, "undertide/"), "/")
		may, known := allowed[part]
		if !known {
			t.Errorf("%s: no rule says what it may import; add one here and to docs/architecture.md", p)
			continue
		}
		for _, dep := range goList(t, "-f", `{{join .Imports " "}}`, p) {
			for library, home := range homes {
				if strings.HasPrefix(dep, library) && !slices.Contains(home, part) {
					t.Errorf("%s imports %s; only %v may", p, dep, home)
				}
			}
			if may, room := rooms[dep]; room && !slices.Contains(may, part) {
				t.Errorf("%s imports %s; ask the list of package connect", p, dep)
			}
			ours, ok := strings.CutPrefix(dep, "undertide/")
			if !ok {
				continue
			}
			to, _, _ := strings.Cut(ours, "/")
			if to != part && !slices.Contains(may, to) {
				t.Errorf("%s imports %s; %s may import only %v", p, dep, part, may)
			}
		}
	}
	for _, dep := range goList(t, "-f", `{{range .Imports}}{{.}} {{end}}`, "./core/...") {
		if remedy, bad := forbidden[dep]; bad {
			t.Errorf("core imports %s; %s", dep, remedy)
		}
	}
	for _, dep := range goList(t, "-deps", "./core/...") {
		if ours, ok := strings.CutPrefix(dep, "undertide/"); ok && !strings.HasPrefix(ours, "core/") {
			t.Errorf("core depends on %s; turn the arrow round", dep)
		}
	}
}
