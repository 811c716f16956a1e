package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"agonometer/demo"
	"agonometer/internal/api"
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
Then one task is worked in four ways: over a protocol, in a terminal that asks, by hand and elsewhere; what a person would do
there is done by scripted calls of the real commands.
With --contest ways it is that alone, with --contest quick one task, once each.
Nothing is needed but git, Go and Node, whose projects the contest builds and tests. The data folder is
agonometer-demo beside the usual one, unless --data names another.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			var err error
			if opt.Data, err = a.dataFolder("agonometer-demo"); err != nil {
				return err
			}
			list, ok := map[string][]string{"port-averil": {demo.Contest, demo.Ways}, "quick": {demo.Quick}, "ways": {demo.Ways}}[which]
			if !ok {
				return usageError{fmt.Errorf("there is no demo contest %q; there are port-averil, ways and quick", which)}
			}
			return a.demo(ctx, opt, list, once)
		}}
	cmd.Flags().StringVar(&opt.Listen, "listen", service.DefaultListen, "address and port to listen on")
	cmd.Flags().StringVar(&which, "contest", "port-averil", "port-averil, ways (the four ways alone), or quick (one task, well under 20 seconds)")
	cmd.Flags().BoolVar(&once, "once", false, "end when the contest has ended")
	return cmd
}

