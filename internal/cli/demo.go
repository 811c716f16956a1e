package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"agonometer/demo"
	"agonometer/internal/client"
	"agonometer/internal/service"
	"agonometer/internal/standin"
)

func (a *app) demoCommand() *cobra.Command {
	var opt service.Options
	var once bool
	which := "port-averil"
	cmd := &cobra.Command{Use: "demo", Short: "Run a contest on a made-up port, and serve the console", Args: cobra.NoArgs,
		Long: `Run the contest of Port Averil, a made-up port: three stand-in tools on six tasks in two small repositories, twice each.
With --contest quick it is one task, once each.
Nothing is needed but git, Go and Node, whose projects the contest builds and tests. The data folder is
agonometer-demo beside the usual one, unless --data names another.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			var err error
			if opt.Data, err = a.dataFolder("agonometer-demo"); err != nil {
				return err
			}
			file, ok := map[string]string{"port-averil": demo.Contest, "quick": demo.Quick}[which]
			if !ok {
				return usageError{fmt.Errorf("there is no demo contest %q; there are port-averil and quick", which)}
			}
			return a.demo(ctx, opt, file, once)
		}}
	cmd.Flags().StringVar(&opt.Listen, "listen", service.DefaultListen, "address and port to listen on")
	cmd.Flags().StringVar(&which, "contest", "port-averil", "port-averil, or quick: one task, well under 20 seconds")
	cmd.Flags().BoolVar(&once, "once", false, "end when the contest has ended")
	return cmd
}

func (a *app) demo(ctx context.Context, opt service.Options, file string, once bool) error {
	for program, why := range map[string]string{"git": "workspaces are made with it", "go": "tidebook is a Go project", "node": "lampkeeper is a Node project"} {
		if _, err := exec.LookPath(program); err != nil {
			return fmt.Errorf("the program %s is not on the PATH (%s); install it and run the demo again", program, why)
		}
	}
	git, err := exec.LookPath("git")
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	dir := filepath.Join(opt.Data, "demo")
	fmt.Fprintf(a.out, "Port Averil is being made in %s ...\n", dir)
	if err := demo.Unpack(ctx, dir, self, git); err != nil {
		return err
	}
	s, err := a.startService(opt, slog.LevelWarn)
	var busy *net.OpError
	if once && errors.As(err, &busy) && opt.Listen == service.DefaultListen {
		// Nobody is told the address of a demo that ends by itself.
		opt.Listen = "127.0.0.1:0"
		s, err = a.startService(opt, slog.LevelWarn)
	}
	if err != nil {
		return err
	}
	closed := false
	defer func() {
		if !closed {
			_ = s.Close()
		}
	}()
	c, err := client.New(s.URL(), s.Token())
	if err != nil {
		return err
	}
	b, _, err := gather(filepath.Join(dir, file))
	if err != nil {
		return err
	}
	plan, err := c.PlanContest(ctx, b, nil)
	if err != nil {
		return err
	}
	a.plan(plan)
	fmt.Fprintln(a.out, "The first bouts wait while each repository is prepared: caches are warmed once, which can take half a minute.")
	d, err := c.StartContest(ctx, b, nil)
	if err != nil {
		return err
	}
	if !once {
		fmt.Fprintf(a.out, "Watch it in the console (the link works once): %s\n", s.SignInLink())
	}
	fmt.Fprintln(a.out)
	if err := a.watch(ctx, c, d); err != nil {
		if errors.Is(err, silentError{}) {
			closed = true
			return errors.Join(s.Close(), err)
		}
		return err
	}
	if once {
		closed = true
		return s.Close()
	}
	fmt.Fprintf(a.out, "\nLook further, in another terminal:\n  %s bout list --data %s\n  %s bout show BOUT --data %s\n", os.Args[0], opt.Data, os.Args[0], opt.Data)
	fmt.Fprintf(a.out, "The console (the link works once): %s\nCtrl-C ends the service.\n", s.SignInLink())
	closed = true
	return a.serveUntil(ctx, s)
}

func (a *app) standInCommand() *cobra.Command {
	var briefFile, answer string
	var seed uint64
	var scale float64
	cmd := &cobra.Command{Use: "stand-in NAME", Short: "Be one of the demo's simulated tools", Args: cobra.ExactArgs(1), Hidden: true,
		Long: "Be one of the demo's simulated tools: work on a brief, from a file or from standard input, in the present folder.",
		RunE: func(_ *cobra.Command, args []string) error {
			character, err := standin.Find(args[0])
			if err != nil {
				return usageError{err}
			}
			var brief []byte
			if briefFile != "" {
				brief, err = os.ReadFile(briefFile)
			} else {
				brief, err = io.ReadAll(io.LimitReader(a.in, 1<<20))
			}
			if err != nil {
				return err
			}
			dir, err := os.Getwd()
			if err != nil {
				return err
			}
			run := standin.Run{Character: character, Brief: string(brief), Seed: seed, Dir: dir, Out: a.out, Playbooks: demo.Playbooks(), Scale: scale,
				Home: os.Getenv("HOME"), Answer: answer}
			if standin.Main(run) != 0 {
				return silentError{}
			}
			return nil
		}}
	cmd.Flags().StringVar(&briefFile, "brief", "", "a file with the brief; default: standard input")
	cmd.Flags().StringVar(&answer, "answer", "", "a file for the closing message; default: standard output")
	cmd.Flags().Uint64Var(&seed, "seed", 1, "what it does follows from this")
	cmd.Flags().Float64Var(&scale, "scale", 1, "stretches all pauses")
	return cmd
}
