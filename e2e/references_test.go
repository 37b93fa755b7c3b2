package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// referencesJob looks lifts up in a file, a table and a topic.
const referencesJob = `undertide: 1
job: named
settings: {checkpoint: {every: 200ms}}
connections:
  harbour: {via: kafka, brokers: ["%s"]}
sources:
  lifts:
    via: file
    with: {path: %s/lifts.ndjson, follow: true}
    fields: {n: int, berth: string, vessel: string, at: {type: timestamp, parse: epoch_ms}}
    event_time: at
    watermark: {margin: 1s, ahead: none}
references:
  berths: {via: file, with: {path: %s/berths.csv}, decode: csv, fields: {id: string, name: string, quay: int}, key: [id], refresh: 1s}
  quays: {via: postgres, with: {connection: office, table: quays}, fields: {quay: int, side: string, built: timestamp, toll: decimal}, key: [quay], refresh: 1s}
  vessels: {via: kafka, with: {connection: harbour, topic: levels}, fields: {imo: string, ship: string}, key: [imo]}
  places: {from: berths, lookup: {reference: quays, match: [quay], add: [side, toll]}}
steps:
  placed: {from: lifts, lookup: {reference: places, match: {berth: id}, add: {berth_name: name, side: side, toll: toll}}}
  named: {from: placed, lookup: {reference: vessels, match: {vessel: imo}, add: {ship: ship}}}
sinks:
  out: {from: named, via: file, with: {path: %s/out/}}
`