func (a *app) demo(ctx context.Context, opt service.Options, contests []string, once bool) error {
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
	for i, file := range contests {
		link := ""
		if i == 0 && !once {
			link = s.SignInLink()
		}
		if err := a.demoContest(ctx, c, dir, file, link); err != nil {
			if errors.Is(err, silentError{}) {
				closed = true
				return errors.Join(s.Close(), err)
			}
			return err
		}
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

// demoContest runs one contest of the demo and shows its standings.
func (a *app) demoContest(ctx context.Context, c *client.Client, dir, file, link string) error {
	b, _, err := gather(filepath.Join(dir, file))
	if err != nil {
		return err
	}
	plan, err := c.PlanContest(ctx, b, nil)
	if err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	a.plan(plan)
	if file != demo.Ways {
		fmt.Fprintln(a.out, "The first bouts wait while each repository is prepared: caches are warmed once, which can take half a minute.")
	}
	d, err := c.StartContest(ctx, b, nil)
	if err != nil {
		return err
	}
	if link != "" {
		fmt.Fprintf(a.out, "Watch it in the console (the link works once): %s\n", link)
	}
	fmt.Fprintln(a.out)
	if file != demo.Ways {
		return a.watch(ctx, c, d)
	}
	p := newProgress(a, d)
	err = c.Follow(ctx, d.ID, d.LastEventID, p.take)
	p.close()
	if err != nil {
		return err
	}
	if err := a.demoByHand(ctx, dir, d.ID); err != nil {
		return err
	}
	if d, err = c.Contest(ctx, d.ID); err != nil {
		return err
	}
	return a.watch(ctx, c, d)
}

// demoByHand does what a person would do: the bouts by hand, and one that was made
// elsewhere, by the real commands.
func (a *app) demoByHand(ctx context.Context, dir, contestID string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	fmt.Fprintln(a.out, "\nThe rest is a person's work. It is done by these commands; where the tool would edit, a patch is applied:")
	call := func(args ...string) ([]byte, error) {
		shown := make([]string, len(args))
		for i, arg := range args {
			if shown[i] = arg; strings.ContainsAny(arg, " \n") {
				shown[i] = strconv.Quote(arg)
			}
			shown[i] = strings.ReplaceAll(shown[i], dir+"/", "")
		}
		fmt.Fprintf(a.out, "  agonometer %s\n", strings.Join(shown, " "))
		cmd := exec.CommandContext(ctx, self, append(args, "--format", "json", "--data", filepath.Dir(dir))...)
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		if err != nil {
			return out, fmt.Errorf("agonometer %s: %w: %s", strings.Join(args[:2], " "), err, strings.TrimSpace(errs.String()))
		}
		return out, nil
	}
	work := func(args ...string) (h api.Hand, err error) {
		out, err := call(args...)
		if err == nil {
			err = json.Unmarshal(out, &h)
		}
		return h, err
	}
	patch := func(h api.Hand, name string, back bool) error {
		text, err := fs.ReadFile(demo.Playbooks(), "ledger/"+name+".patch")
		if err != nil {
			return err
		}
		args := []string{"apply"}
		if back {
			args = append(args, "-R")
		}
		cmd := exec.CommandContext(ctx, "git", append(args, "-")...)
		cmd.Dir, cmd.Stdin = h.Workspace, bytes.NewReader(text)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git apply: %w: %s", err, out)
		}
		return nil
	}
	contest := shortID(contestID)
	// The first bout: the tool waits and nobody notices, its first result fails, a piece of
	// information helps, and the person has the last word.
	h, err := work("hand", "start", "--contest", contest, "--worker", "the lamp warden", "--familiarity", "first week", "--only-prepare")
	if err != nil {
		return err
	}
	id := shortID(h.Bout.ID)
	steps := []func() error{
		func() error { _, err := work("hand", "begin", id); return err },
		func() error { return patch(h, "hasty", false) },
		func() error { _, err := work("hand", "mark", id, "permission"); return err },
		func() error { _, err := work("hand", "mark", id, "waiting", "--at", "sign"); return err },
		func() error { _, err := work("hand", "back", id, "waiting"); return err },
		func() error { _, err := work("hand", "finish", id); return err },
		func() error { _, err := work("hand", "begin", id); return err },
		func() error {
			_, err := work("hand", "mark", id, "correction", "information", "--words", "Logs from before must get their checksums first, and verify names the first wrong line.")
			return err
		},
		func() error { return errors.Join(patch(h, "hasty", true), patch(h, "careful", false)) },
		func() error { _, err := work("hand", "mark", id, "editing"); return err },
		func() error {
			name := filepath.Join(h.Workspace, "README.md")
			text, err := os.ReadFile(name)
			if err == nil {
				err = os.WriteFile(name, append(text, "\nAsk the lamp warden before you correct an entry of another keeper.\n"...), 0o644)
			}
			return err
		},
		func() error { _, err := work("hand", "back", id, "editing"); return err },
		func() error {
			_, err := work("hand", "used", id, "--before", "12.3", "--after", "14.1", "--of", "20 AVM", "--model", "spring-tide")
			return err
		},
		func() error { _, err := work("hand", "finish", id); return err },
		// The second one is right the first time, by other words than the brief's.
		func() (err error) {
			h, err = work("hand", "start", "--contest", contest, "--worker", "the lamp warden", "--familiarity", "first week", "--only-prepare")
			id = shortID(h.Bout.ID)
			return err
		},
		func() error {
			_, err := work("hand", "begin", id, "--words", h.Words+"\n\nAsk before you touch anything outside src and test.")
			return err
		},
		func() error { return patch(h, "careful", false) },
		func() error { _, err := work("hand", "mark", id, "permission"); return err },
		func() error {
			_, err := work("hand", "used", id, "--before", "14.1", "--after", "15.0", "--of", "20 AVM", "--model", "spring-tide")
			return err
		},
		func() error { _, err := work("hand", "finish", id); return err },
		func() error {
			text, err := fs.ReadFile(demo.Playbooks(), "ledger/lucky.patch")
			if err != nil {
				return err
			}
			name := filepath.Join(dir, "stint.patch")
			if err := os.WriteFile(name, text, 0o644); err != nil {
				return err
			}
			_, err = call("bout", "import", "--contest", contest, "--task", "ledger", "--contender", "stint", "--patch", name, "--wording", "short", "--took", "14m", "--spent", "0.42 AVM", "--notes", "came back from a server as a patch")
			return err
		},
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
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
	var protocol, asks, version bool
	cmd := &cobra.Command{Use: "stand-in NAME", Short: "Be one of the demo's simulated tools", Args: cobra.ExactArgs(1), Hidden: true,
		Long: "Be one of the demo's simulated tools: work on a brief, from a file or from standard input, in the present folder.",
		RunE: func(_ *cobra.Command, args []string) error {
			character, err := standin.Find(args[0])
			if err != nil {
				return usageError{err}
			}
			if version {
				fmt.Fprintf(a.out, "%s 1.2 (stand-in)\n", character.Name)
				return nil
			}
			run := standin.Run{Character: character, Seed: seed, Out: a.out, Service: models, Model: model, Home: os.Getenv("HOME"), Answer: answer, Asks: asks, In: a.in}
			if run.Dir, err = os.Getwd(); err != nil {
				return err
			}
			if models == "" {
				return usageError{errors.New("where is the model service? Say it with --models or SHOREBIRD_MODELS; one is started with: agonometer stand-in models")}
			}
			if protocol {
				ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
				defer stop()
				standin.Speak(ctx, run, a.in, a.out)
				return nil
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
			run.Brief = string(brief)
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
	cmd.Flags().BoolVar(&protocol, "protocol", false, "speak the Agent Client Protocol over standard input and output")
	cmd.Flags().BoolVar(&asks, "asks", false, "ask on the terminal before the first edit")
	cmd.Flags().BoolVar(&version, "version", false, "say its version")
	cmd.AddCommand(a.modelsCommand())
	return cmd
}
