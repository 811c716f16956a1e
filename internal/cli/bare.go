package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"agonometer/internal/api"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/service"
	"agonometer/internal/store"
)

func (a *app) serveCommand() *cobra.Command {
	var opt service.Options
	cmd := &cobra.Command{Use: "serve", Short: "Start the service", Args: cobra.NoArgs,
		Long: `Start the service: it runs contests, keeps the records and serves the console. It listens on loopback unless told
otherwise, and every call needs the token that lies in the data folder. SIGTERM and Ctrl-C end it cleanly; bouts in the
middle of their work are run again when it is started next.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			s, err := a.startService(opt, slog.LevelInfo)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Agonometer serves at %s, data in %s\n", s.URL(), opt.Data)
			fmt.Fprintf(a.out, "Open the console (the link works once): %s\n", s.SignInLink())
			return a.serveUntil(ctx, s)
		}}
	cmd.Flags().StringVar(&opt.Listen, "listen", service.DefaultListen, "address and port to listen on")
	cmd.Flags().StringSliceVar(&opt.AllowHosts, "allow-host", nil, "further host names under which the service answers")
	cmd.Flags().BoolVar(&opt.KeepWorkspaces, "keep-workspaces", false, "keep the workspaces of bouts until pruned")
	cmd.Flags().BoolVar(&opt.Unconfined, "unconfined", false, "run bouts without namespaces, and flag them; for looking into what a tool lacks")
	cmd.PreRunE = func(*cobra.Command, []string) error {
		var err error
		opt.Data, err = a.dataFolder("agonometer")
		return err
	}
	return cmd
}

// startService starts a service in this process.
func (a *app) startService(opt service.Options, level slog.Level) (*service.Server, error) {
	syscall.Umask(0o022)
	opt.Version, opt.Log = Version, a.logger(level)
	return service.Start(opt)
}

// serveUntil serves until the context ends or serving fails.
func (a *app) serveUntil(ctx context.Context, s *service.Server) error {
	var failed error
	select {
	case <-ctx.Done():
		fmt.Fprintln(a.err, "Stopping; what is not finished goes on at the next start.")
	case failed = <-s.Failed():
	}
	return errors.Join(failed, s.Close())
}

func (a *app) validateCommand() *cobra.Command {
	return a.withFormat(&cobra.Command{Use: "validate FILE...", Short: "Check task, contender and contest files; needs no service", Args: cobra.MinimumNArgs(1),
		Long: "Check files with the same code as the service, and list everything that is wrong at once. A contest file is checked with all\nthat it names. Exit status 0: all are right; 1: something is wrong.",
		RunE: func(_ *cobra.Command, args []string) error {
			tmp, err := os.MkdirTemp("", "agonometer-validate-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(tmp)
			git, err := workspace.NewGit(tmp)
			if err != nil {
				return err
			}
			repos := &workspace.Repositories{Git: git, Mirrors: tmp}
			problems := specfile.Problems{}
			for _, name := range args {
				b, kind, err := gather(name)
				if err != nil {
					problems = append(problems, specfile.Problem{File: name, Found: err.Error(), Expected: "a file that can be read"})
					continue
				}
				for file, data := range b.Files {
					if contest.KindOf(file, data) != contest.KindTask {
						continue
					}
					if t, _ := task.Parse(file, file, data, b.Files); t.Drafted() {
						fmt.Fprintf(a.err, "Warning: %s: %s.\n", filepath.Base(file), task.DraftedWords)
					}
				}
				if kind != contest.KindContest {
					found := contest.LoadOne(b, kind, repos)
					for i := range found {
						found[i].File = name
					}
					problems = append(problems, found...)
					continue
				}
				_, err = contest.Load(b, repos)
				var found specfile.Problems
				if errors.As(err, &found) {
					dir := filepath.Dir(name)
					for i := range found {
						if !filepath.IsAbs(found[i].File) {
							found[i].File = filepath.Join(dir, found[i].File)
						}
					}
					problems = append(problems, found...)
				} else if err != nil {
					return err
				}
			}
			if a.format == formatTable {
				for _, p := range problems {
					fmt.Fprintln(a.out, visible(p.String()))
				}
				if len(problems) == 0 {
					fmt.Fprintf(a.out, "%s: nothing is wrong.\n", plural(len(args), "file"))
				} else {
					fmt.Fprintf(a.err, "%s in %s.\n", plural(len(problems), "problem"), plural(len(args), "file"))
				}
			} else {
				var lines [][]cell
				for _, p := range problems {
					lines = append(lines, []cell{plain(p.File), plain(fmt.Sprint(p.Line)), plain(p.Key), plain(p.Found), plain(p.Expected)})
				}
				if err := a.rows(a.format, problems, []column{{head: "File"}, {head: "Line", right: true}, {head: "Key"}, {head: "Found"}, {head: "Expected"}}, lines, ""); err != nil {
					return err
				}
			}
			if len(problems) > 0 {
				return silentError{}
			}
			return nil
		}})
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func (a *app) pruneCommand() *cobra.Command {
	return a.withFormat(&cobra.Command{Use: "prune", Short: "Free workspaces and caches that no record needs", Args: cobra.NoArgs,
		Long: "Free start repositories, prepared states and kept workspaces. No record, diff or log is touched; what is freed is made again\nwhen it is needed. While a service runs it is asked to do it, and refuses when a contest is running.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			dir, err := a.dataFolder("agonometer")
			if err != nil {
				return err
			}
			if _, err := os.Stat(dir); err != nil {
				return fmt.Errorf("there is no data folder %s", dir)
			}
			var out api.Pruned
			lock, err := store.Lock(dir)
			var locked *store.LockedError
			switch {
			case errors.As(err, &locked):
				c, err := a.client()
				if err != nil {
					return err
				}
				if out, err = c.Prune(cmd.Context()); err != nil {
					return err
				}
			case err != nil:
				return err
			default:
				defer lock.Close()
				if out, err = service.Prune(dir); err != nil {
					return err
				}
			}
			if a.format == formatJSON {
				return a.json(out)
			}
			fmt.Fprintf(a.out, "Freed %s in %s.\n", humanize.IBytes(uint64(out.Bytes)), plural(out.Folders, "folder"))
			return nil
		}})
}

func (a *app) doctorCommand() *cobra.Command {
	return a.withFormat(&cobra.Command{Use: "doctor", Short: "Say whether the service's machine has what bouts need", Args: cobra.NoArgs,
		Long: "Ask the service whether its machine has what bouts need: git, namespaces, the programs that the known tasks call, and each\ncontender's program. The service's environment counts, not yours. Exit status 1 when something is missing.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.Doctor(cmd.Context())
			if err != nil {
				return err
			}
			return a.report(r)
		}})
}

func (a *app) versionCommand() *cobra.Command {
	return a.withFormat(&cobra.Command{Use: "version", Short: "Say which version this is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.format == formatJSON {
				return a.json(map[string]string{"version": Version})
			}
			_, err := fmt.Fprintln(a.out, "agonometer "+Version)
			return err
		}})
}

func (a *app) consoleCommand() *cobra.Command {
	return &cobra.Command{Use: "console", Short: "Print a one-time link that opens the web console", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			link, err := c.SignInLink(cmd.Context())
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(a.out, link.URL)
			return err
		}}
}
