package file

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/file/objects"
	"undertide/connect/pattern"
	"undertide/connect/settings"
	"undertide/core/row"
	"undertide/disk"
)

// Kind are files, growing files, and standard input and output.
var Kind = &connect.Kind{
	Name: "file", Noun: "file", About: "files of the machine that the job runs on, as they are or as they grow",
	SourceExample: connect.Example{Name: "file", About: "the lines of a file, as it grows",
		Lines: "via: file\nwith: {path: /var/data/NAME.ndjson, follow: true}"},
	Source:    func() connect.Source { return &source{} },
	Reference: func() connect.Source { return &source{} },
	Sink:      func() connect.Sink { return &sink{} },
	Link:      func() connect.Link { return &Link{} },
	AtPath:    func(path string) connect.Source { return &source{pattern: path, named: true} },
	ToPath:    func(path string) connect.Sink { return &sink{Path: settings.PathText(path), named: true} },
	SinkExample: connect.Example{Name: "files", About: "files that appear whole",
		Lines: "via: file\nwith: {path: /var/tmp/NAME/}"},
	ReferenceExample: connect.Example{Name: "file", About: "rows of a file, read whole",
		Lines: "via: file\nwith: {path: /var/lib/NAME.csv}\nfields: {id: string, name: string}\nkey: [id]\nrefresh: 1m"},
}

// source are the settings of files that are read (docs/connectors.md, "file").
type source struct {
	Path  settings.PathText `set:"path,once" about:"One file; - is standard input." hint:"/var/data/events.ndjson"`
	Files settings.PathText `set:"files,once" about:"A pattern; each file is a partition." hint:"/var/data/events-*.ndjson"`
	Grows bool              `set:"follow" about:"Go on reading as the files grow." default:"false"`
	Begin string            `set:"begin,beside" about:"Where a first run starts." choices:"earliest" later:"latest" default:"earliest"`

	Connection *connect.Connection `set:"connection" about:"The store of paths that begin with s3://; other paths need none."`

	files   *disk.Files
	pattern string // of the two
	named   bool   // in place of a document's source: relative to the working folder, and bounded
}

func (s *source) Check(c *connect.Checker) {
	s.files = c.Files
	path, files := c.Has("path"), c.Has("files")
	switch {
	case path && files:
		c.Fault("path and files stand together", "keep path for one file, files for a pattern", "files")
	case !path && !files:
		c.Fault("the file is not named", "add path: events.ndjson, or files: events-*.ndjson")
	}
	s.pattern = string(s.Path)
	if !path {
		s.pattern = string(s.Files)
		if _, err := filepath.Match(s.pattern, ""); err != nil {
			c.Fault("\""+s.pattern+"\" is not a pattern", "use * and ?, and [ ] in pairs", "files")
		}
	}
	checkStore(c, s.Connection, s.pattern)
	switch {
	case isObject(s.pattern) && s.Grows:
		c.Fault("objects do not grow", "leave out follow: those that the pattern finds are read to their end", "follow")
	case s.pattern == "-" && s.Grows:
		c.Fault("standard input cannot be followed", "leave out follow")
	case s.Grows && isPacked(s.pattern):
		c.Fault("a packed file cannot be followed", "leave out follow: it is read to its end", "follow")
	case s.Grows && c.Format != nil && c.Format.Open != nil:
		c.Fault("a file of "+c.Format.Title+" cannot be followed", "leave out follow: it is read to its end", "follow")
	}
}

// checkStore makes sure that a path of a store has one, and no other.
func checkStore(c *connect.Checker, store *connect.Connection, path string) {
	if !isObject(path) {
		if store != nil {
			c.Fault("the path is of this machine, and needs no connection", "begin it with s3:// and a bucket, or leave connection out", "connection")
		}
		return
	}
	if _, _, err := objects.Split(path); err != nil {
		message, remedy, _ := strings.Cut(err.Error(), "; ")
		c.Fault(message, remedy, "path")
	}
	if !c.Has("connection") {
		c.Fault("it is not said which store the path is of", "add connection: and a name of connections", "path")
	}
}

// Stream implements [connect.Streaming], of paths of a store.
func (s *source) Stream() (*connect.Connection, string) { return s.Connection, s.pattern }

// Stream implements [connect.Streaming], of paths of a store.
func (s *sink) Stream() (*connect.Connection, string) { return s.Connection, string(s.Path) }

