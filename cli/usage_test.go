package cli

import (
	"bytes"
	"strings"
	"testing"
)

// TestWrongUse: what a command does not take is status 2, with what would be right, in plain words.
func TestWrongUse(t *testing.T) {
	for line, want := range map[string]string{
		"strt":                               "there is no command strt; did you mean start?",
		"kept lifts --server x":              "there is no command kept; see undertide --help",
		"connections ad":                     "there is no command connections ad; did you mean add?",
		"sources put lifts":                  "there is no command sources put; there are add, remove, show",
		"connections add":                    "undertide connections add takes NAME; see undertide connections add --help",
		"version now":                        "undertide version takes no arguments",
		"help crane":                         "there is no command crane; see undertide --help",
		"completion tcsh":                    "there is no command completion tcsh; did you mean bash?",
		"peek --oldest --newest":             "--oldest and --newest do not go together; give one of --oldest, --newest, --since, --follow",
		"start x --dry-run --fresh":          "--dry-run and --fresh do not go together",
		"start x --format json":              "--format belongs to --dry-run",
		"run a.yaml --lanes two":             "--lanes two: give a whole number",
		"run a.yaml --lane 2":                "undertide run has no flag --lane; did you mean --lanes?",
		"run a.yaml -z":                      "undertide run has no flag -z",
		"run --in":                           "--in needs a value; write --in SOURCE=PATH",
		"demo --for soon":                    "--for soon: give a duration, such as 30s or 5m",
		"start x --dry-run=perhaps":          "--dry-run perhaps: give true or false",
		"start x --resume yesterday":         "give last, pin:NAME or checkpoint:N",
		"start x --dry-run --begin earliest": "a span keeps nothing of another run",
	} {
		var out, errs bytes.Buffer
		status := Main(strings.Fields(line), strings.NewReader(""), &out, &errs)
		if status != wrongUse || !strings.Contains(errs.String(), want) || strings.Count(errs.String(), "\n") != 1 || out.Len() > 0 {
			t.Errorf("%s: status %d, want 2 with %q; it says %s%s", line, status, want, errs.String(), out.String())
		}
	}
}
