package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

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
		Long: `Run the contest of Port Averil, a made-up port: three stand-in tools with two stand-in models on six tasks in two
small repositories, twice each.
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
	models, stopModels, err := a.startModels(modelsAt, &standin.Service{Playbooks: demo.Playbooks(), Scale: 1, Refuses: demoRefuses})
	if err != nil { // the usual port is taken: any other will do
		models, stopModels, err = a.startModels("127.0.0.1:0", &standin.Service{Playbooks: demo.Playbooks(), Scale: 1, Refuses: demoRefuses})
	}
	if err != nil {
		return err
	}
	defer stopModels()
	if err := demo.Unpack(ctx, dir, self, models, git); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "A stand-in model service listens at %s\n", models)
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

// modelsAt is where the demo's model service listens unless that is taken.
const modelsAt = "127.0.0.1:7418"

// demoRefuses is the share of the demo's conversations that are refused once.
const demoRefuses = 0.12

// startModels starts a stand-in model service; its address is returned with what ends it.
func (a *app) startModels(listen string, s *standin.Service) (string, func(), error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return "", nil, fmt.Errorf("the model service cannot listen on %s: %w (another address: --listen 127.0.0.1:0 takes any free port)", listen, err)
	}
	server := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }() // ends with Close
	return "http://" + l.Addr().String() + "/v1", func() { _ = server.Close() }, nil
}

func (a *app) modelsCommand() *cobra.Command {
	s := &standin.Service{Playbooks: demo.Playbooks()}
	var listen string
	var outage bool
	cmd := &cobra.Command{Use: "models", Short: "Be the demo's simulated model service", Args: cobra.NoArgs,
		Long: `Be the demo's simulated model service: POST /v1/chat/completions (streamed or not), GET /v1/models, and POST /outage with
{"on": true} or {"on": false}. Its models are named after tides; what they know is in the demo's playbooks, and what they
say follows from the conversation and its seed.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			if s.Refuses < 0 || s.Refuses > 1 || s.PerMinute < 0 || s.Scale < 0 {
				return usageError{errors.New("--refuses is a share from 0 to 1; --per-minute and --scale are not below 0")}
			}
			s.Outage(outage)
			address, end, err := a.startModels(listen, s)
			if err != nil {
				return err
			}
			defer end()
			fmt.Fprintf(a.out, "The model service listens at %s\n", address)
			for _, m := range standin.Models() {
				fmt.Fprintf(a.out, "  %-12s %s\n", m.Name, m.About)
			}
			<-ctx.Done()
			return nil
		}}
	cmd.Flags().StringVar(&listen, "listen", modelsAt, "address and port to listen on")
	cmd.Flags().Float64Var(&s.Refuses, "refuses", 0, "the share of conversations with the largest model that are refused once, from 0 to 1")
	cmd.Flags().IntVar(&s.PerMinute, "per-minute", 0, "how many requests each model takes in a minute; 0 for any number")
	cmd.Flags().Float64Var(&s.Scale, "scale", 1, "stretches all pauses")
	cmd.Flags().BoolVar(&outage, "outage", false, "begin with an outage")
	return cmd
}

func (a *app) standInCommand() *cobra.Command {
	var briefFile, answer, models, model string
	var seed uint64
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
			if models == "" {
				return usageError{errors.New("where is the model service? Say it with --models or SHOREBIRD_MODELS; one is started with: agonometer stand-in models")}
			}
			run := standin.Run{Character: character, Brief: string(brief), Seed: seed, Dir: dir, Out: a.out, Service: models, Model: model,
				Home: os.Getenv("HOME"), Answer: answer}
			if standin.Main(run) != 0 {
				return silentError{}
			}
			return nil
		}}
	cmd.Flags().StringVar(&briefFile, "brief", "", "a file with the brief; default: standard input")
	cmd.Flags().StringVar(&answer, "answer", "", "a file for the closing message; default: standard output")
	cmd.Flags().Uint64Var(&seed, "seed", 1, "what it does follows from this")
	cmd.Flags().StringVar(&models, "models", os.Getenv("SHOREBIRD_MODELS"), "the model service's address; default: SHOREBIRD_MODELS")
	cmd.Flags().StringVar(&model, "model", "spring-tide", "the model to ask for")
	cmd.AddCommand(a.modelsCommand())
	return cmd
}