func (s *source) Reads(f *connect.Format) string {
	if s.Grows {
		return s.pattern + " as it grows, " + f.Name
	}
	return s.pattern + " to its end, " + f.Name
}

func (s *source) Unbounded() bool { return s.Grows }

// Divides implements [connect.Divided]: standard input is read once.
func (s *source) Divides() bool { return s.pattern != "-" }

// Ending gives the name that tells the format.
func (s *source) Ending() string { return cmp.Or(s.pattern, string(s.Path), string(s.Files)) }

// Document says how a document over the file begins.
func (s *source) Document() connect.Origin {
	base := connect.Unpacked(filepath.Base(s.pattern))
	for _, f := range connect.Formats() {
		for _, e := range f.Endings {
			base = strings.TrimSuffix(base, e)
		}
	}
	return connect.Origin{Name: base, Once: true,
		Source: "via: file\nwith: {path: " + connect.Quoted(s.pattern) + "}",
		Sink: func(job, suffix, _ string) string {
			return "via: file\nwith: {path: " + connect.Quoted("out/"+job+"-"+suffix+".ndjson") + "}"
		}}
}

// sink are the settings of files that are written.
type sink struct {
	Path settings.PathText `set:"path,required" missing:"the file is not named" fix:"add path: out.ndjson, or a folder with / at its end" about:"A file, a folder with / at its end, or - for standard output." hint:"/var/data/rows.ndjson"`
	Roll *struct {
		Size  settings.Size `set:"size" about:"At which a file is closed and the next one begun." hint:"64MiB" default:"128MiB"`
		Every time.Duration `set:"every" about:"After which a file is closed, over checkpoints; without it each checkpoint closes all." hint:"10m"`
	} `set:"roll,free" about:"When a file of a folder is closed and the next one begun."`
	Connection *connect.Connection `set:"connection" about:"The store of paths that begin with s3://; other paths need none."`

	files   *disk.Files
	named   bool         // in place of a document's sink: relative to the working folder
	folders pattern.Text // of a path with fields: the folders of rows within the one that has none
}

func (s *sink) Check(c *connect.Checker) {
	s.files = c.Files
	path := s.split(c)
	checkStore(c, s.Connection, path)
	if isObject(path) && !isFolder(string(s.Path)) {
		c.Fault("objects are rolled, since they cannot grow", "end the path with /: s3://bucket/rows/", "path")
	}
	if path != "-" && path != "" && !isFolder(path) && c.Endless {
		c.Warn("one file appears only when the run finishes, and the sources of this job do not end", "end the path with / for a folder of rolled files", "path")
	}
	if s.Roll == nil {
		return
	}
	if !isFolder(string(s.Path)) {
		c.Fault("one file is not rolled", "end the path with / for a folder of rolled files", "roll")
	}
	if s.Roll.Size > 0 && s.Roll.Size < 1<<20 {
		c.Warn("very small files are made", "64MiB and more is usual", "roll", "size")
	}
	switch every := s.Roll.Every; {
	case every < 0 || c.Has("roll", "every") && every == 0:
		c.Fault("a file cannot be closed before it is begun", "give a time such as 10m", "roll", "every")
	case every > 0 && every < time.Minute && c.Endless:
		c.Warn(fmt.Sprintf("every %s makes some %d files a day", row.DurationText(every), int(24*time.Hour/every)), "10m and more is usual", "roll", "every")
	}
}

// split takes the fields out of a path, and gives what stands before them.
func (s *sink) split(c *connect.Checker) string {
	path := string(s.Path)
	i := strings.IndexAny(path, "{}")
	if i < 0 {
		return path
	}
	base := path[:strings.LastIndex(path[:i], "/")+1]
	folders, err := pattern.Parse(strings.TrimSuffix(path[len(base):], "/"))
	switch {
	case err != nil:
		c.Fault(err.Error(), "name fields in braces: out/{window_start:%Y-%m-%d}/", "path")
	case slices.ContainsFunc(strings.Split(folders.String(), "{")[1:], func(s string) bool { field, _, _ := strings.Cut(s, "}"); return strings.Contains(field, "/") }):
		c.Fault("a time's form names one folder", "write each folder by itself: {window_start:%Y}/{window_start:%m}/", "path")
	case !isFolder(path):
		c.Fault("a path with fields names folders, in which files are rolled", "end it with /: out/{gauge}/", "path")
	case base == "" || base == "/" || base == objects.Scheme:
		c.Fault("a path with fields begins with a folder that has none: it holds what was delivered", "write out/"+path, "path")
	case slices.ContainsFunc(strings.Split(folders.String(), "/"), func(name string) bool { return name == "" || name == "." || name == ".." }):
		c.Fault("a folder of the path has no name", "write out/{gauge}/, each folder by a name", "path")
	default:
		if message, remedy := folders.Check(c.Schema, c.Nearest); message != "" && len(c.Schema) > 0 {
			c.Fault(message, remedy, "path")
		}
		s.folders = folders
	}
	if c.Endless && (s.Roll == nil || s.Roll.Every == 0) {
		c.Warn("each checkpoint begins a file for each folder: very small ones", "add roll: {every: 10m}", "path")
	}
	return base
}

