package broker

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"

	"undertide/leak"
)

func TestMain(m *testing.M) { leak.Main(m) }

// transaction writes rows to both partitions of the topic levels, and an offset of a group, and leaves the end to the caller.
func transaction(t *testing.T, address, rows string, at int64) *kgo.Client {
	t.Helper()
	ctx := t.Context()
	cl, err := kgo.NewClient(kgo.SeedBrokers(address), kgo.TransactionalID("harbour"), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(cl.Close)
	if err := cl.BeginTransaction(); err != nil {
		t.Fatal(err)
	}
	for i := range 5 {
		if err := cl.ProduceSync(ctx, &kgo.Record{Topic: "levels", Partition: int32(i % 2), Value: fmt.Appendf(nil, "%s%d", rows, i)}).FirstErr(); err != nil {
			t.Fatal(err)
		}
	}
	id, epoch, err := cl.ProducerID(ctx)
	if err != nil {
		t.Fatal(err)
	}
	metadata := rows
	add := kmsg.NewPtrAddOffsetsToTxnRequest()
	add.TransactionalID, add.ProducerID, add.ProducerEpoch, add.Group = "harbour", id, epoch, "tide"
	if r, err := add.RequestWith(ctx, cl); err != nil || r.ErrorCode != 0 {
		t.Fatal(err, r)
	}
	commit := kmsg.NewPtrTxnOffsetCommitRequest()
	commit.TransactionalID, commit.ProducerID, commit.ProducerEpoch, commit.Group = "harbour", id, epoch, "tide"
	admin := kadm.NewClient(cl)
	topics, err := admin.ListTopics(ctx, "levels")
	if err != nil {
		t.Fatal(err)
	}
	part := kmsg.NewTxnOffsetCommitRequestTopicPartition()
	part.Offset, part.Metadata = at, &metadata
	commit.Topics = []kmsg.TxnOffsetCommitRequestTopic{{Topic: "levels", TopicID: topics["levels"].ID, Partitions: []kmsg.TxnOffsetCommitRequestTopicPartition{part}}}
	if r, err := commit.RequestWith(ctx, cl); err != nil || kerr.ErrorForCode(r.Topics[0].Partitions[0].ErrorCode) != nil {
		t.Fatal(err, r)
	}
	return cl
}

// committedRows reads what readers of committed rows see, and the metadata of the group's offset.
func committedRows(t *testing.T, address string) (rows []string, metadata string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	cl, err := kgo.NewClient(kgo.SeedBrokers(address), kgo.ConsumeTopics("levels"), kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.KeepControlRecords(), kgo.FetchMaxWait(100*time.Millisecond))
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	admin := kadm.NewClient(cl)
	ends, err := admin.ListCommittedOffsets(ctx, "levels")
	if err != nil {
		t.Fatal(err)
	}
	left := map[int32]bool{}
	ends.Each(func(o kadm.ListedOffset) {
		if o.Offset > 0 {
			left[o.Partition] = true
		}
	})
	for len(left) > 0 {
		fetched := cl.PollFetches(ctx)
		if err := fetched.Err(); err != nil {
			t.Fatal(err)
		}
		fetched.EachRecord(func(r *kgo.Record) {
			if end, _ := ends.Lookup("levels", r.Partition); r.Offset+1 >= end.Offset {
				delete(left, r.Partition)
			}
			if !r.Attrs.IsControl() {
				rows = append(rows, string(r.Value))
			}
		})
	}
	slices.Sort(rows)
	if has, err := admin.FetchOffsets(ctx, "tide"); err == nil {
		if o, ok := has.Lookup("levels", 0); ok {
			metadata = o.Metadata
		}
	}
	return rows, metadata
}

// TestKilledWithinCommit: wherever in a commit the stand-in is killed, all of it stands or nothing, also after a commit before
// it. The folder of each such moment is put together from copies of before and after the commit.
func TestKilledWithinCommit(t *testing.T) {
	dir := t.TempDir()
	live, before, after := filepath.Join(dir, "live"), filepath.Join(dir, "before"), filepath.Join(dir, "after")
	copied := func(from, to string) {
		t.Helper()
		if err := os.CopyFS(to, os.DirFS(from)); err != nil {
			t.Fatal(err)
		}
	}
	b, err := Start(Options{Listen: "127.0.0.1:0", Data: live, Topics: []string{"levels"}, Partitions: 2})
	if err != nil {
		t.Fatal(err)
	}
	first := transaction(t, b.Addr, "a", 7)
	if err := first.EndTransaction(t.Context(), kgo.TryCommit); err != nil {
		t.Fatal(err)
	}
	second := transaction(t, b.Addr, "b", 8)
	copied(live, before)
	if err := second.EndTransaction(t.Context(), kgo.TryCommit); err != nil {
		t.Fatal(err)
	}
	copied(live, after)
	b.Close()

	// What changes in a commit, in the order in which it is written.
	var parts []string
	err = filepath.WalkDir(after, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			name, _ := filepath.Rel(after, path)
			old, _ := os.ReadFile(filepath.Join(before, name))
			if now, _ := os.ReadFile(path); string(now) != string(old) {
				parts = append(parts, name)
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	rank := func(name string) int {
		for i, has := range []string{commitsFolder, "levels", "groups"} {
			if strings.Contains(name, has) {
				return i
			}
		}
		return 3
	}
	slices.SortStableFunc(parts, func(a, b string) int { return rank(a) - rank(b) })
	var a, both []string
	for i := range 5 {
		a, both = append(a, fmt.Sprintf("a%d", i)), append(both, fmt.Sprintf("b%d", i))
	}
	both = append(slices.Clone(a), both...)
	if len(parts) < 4 {
		t.Fatalf("a commit changes %q", parts)
	}
	began := 0
	for n := range len(parts) + 1 {
		at := filepath.Join(dir, fmt.Sprint(n))
		copied(before, at)
		for _, name := range parts[:n] {
			text, err := os.ReadFile(filepath.Join(after, name))
			if err != nil {
				t.Fatal(err)
			}
			if err := os.MkdirAll(filepath.Dir(filepath.Join(at, name)), 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(at, name), text, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		want, epoch := a, "a"
		if slices.ContainsFunc(parts[:n], func(name string) bool { return rank(name) > 0 && strings.HasSuffix(name, ".dat") }) { // a marker
			want, epoch = both, "b"
			began++
		}
		for range 2 { // a start that is killed after it has mended leaves it so
			b, err := Start(Options{Listen: "127.0.0.1:0", Data: at})
			if err != nil {
				t.Fatalf("after %q: %v", parts[:n], err)
			}
			rows, metadata := committedRows(t, b.Addr)
			b.cluster.Close()
			b.unlock()
			if !slices.Equal(rows, want) || metadata != epoch {
				t.Errorf("killed after %q were written: rows %q, offset of %q; want %q, %q", parts[:n], rows, metadata, want, epoch)
			}
		}
	}
	if began < 2 {
		t.Errorf("no commit of %q was seen to begin", parts)
	}
}
