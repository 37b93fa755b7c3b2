package broker

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// openMark is a file that is in the folder while the stand-in runs, and stays there when it is killed.
const openMark = "open"

// mend completes the commits that the stand-in was killed within, and ends the transactions that were open. The library
// forgets those and lets readers pass over their messages, but writes no marker; without one, readers of committed messages
// pass over all later ones of that producer too. It is done on an address of its own, before anybody can begin a new
// transaction.
func mend(dir string) error {
	if _, err := os.Stat(filepath.Join(dir, openMark)); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	c, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.DataDir(dir))
	if err != nil {
		return err
	}
	defer c.Close()
	client, err := kgo.NewClient(kgo.SeedBrokers(c.ListenAddrs()...))
	if err != nil {
		return err
	}
	defer client.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	admin := kadm.NewClient(client)
	if err := complete(ctx, dir, c.ListenAddrs(), admin); err != nil {
		return err
	}
	open, err := admin.ListTransactions(ctx, nil, nil)
	if err != nil {
		return err
	}
	topics, err := admin.ListTopics(ctx)
	if err != nil {
		return err
	}
	var markers []kadm.TxnMarkers
	open.Each(func(t kadm.ListedTransaction) {
		markers = append(markers, kadm.TxnMarkers{ProducerID: t.ProducerID, Topics: topics.TopicsSet()})
	})
	if len(markers) == 0 || len(topics) == 0 {
		return nil
	}
	_, err = admin.WriteTxnMarkers(ctx, markers...)
	return err
}

// A commit of the library is not atomic: it writes a marker into one partition after another, then the offsets. Killed
// within, it would leave rows of some partitions for readers to see, and a group without its offset: whoever asks the group
// what was delivered would deliver all of it again. So what a commit comprises is noted in a file before it begins, and
// complete finishes one that has begun.
//
// An example: a transaction wrote rows to partitions 0 and 1 and an offset of a group. The note is there, partition 0 has
// the marker, then the kill. The library aborts the rows of partition 1 as it reads the folder; complete writes them anew,
// and then the offset. Had no partition the marker, the commit would not have begun, and nothing is done.

// commitsFolder holds a note for each transactional id: its last commit.
const commitsFolder = "commits"

// commit is what a transaction commits beside its rows. A producer has a new epoch with each transaction (KIP-890).
type commit struct {
	Producer int64
	Epoch    int16
	Offsets  []offset
}

type offset struct {
	Group     string
	Topic     string   `json:",omitempty"`
	ID        [16]byte // of the topic, where a newer client names it so
	Partition int32
	Offset    int64
	Epoch     int32 // of the leader
	Metadata  *string
}

// commits notes what is about to be committed.
type commits struct {
	dir   string
	under map[string]commit // by transactional id
}

// watch looks at the requests of the library's stand-in, which calls it for one at a time.
func (n *commits) watch(c *kfake.Cluster) {
	c.ControlKey(int16(kmsg.TxnOffsetCommit), func(r kmsg.Request) (kmsg.Response, error, bool) {
		c.KeepControl()
		n.add(r.(*kmsg.TxnOffsetCommitRequest))
		return nil, nil, false
	})
	c.ControlKey(int16(kmsg.EndTxn), func(r kmsg.Request) (kmsg.Response, error, bool) {
		c.KeepControl()
		err := n.end(r.(*kmsg.EndTxnRequest))
		return nil, err, err != nil
	})
}

func (n *commits) add(r *kmsg.TxnOffsetCommitRequest) {
	u := n.under[r.TransactionalID]
	if u.Producer != r.ProducerID || u.Epoch != r.ProducerEpoch {
		u = commit{Producer: r.ProducerID, Epoch: r.ProducerEpoch}
	}
	for _, t := range r.Topics {
		for _, p := range t.Partitions {
			u.Offsets = append(u.Offsets, offset{r.Group, t.Topic, t.TopicID, p.Partition, p.Offset, p.LeaderEpoch, p.Metadata})
		}
	}
	n.under[r.TransactionalID] = u
}