// rolled says how files of a folder are made.
func (s *sink) rolled() Rolled {
	r := Rolled{Folders: s.folders}
	if s.Roll != nil {
		r.Size, r.Every = int64(s.Roll.Size), s.Roll.Every
	}
	return r
}

// base is the path up to its folders of fields.
func (s *sink) base() string {
	if s.folders.Empty() {
		return string(s.Path)
	}
	return strings.TrimSuffix(string(s.Path), s.folders.String()+"/")
}

func (s *sink) Atomic() bool { return true }

// Ending gives the name that tells the format.
func (s *sink) Ending() string { return string(s.Path) }

// Target tells files apart; a folder may be shared.
func (s *sink) Target() (string, func(other string) (message, remedy string)) {
	path := string(s.Path)
	switch {
	case isFolder(path):
		return "", nil
	case path == "-":
		return path, func(other string) (string, string) {
			return "sink " + other + " writes standard output too", "give one of them a file"
		}
	}
	return path, func(other string) (string, string) {
		return "sink " + other + " writes the same file", "give each sink a file of its own"
	}
}

func (s *sink) Words(f *connect.Format, _ row.Schema, d connect.Delivering) connect.SinkWords {
	path := string(s.Path)
	switch {
	case path == "-":
		return connect.SinkWords{Writes: f.Title + " to standard output", Delivery: d.AtLeastOnce(false), AsMade: true}
	case s.isSpecial(s.at(d.Dir)):
		return connect.SinkWords{Writes: f.Title + " as they are made to " + path, Delivery: d.AtLeastOnce(false), AsMade: true}
	case isFolder(path) && s.Roll != nil && s.Roll.Every > 0:
		words := connect.SinkWords{Writes: f.Title + " to rolled files in " + path, Delivery: "exactly once: files appear whole, closed after " + row.DurationText(s.Roll.Every) + ", with the checkpoint that follows"}
		if !d.Kept {
			words.Delivery = "files appear whole, closed after " + row.DurationText(s.Roll.Every) + "; without checkpoints a run that is started again makes all rows again, into further files"
		}
		return words
	case isFolder(path) && !d.Kept:
		return connect.SinkWords{Writes: f.Title + " to rolled files in " + path, Delivery: "files appear whole, every " + row.DurationText(d.Every) + "; without checkpoints a run that is started again makes all rows again, into further files"}
	case isFolder(path):
		return connect.SinkWords{Writes: f.Title + " to rolled files in " + path, Delivery: d.WithCheckpoints() + ", as whole files", Rolls: true}
	case !d.Kept:
		return connect.SinkWords{Writes: f.Title + " to " + path, Delivery: "the file appears when the run finishes, and replaces the one before; without checkpoints a run that is started again begins it anew", AsMade: true}
	}
	return connect.SinkWords{Writes: f.Title + " to " + path, Delivery: "exactly once: aside as .part, cut back to the checkpoint on resume, renamed when the run finishes", AsMade: true}
}

// isSpecial says whether a path is that of a pipe or device, which takes rows as they are made.
func (s *sink) isSpecial(path string) bool {
	st, err := s.files.Stat(path)
	return err == nil && !st.Mode().IsRegular() && !st.IsDir()
}

// at gives the path as the working folder sees it.
func (s *sink) at(dir string) string {
	path := s.base()
	if s.named || path == "-" || filepath.IsAbs(path) || isObject(path) {
		return path
	}
	folder := isFolder(path)
	if path = filepath.Join(dir, path); folder {
		path += "/"
	}
	return path
}

// sorted gives paths in byte order, each once.
func sorted(paths []string) []string {
	slices.Sort(paths)
	return slices.Compact(paths)
}
