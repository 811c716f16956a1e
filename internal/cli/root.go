// Package cli is the command-line client: Cobra commands that read flags, call
// the service through its client, and print. Commands about records touch no
// files; only the bare verbs do.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"agonometer/internal/client"
	"agonometer/internal/service"
)

// Version is set by the linker for releases.
var Version = "0.1.0-dev"

// The exit statuses of the program.
const (
	ExitOK    = 0
	ExitError = 1
	ExitUsage = 2
)

// app is what all commands share.
type app struct {
	out, err io.Writer
	in       io.Reader
	color    bool
	data     string
	service  string
	format   format
	prices   string
}

// usageError is a mistake in how the program was called.
type usageError struct{ err error }

func (e usageError) Error() string { return e.err.Error() }

// silentError ends with exit status 1 when everything has been said already.
type silentError struct{}

func (silentError) Error() string { return "" }

// Main runs the program and returns its exit status.
func Main(ctx context.Context, args []string, in io.Reader, out, errs io.Writer) int {
	a := &app{out: out, err: errs, in: in, format: formatTable}
	a.color = isTerminal(out) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return ExitOK
	case errors.Is(err, silentError{}):
		return ExitError
	case errors.As(err, &usage) || strings.HasPrefix(err.Error(), "unknown command") || strings.HasPrefix(err.Error(), "required flag"):
		fmt.Fprintln(errs, "agonometer: "+err.Error())
		fmt.Fprintln(errs, "For help: agonometer --help, or COMMAND --help")
		return ExitUsage
	case errors.Is(err, context.Canceled):
		return ExitError
	}
	fmt.Fprintln(errs, "agonometer: "+visible(err.Error()))
	return ExitError
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "agonometer",
		Short: "Compare coding assistants on changes in your own repositories",
		Long: `Agonometer runs coding assistants on real changes in real repositories, checks
what each one produced with the project's own build and tests, and compares
success, elapsed time and the size of the change.

A service runs the contests and keeps the records; the commands below talk to it.

  agonometer demo                  see it work on a made-up port, in two minutes
  agonometer serve                 start the service
  agonometer contest start FILE    start a contest
  agonometer contest standings     who succeeded, how long it took, how large the change was`,
		SilenceUsage:      true,
		SilenceErrors:     true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: false},
		RunE: func(cmd *cobra.Command, _ []string) error {
			return cmd.Help()
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	flags := root.PersistentFlags()
	flags.StringVar(&a.data, "data", "", "the data folder (AGONOMETER_DATA; default "+shownDefault()+")")
	flags.StringVar(&a.service, "service", "", "the service's address (AGONOMETER_SERVICE; default: what the data folder says, or http://"+service.DefaultListen+")")
	root.AddCommand(a.serveCommand(), a.demoCommand(), a.doctorCommand(), a.validateCommand(), a.pruneCommand(), a.versionCommand(), a.consoleCommand(),
		a.standInCommand(), a.taskCommand(), a.contenderCommand(), a.contestCommand(), a.boutCommand(), a.handCommand())
	wrapArgs(root)
	return root
}

// wrapArgs makes every wrong number of arguments a usage error, and a noun
// without a verb a help text.
func wrapArgs(cmd *cobra.Command) {
	if check := cmd.Args; check != nil {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return usageError{fmt.Errorf("%w\nUsage: %s", err, cmd.UseLine())}
			}
			return nil
		}
	}
	for _, sub := range cmd.Commands() {
		wrapArgs(sub)
	}
}

// noun is a command that only holds verbs.
func noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: name, Short: short, Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usageError{fmt.Errorf("unknown command %q for %q", args[0], cmd.CommandPath())}
			}
			return cmd.Help()
		}}
	cmd.AddCommand(verbs...)
	return cmd
}

func (a *app) withFormat(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().Var(&a.format, "format", "table, json, csv or markdown")
	_ = cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"table", "json", "csv", "markdown"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func dataHome() string {
	if dir := os.Getenv("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return dir
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Join(home, ".local", "share")
}

func shownDefault() string { return "agonometer under XDG_DATA_HOME, or ~/.local/share/agonometer" }

// dataFolder is the data folder that is meant; name is the default's last part.
func (a *app) dataFolder(name string) (string, error) {
	dir := a.data
	if dir == "" {
		dir = os.Getenv("AGONOMETER_DATA")
	}
	if dir == "" {
		home := dataHome()
		if home == "" {
			return "", errors.New("there is no home folder to keep data in; say where with --data DIR")
		}
		dir = filepath.Join(home, name)
	}
	return filepath.Abs(dir)
}

// client makes a client of the service that is meant.
func (a *app) client() (*client.Client, error) {
	data, dataErr := a.dataFolder("agonometer")
	address := a.service
	if address == "" {
		address = os.Getenv("AGONOMETER_SERVICE")
	}
	if address == "" && dataErr == nil {
		if text, err := os.ReadFile(filepath.Join(data, "address")); err == nil {
			address = strings.TrimSpace(string(text))
		}
	}
	if address == "" {
		address = "http://" + service.DefaultListen
	}
	token := os.Getenv("AGONOMETER_TOKEN")
	if token == "" && dataErr == nil {
		text, err := os.ReadFile(filepath.Join(data, "token"))
		switch {
		case err == nil:
			token = strings.TrimSpace(string(text))
		case errors.Is(err, os.ErrNotExist):
			return nil, fmt.Errorf("no service has run with the data folder %s yet, so there is no token; start one with: agonometer serve (or name the folder with --data, or set AGONOMETER_TOKEN)", data)
		default:
			return nil, fmt.Errorf("the token cannot be read: %w", err)
		}
	}
	c, err := client.New(address, token)
	if err != nil || a.prices == "" {
		return c, err
	}
	list, err := os.ReadFile(a.prices)
	if err != nil {
		return nil, fmt.Errorf("the price list: %w", err)
	}
	return c, c.UsePrices(context.Background(), a.prices, list)
}

func (a *app) logger(level slog.Level) *slog.Logger {
	return slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
}

// contestID finds the contest that is meant: by id, by the end of an id (at
// least four characters), by name (the newest), or the newest of all for "".
func contestID(ctx context.Context, c *client.Client, given string) (string, error) {
	all, err := c.Contests(ctx)
	if err != nil {
		return "", err
	}
	if len(all) == 0 {
		return "", errors.New("there is no contest yet; start one with: agonometer contest start FILE")
	}
	if given == "" {
		return all[0].ID, nil
	}
	for _, one := range all {
		if one.ID == strings.ToUpper(given) {
			return one.ID, nil
		}
	}
	for _, one := range all {
		if one.Name == given {
			return one.ID, nil
		}
	}
	ids := make([]string, len(all))
	for i, one := range all {
		ids[i] = one.ID
	}
	return byEnding(ids, given, "contest")
}

func byEnding(ids []string, given, what string) (string, error) {
	var found []string
	if len(given) >= 4 {
		for _, id := range ids {
			if strings.HasSuffix(id, strings.ToUpper(given)) {
				found = append(found, id)
			}
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return "", fmt.Errorf("there is no %s %q; the list is: agonometer %s list", what, given, what)
	}
	return "", fmt.Errorf("%d %ss end in %q; give more of the id", len(found), what, given)
}

func boutID(ctx context.Context, c *client.Client, given string) (string, error) {
	if len(given) == 26 {
		return strings.ToUpper(given), nil
	}
	all, err := c.Bouts(ctx, client.BoutFilter{})
	if err != nil {
		return "", err
	}
	ids := make([]string, len(all))
	for i, one := range all {
		ids[i] = one.ID
	}
	return byEnding(ids, given, "bout")
}