func (n *commits) end(r *kmsg.EndTxnRequest) error {
	u := n.under[r.TransactionalID]
	delete(n.under, r.TransactionalID)
	if !r.Commit {
		return nil
	}
	if u.Producer != r.ProducerID || u.Epoch != r.ProducerEpoch {
		u = commit{Producer: r.ProducerID, Epoch: r.ProducerEpoch} // it commits rows alone
	}
	text, err := json.Marshal(u)
	if err != nil {
		return err
	}
	dir := filepath.Join(n.dir, commitsFolder)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	path := filepath.Join(dir, fmt.Sprintf("%x", r.TransactionalID))
	if err := os.WriteFile(path+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// complete finishes the commits that were noted and have begun.
func complete(ctx context.Context, dir string, brokers []string, admin *kadm.Client) error {
	dir = filepath.Join(dir, commitsFolder)
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	topics, err := admin.ListTopics(ctx)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		var u commit
		if filepath.Ext(path) == "" {
			if err := json.Unmarshal(text, &u); err != nil {
				return fmt.Errorf("%s cannot be read: %w", path, err)
			}
			if err := u.complete(ctx, topics, brokers, admin); err != nil {
				return err
			}
		}
		if err := os.Remove(path); err != nil {
			return err
		}
	}
	return nil
}

// complete finishes a commit where a partition has its marker.
func (u *commit) complete(ctx context.Context, topics kadm.TopicDetails, brokers []string, admin *kadm.Client) error {
	offsets := map[string]kadm.Offsets{}
	for _, o := range u.Offsets {
		name := o.Topic
		for _, t := range topics {
			if name == "" && t.ID == o.ID {
				name = t.Topic
			}
		}
		of := offsets[o.Group]
		if of == nil {
			of = kadm.Offsets{}
		}
		if of[name] == nil {
			of[name] = map[int32]kadm.Offset{}
		}
		at := kadm.Offset{Topic: name, Partition: o.Partition, At: o.Offset, LeaderEpoch: o.Epoch}
		if o.Metadata != nil {
			at.Metadata = *o.Metadata
		}
		of[name][o.Partition] = at // the last one counts
		offsets[o.Group] = of
	}
	if done, err := committed(ctx, admin, offsets); err != nil || done {
		return err // offsets come last
	}
	marked, lost, err := u.rows(ctx, topics, brokers, admin)
	if err != nil || !marked {
		return err
	}
	client, err := kgo.NewClient(kgo.SeedBrokers(brokers...), kgo.RecordPartitioner(kgo.ManualPartitioner()))
	if err != nil {
		return err
	}
	defer client.Close()
	if err := client.ProduceSync(ctx, lost...).FirstErr(); err != nil {
		return err
	}
	for group, of := range offsets {
		if err := admin.CommitAllOffsets(ctx, group, of); err != nil {
			return err
		}
	}
	return nil
}

// committed says whether groups have these offsets; never where there are none.
func committed(ctx context.Context, admin *kadm.Client, want map[string]kadm.Offsets) (bool, error) {
	for group, offsets := range want {
		has, err := admin.FetchOffsets(ctx, group)
		if err != nil {
			return false, nil // a group that never committed is not known
		}
		for topic, of := range offsets {
			for p, o := range of {
				if got, ok := has.Lookup(topic, p); !ok || got.At != o.At || got.Metadata != o.Metadata {
					return false, nil
				}
			}
		}
	}
	return len(want) > 0, nil
}

// rows reads all partitions: it says whether one has the marker of the commit, and gives the rows where one has not.
func (u *commit) rows(ctx context.Context, topics kadm.TopicDetails, brokers []string, admin *kadm.Client) (marked bool, lost []*kgo.Record, err error) {
	ends, err := admin.ListEndOffsets(ctx, topics.Names()...) // of all rows, committed or not
	if err != nil {
		return false, nil, err
	}
	type part struct {
		topic string
		p     int32
	}
	left, from := map[part]int64{}, map[string]map[int32]kgo.Offset{}
	ends.Each(func(o kadm.ListedOffset) {
		if o.Offset > 0 {
			left[part{o.Topic, o.Partition}] = o.Offset
			if from[o.Topic] == nil {
				from[o.Topic] = map[int32]kgo.Offset{}
			}
			from[o.Topic][o.Partition] = kgo.NewOffset().AtStart()
		}
	})
	if len(left) == 0 {
		return false, nil, nil
	}
	client, err := kgo.NewClient(kgo.SeedBrokers(brokers...), kgo.ConsumePartitions(from), kgo.KeepControlRecords(), kgo.FetchIsolationLevel(kgo.ReadUncommitted()), kgo.FetchMaxWait(100*time.Millisecond))
	if err != nil {
		return false, nil, err
	}
	defer client.Close()
	rows := map[part][]*kgo.Record{}
	for len(left) > 0 {
		fetched := client.PollFetches(ctx)
		if err := fetched.Err(); err != nil {
			return false, nil, err
		}
		fetched.EachRecord(func(r *kgo.Record) {
			at := part{r.Topic, r.Partition}
			if r.Offset+1 >= left[at] {
				delete(left, at)
			}
			switch {
			case r.ProducerID != u.Producer || r.ProducerEpoch != u.Epoch:
			case !r.Attrs.IsControl():
				rows[at] = append(rows[at], &kgo.Record{Topic: r.Topic, Partition: r.Partition, Key: r.Key, Value: r.Value, Headers: r.Headers, Timestamp: r.Timestamp})
			case len(r.Key) >= 4 && binary.BigEndian.Uint16(r.Key[2:]) == uint16(kmsg.ControlRecordKeyTypeCommit):
				marked = true
				delete(rows, at)
			}
		})
	}
	for _, list := range rows {
		lost = append(lost, list...)
	}
	return marked, lost, nil
}
