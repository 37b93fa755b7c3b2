package cli

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"
)

// TestPatience: a command that says nothing for two seconds says that it is at work, and of a job that is drained how that is; one
// that answers at once says nothing more, and nor does one that follows.
func TestPatience(t *testing.T) {
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.Path {
		case "/api/v1/jobs/mean-level/drain":
			time.Sleep(patient + 600*time.Millisecond)
			fmt.Fprint(w, `{"name":"mean-level","status":"finished"}`)
		case "/api/v1/jobs/mean-level":
			fmt.Fprint(w, `{"name":"mean-level","status":"draining","sentence":"Lag 3,000 events."}`)
		default:
			if r.URL.Query().Get("slow") != "" || r.URL.Path == "/api/v1/sources" {
				time.Sleep(patient + 600*time.Millisecond)
			}
			fmt.Fprint(w, `{"items":[]}`)
		}
	}))
	defer slow.Close()
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"sources"}, `(?m)^sources: at work for 2s$`},
		{[]string{"drain", "mean-level"}, `(?m)^drain mean-level: at work for 2s; draining\. Lag 3,000 events\.$`},
		{[]string{"pins", "mean-level"}, ``},
	} {
		var out, err bytes.Buffer
		Main(append(c.args, "--server", slow.URL), strings.NewReader(""), &out, &err)
		said := strings.Contains(err.String(), "at work")
		if c.want == "" && said || c.want != "" && !regexp.MustCompile(c.want).MatchString(err.String()) {
			t.Errorf("undertide %s says %q, want %s", strings.Join(c.args, " "), err.String(), c.want)
		}
	}
}
