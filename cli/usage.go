package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"undertide/job"
)

// usageError marks wrong use of a command: it ends with status 2, and says what would be right.
type usageError struct{ error }

// flagFault words what is wrong with a flag.
func flagFault(c *cobra.Command, err error) error {
	if rest := c.Flags().Args(); c.HasSubCommands() && len(rest) > 0 {
		return noCommand(c, rest[0])
	}
	help := "see " + c.CommandPath() + " --help"
	var none *pflag.NotExistError
	var empty *pflag.ValueRequiredError
	var wrong *pflag.InvalidValueError
	switch {
	case errors.As(err, &none):
		name := none.GetSpecifiedName()
		if none.GetSpecifiedShortnames() != "" {
			return usageError{fmt.Errorf("%s has no flag -%s; %s", c.CommandPath(), name, help)}
		}
		var known []string
		c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
		if near := job.Nearest(name, known); near != "" {
			help = "did you mean --" + near + "?"
		}
		return usageError{fmt.Errorf("%s has no flag --%s; %s", c.CommandPath(), name, help)}
	case errors.As(err, &empty):
		of, _ := pflag.UnquoteUsage(empty.GetFlag())
		return usageError{fmt.Errorf("--%s needs a value; write --%[1]s %s", empty.GetFlag().Name, of)}
	case errors.As(err, &wrong):
		return usageError{fmt.Errorf("--%s %s: %s", wrong.GetFlag().Name, wrong.GetValue(), rightValue(wrong.GetFlag(), wrong.Unwrap()))}
	}
	return usageError{fmt.Errorf("%w; %s", err, help)}
}

// rightValue says what a flag takes.
func rightValue(f *pflag.Flag, why error) string {
	switch f.Value.Type() {
	case "int", "int64":
		return "give a whole number"
	case "float64":
		return "give a number"
	case "duration":
		return "give a duration, such as 30s or 5m"
	case "bool":
		return "give true or false, or the flag alone"
	}
	return why.Error()
}

// exclusive refuses that more than one of some flags is given.
func exclusive(c *cobra.Command, names ...string) {
	before := c.PreRunE
	c.PreRunE = func(c *cobra.Command, args []string) error {
		var given, all []string
		for _, n := range names {
			if all = append(all, "--"+n); c.Flags().Changed(n) {
				given = append(given, "--"+n)
			}
		}
		if len(given) > 1 {
			return usageError{fmt.Errorf("%s do not go together; give one of %s", strings.Join(given, " and "), strings.Join(all, ", "))}
		}
		if before != nil {
			return before(c, args)
		}
		return nil
	}
}

// explainArgs makes a wrong number of arguments, or a command that is not there, wrong use; of all commands below one.
func explainArgs(parent *cobra.Command) {
	for _, c := range parent.Commands() {
		explainArgs(c)
		check, takes := c.Args, "no arguments"
		if _, list, some := strings.Cut(c.Use, " "); some {
			takes = list
		}
		c.Args = func(c *cobra.Command, args []string) error {
			wrong := check != nil && check(c, args) != nil
			switch {
			case c.HasSubCommands() && len(args) > 0 && (wrong || check == nil) && takes == "no arguments":
				return noCommand(c, args[0])
			case wrong:
				return usageError{fmt.Errorf("%s takes %s; see %[1]s --help", c.CommandPath(), takes)}
			}
			return nil
		}
	}
}

// noCommand is the fault of a command that is not there.
func noCommand(c *cobra.Command, name string) error {
	var known []string
	for _, sub := range c.Commands() {
		known = append(known, sub.Name())
	}
	remedy := "see " + c.CommandPath() + " --help"
	if n := job.Nearest(name, known); n != "" {
		remedy = "did you mean " + n + "?"
	} else if len(known) < 8 {
		slices.Sort(known)
		remedy = "there are " + strings.Join(known, ", ")
	}
	return usageError{fmt.Errorf("there is no command %s; %s", strings.TrimPrefix(c.CommandPath()+" "+name, c.Root().Name()+" "), remedy)}
}

// strictHelp lets `help` and `completion` refuse what they do not know.
func strictHelp(root *cobra.Command) {
	root.SetHelpCommand(&cobra.Command{
		Use:     "help [COMMAND]",
		Short:   "Help about a command",
		Example: "  undertide help run",
		Run:     func(*cobra.Command, []string) {},
		Args: func(c *cobra.Command, args []string) error {
			of, rest, err := c.Root().Find(args)
			if err != nil || of == root && len(args) > 0 || len(rest) > 0 {
				return noCommand(root, strings.Join(args, " "))
			}
			of.InitDefaultHelpFlag()
			return of.Help()
		},
	})
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		if c.Name() == "completion" {
			c.Args = nil // takes its subcommands alone
			c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
			c.Example = "  undertide completion bash > /etc/bash_completion.d/undertide"
			for _, shell := range c.Commands() {
				shell.Example = "  undertide completion " + shell.Name()
			}
		}
	}
}
