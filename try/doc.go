// Package try runs documents on events at hand and delivers nothing: a sample of each source ([Rehearse]), events given
// one by one ([Play]), the document's own examples ([Examples]); and it tells what a sample's events decode to. It goes
// through the same engine as a run (package run), over sources in memory.
package try
