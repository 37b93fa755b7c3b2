// Package cli is the command line (docs/commands.md). Results go to standard output, words for people
// to standard error. A command has a file of its own; exit statuses are chosen here alone.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"undertide/api"
	"undertide/client"
	"undertide/core/engine"
	"undertide/job"
	"undertide/run"
)

// Exit statuses.
const (
	done          = 0
	failed        = 1
	wrongUse      = 2
	wrongDocument = 3
	unreachable   = 4 // the service
)

// streams are where a command reads and writes.
type streams struct {
	in       io.Reader
	out, err io.Writer
	patience *patience // of who waits; nil where nobody does
}

func (s *streams) say(format string, args ...any) { fmt.Fprintf(s.err, format+"\n", args...) }

// silentError ends with a status whose reason was already written.
type silentError struct{ status int }

func (silentError) Error() string { return "already said" }

// Main runs the command line and gives the exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	s := &streams{in: in, out: out, err: errOut}
	signal.Ignore(syscall.SIGPIPE) // a write gives the error instead, and the run ends quietly
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends the process at once
	p := newPatience(s)
	root := newRoot(s)
	root.PersistentPreRun = p.begin
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	p.stop()
	return status(s, err)
}

// status says what went wrong, in a line, and chooses the exit status.
func status(s *streams, err error) int {
	var silent silentError
	var faults job.Faults
	var usage usageError
	var problem *api.Problem
	switch {
	case err == nil:
		return done
	case errors.As(err, &silent):
		return silent.status
	case errors.As(err, &problem) && problem.Code == api.WrongDocument.Code:
		for _, f := range problem.Faults {
			s.say("%s", f)
		}
		s.say("%s", strings.Replace(countFaults(len(problem.Faults)), "nothing was run", "nothing was saved", 1))
		return wrongDocument
	case errors.Is(err, client.ErrUnreachable):
		s.say("undertide: %s", err)
		return unreachable
	case errors.Is(err, context.Canceled):
		return done // Ctrl-C while something was followed
	case errors.As(err, &faults):
		s.say("%s", faults.Error())
		s.say("%s", countFaults(len(faults)))
		return wrongDocument
	case errors.As(err, &usage), errors.Is(err, run.ErrUsage):
		s.say("undertide: %s", strings.TrimPrefix(err.Error(), run.ErrUsage.Error()+": "))
		return wrongUse
	case errors.Is(err, job.ErrNoDocument):
		s.say("undertide: %s", strings.TrimPrefix(err.Error(), job.ErrNoDocument.Error()+": "))
		return wrongUse
	}
	var panicked *engine.Panic
	if errors.As(err, &panicked) {
		s.say("%s", panicked.Stack)
	}
	s.say("undertide: %s", strings.ReplaceAll(err.Error(), "\n", "; "))
	return failed
}

func countFaults(n int) string {
	if n == 1 {
		return "1 mistake; nothing was run"
	}
	return fmt.Sprintf("%d mistakes; nothing was run", n)
}

// groups are the commands as help lists them, in the order in which one meets them.
var groups = []struct {
	about    string
	commands []func(s *streams) *cobra.Command
}{
	{"A first job", []func(*streams) *cobra.Command{newDemo, newCheck, newRun}},
	{"Look at streams", []func(*streams) *cobra.Command{newTopics, newPeek, newSchemas, newLateness, newSend}},
	{"Build", []func(*streams) *cobra.Command{newRehearse, newConnections, newSecrets, newSources, newTokens}},
	{"Run in the service", []func(*streams) *cobra.Command{newSave, newStart, newStop, newDrain, newRestart, newRespread, newDelete, newVersions, newDiff}},
	{"Watch", []func(*streams) *cobra.Command{newJobs, newShow, newWatch, newRows, newFigures, newAlarms, newNotices, newHistory, newLogs}},
	{"State", []func(*streams) *cobra.Command{newState, newCheckpoints, newPin, newUnpin, newPins}},
	{"The service", []func(*streams) *cobra.Command{newServe, newNodes, newBroker, newVersion}},
	{"People", []func(*streams) *cobra.Command{newSignIn, newSignOut, newMe, newPeople, newOwners, newTrail}},
}

// Commands gives all commands, for who describes them; they read and write nothing.
func Commands() *cobra.Command {
	return newRoot(&streams{in: strings.NewReader(""), out: io.Discard, err: io.Discard})
}

func newRoot(s *streams) *cobra.Command {
	root := &cobra.Command{
		Use:   "undertide",
		Short: "Keyed event-time windows over event streams, exact and explained",
		Long: `Under Tide reads event streams, computes keyed windows in event time with a watermark for
late data, and writes the results. A job is one document.`,
		Example: `  undertide demo                  the harbour: streams, jobs and the console to look around in
  undertide check job.yaml        is a document right, and what would it do?
  undertide run job.yaml          run it here, without a service`,
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.SetIn(s.in)
	root.SetOut(s.out)
	root.SetErr(s.err)
	root.SetFlagErrorFunc(flagFault)
	cobra.EnableCommandSorting = false
	for _, g := range groups {
		id := g.about
		root.AddGroup(&cobra.Group{ID: id, Title: g.about + ":"})
		for _, make := range g.commands {
			c := make(s)
			c.GroupID = id
			root.AddCommand(c)
		}
	}
	last := groups[len(groups)-1].about
	root.SetHelpCommandGroupID(last)
	root.SetCompletionCommandGroupID(last)
	strictHelp(root)
	explainArgs(root)
	root.Args = func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return noCommand(c, args[0])
		}
		return nil
	}
	root.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
	return root
}

// assignments reads repeated NAME=VALUE flags.
func assignments(flag string, given []string, what string) (map[string]string, error) {
	out := map[string]string{}
	for _, g := range given {
		name, v, ok := strings.Cut(g, "=")
		if !ok || name == "" || v == "" {
			return nil, usageError{fmt.Errorf("%s %s is not of the form %s; write %s %s", flag, g, what, flag, what)}
		}
		if _, twice := out[name]; twice {
			return nil, usageError{fmt.Errorf("%s %s is given twice; keep one", flag, name)}
		}
		out[name] = v
	}
	return out, nil
}

// documents completes names of YAML and JSON files.
func documents(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return []string{"yaml", "yml", "json"}, cobra.ShellCompDirectiveFilterFileExt
}