// TestReferences: what is replaced, changed and deleted where references come from counts for the rows after it, and what keeps
// one from being read is said while its last rows stay: a file with a key twice, a table that somebody has locked, a broker
// that is away.
func TestReferences(t *testing.T) {
	t.Parallel()
	dir := open(t)
	db, dial := table(t)
	conn := dial()
	defer conn.Close(context.Background())
	change := func(text string) {
		t.Helper()
		if _, err := conn.Exec(context.Background(), text); err != nil {
			t.Fatal(err)
		}
	}
	change("create table quays (quay bigint, side text, built timestamptz, toll numeric); insert into quays values (1, 'north', '2020-01-02 03:04:05Z', 12.50), (2, 'south', null, 3)")
	b, broker := startBroker(t, dir, "")
	vessel := func(lines string) { t.Helper(); kcat(t, lines, "-b", broker, "-t", "levels", "-P", "-K", "|", "-Z") }
	vessel("i1|{\"imo\":\"i1\",\"ship\":\"Petrel\"}\ni2|{\"imo\":\"i2\",\"ship\":\"Auk\"}\ni1|{\"imo\":\"i1\",\"ship\":\"Storm Petrel\"}\nnone|{\"ship\":\"nobody\"}\n")
	write(t, dir, "lifts.ndjson", "")
	berths := "id,name,quay\nB1,North one,1\nB2,South,2\n"
	replace := func(text string) {
		t.Helper()
		if err := os.Rename(write(t, dir, "next.csv", text), filepath.Join(dir, "berths.csv")); err != nil {
			t.Fatal(err)
		}
	}
	replace(berths)
	s := serve(t, dir)
	u, err := url.Parse(db.URL())
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	sent := exec.Command(binary, "secrets", "set", "office", "--server", s.address)
	sent.Stdin = strings.NewReader(password)
	if out, err := sent.CombinedOutput(); err != nil {
		t.Fatal(string(out))
	}
	s.must("connections", "add", "office", "--via", "postgres", "--url", fmt.Sprintf("postgres://%s@%s%s", u.User.Username(), u.Host, u.Path), "--password", "${secret.office}")
	s.must("save", write(t, dir, "named.yaml", fmt.Sprintf(referencesJob, broker, dir, dir, dir)))
	s.must("start", "named")
	s.waitStatus("named", "running")

	n := 0
	lift := func(berth, vessel, want string) {
		t.Helper()
		n++
		f, err := os.OpenFile(filepath.Join(dir, "lifts.ndjson"), os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(f, `{"n":%d,"berth":"%s","vessel":"%s","at":%d}`+"\n", n, berth, vessel, n*1000)
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
		want = fmt.Sprintf(`"n":%d,"berth":"%s","vessel":"%s",`, n, berth, vessel) + want
		var rows string
		eventually(t, 20*time.Second, "a row with "+want, func() bool {
			_, rows, _ = s.get(fmt.Sprintf("/api/v1/runs/%d/steps/named/rows", s.job("named").Run.ID))
			return strings.Contains(rows, fmt.Sprintf(`"n":%d,`, n))
		})
		if plain := strings.ReplaceAll(rows, fmt.Sprintf(`"at":"1970-01-01T00:00:%02dZ",`, n), ""); !strings.Contains(plain, want) {
			t.Errorf("want %s in %s", want, plain)
		}
	}
	shows := func(what string) {
		t.Helper()
		eventually(t, 25*time.Second, what, func() bool {
			return strings.Contains(strings.Join(strings.Fields(s.run("show", "named").out), " "), what)
		})
	}
	lift("B1", "i1", `"berth_name":"North one","side":"north","toll":"12.50","ship":"Storm Petrel"`)
	if rows := s.must("rows", "named", "berths").out; !strings.Contains(strings.Join(strings.Fields(rows), " "), "id name quay B1 North one 1 B2 South 2") {
		t.Errorf("the rows of a reference are\n%s", rows)
	}
	s.must("rows", "named", "vessels", "--key", "i1").want(t, 0)
	lift("B9", "none", `"berth_name":null,"side":null,"toll":null,"ship":null`)
	shows("placed places 1 1 0 berth \"B9\"")
	shows("vessels: 1 row not taken, 1 of them for a null in the key; the first: partition")

	replace(berths + "B9,New,1\n")
	shows("berths 3")
	lift("B9", "i2", `"berth_name":"New","side":"north","toll":"12.50","ship":"Auk"`)

	replace("id,name,quay\nB1,Wrong,1\nB2,South,2\nB1,Wrong again,2\n")
	shows(`the key of row 3 of ` + dir + `/berths.csv stands in row 1 already (id "B1"); keep one of them`)
	lift("B1", "i1", `"berth_name":"North one","side":"north","toll":"12.50","ship":"Storm Petrel"`)
	replace(berths)
	shows("berths 2")

	locker, ctx := dial(), context.Background()
	defer locker.Close(ctx)
	if _, err := locker.Exec(ctx, "begin; lock table quays in access exclusive mode; update quays set side = 'east' where quay = 1"); err != nil {
		t.Fatal(err)
	}
	shows("table quays is locked by somebody")
	lift("B1", "i1", `"berth_name":"North one","side":"north","toll":"12.50","ship":"Storm Petrel"`)
	if _, err := locker.Exec(ctx, "commit"); err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, "the table is read again", func() bool { return !strings.Contains(s.run("show", "named").out, "is locked") })
	lift("B1", "i1", `"berth_name":"North one","side":"east","toll":"12.50","ship":"Storm Petrel"`)

	b.end(t, syscall.SIGKILL)
	shows("vessels: its rows of")
	lift("B2", "i2", `"berth_name":"South","side":"south","toll":"3","ship":"Auk"`)
	_, again := startBroker(t, dir, broker)
	if again != broker {
		t.Fatalf("the broker is at %s, not at %s", again, broker)
	}
	vessel("i2|\ni3|{\"imo\":\"i3\",\"ship\":\"Tern\"}\n")
	eventually(t, 30*time.Second, "the topic is followed again", func() bool {
		var f struct {
			References map[string]struct{ Read int }
		}
		_, text, _ := s.get(fmt.Sprintf("/api/v1/runs/%d/figures", s.job("named").Run.ID))
		return json.Unmarshal([]byte(text), &f) == nil && f.References["vessels"].Read == 6
	})
	lift("B2", "i2", `"berth_name":"South","side":"south","toll":"3","ship":null`)
	lift("B2", "i3", `"berth_name":"South","side":"south","toll":"3","ship":"Tern"`)

	s.must("stop", "named")
	change("update quays set side = 'west' where quay = 2")
	s.must("start", "named")
	s.waitStatus("named", "running")
	eventually(t, 10*time.Second, "the log says what has changed", func() bool {
		return strings.Contains(s.run("logs", "named").out, "reference quays has changed since the checkpoint: 2 rows then, 2 now")
	})
	eventually(t, 10*time.Second, "all rows are written, once", func() bool { return len(delivered(t, filepath.Join(dir, "out"))) == n })
}
