package service

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"
	"mvdan.cc/sh/v3/syntax"

	"agonometer/internal/api"
	"agonometer/internal/bout/beneath"
	"agonometer/internal/bout/confine"
	"agonometer/internal/bout/drive"
	"agonometer/internal/bout/workspace"
	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/specfile"
	"agonometer/internal/schedule"
	"agonometer/internal/store"
)

// maxRequest bounds the files of a contest as they are sent, in bytes.
const maxRequest = 256 << 20

// read reads a JSON request, strictly.
func (s *Server) read(c *gin.Context, into any) bool {
	dec := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxRequest))
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			s.problem(c, http.StatusRequestEntityTooLarge, "The request is too large", fmt.Sprintf("At most %d bytes are taken.", tooLarge.Limit))
			return false
		}
		s.problem(c, http.StatusBadRequest, "The request cannot be read", err.Error())
		return false
	}
	return true
}

func (s *Server) startContest(c *gin.Context) {
	var in api.StartContest
	if !s.read(c, &in) {
		return
	}
	ctx := c.Request.Context()
	loaded, err := contest.Load(&in.Bundle, s.engine.Repositories)
	var problems specfile.Problems
	if errors.As(err, &problems) {
		s.problem(c, http.StatusUnprocessableEntity, "The files have mistakes", fmt.Sprintf("%s; nothing was started.", count(len(problems), "problem")), problems...)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if in.Seed != nil {
		if *in.Seed < 0 || *in.Seed > specfile.MaxSeed {
			s.problem(c, http.StatusUnprocessableEntity, "The seed is out of range", new(specfile.Seed).Expected())
			return
		}
		seed := specfile.Seed(*in.Seed)
		loaded.Seed = &seed
	}
	if walls := s.engine.Capability.Walls(); loaded.Walls == contest.WallsRequired && walls != confine.FullWalls {
		s.fail(c, &schedule.StateError{Why: "the contest says 'walls: required', and on this machine they are not full - " + walls + ". See: agonometer doctor"})
		return
	}
	if in.DryRun {
		plan, err := s.plan(ctx, loaded)
		if err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusOK, plan)
		return
	}
	drawn := loaded.Seed == nil
	var seed specfile.Seed
	if drawn {
		n, err := rand.Int(rand.Reader, big.NewInt(specfile.MaxSeed))
		if err != nil {
			s.fail(c, err)
			return
		}
		seed = specfile.Seed(n.Int64())
	} else {
		seed = *loaded.Seed
	}
	row, err := s.sched.Create(ctx, loaded, &in.Bundle, seed, drawn)
	if err != nil {
		s.fail(c, err)
		return
	}
	out, err := s.detail(ctx, row.ID, "")
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Location", Prefix+"/contests/"+row.ID)
	c.JSON(http.StatusCreated, out)
}

func (s *Server) plan(ctx context.Context, c *contest.Contest) (*api.Plan, error) {
	plan := &api.Plan{Name: string(c.File.Contest), Title: c.Title, Repeats: c.Repeats, AtOnce: c.AtOnce, Bouts: c.Bouts(), ByHand: c.Bouts() / len(c.Contenders) * handsOf(c.Contenders),
		Confined: s.engine.Capability.Mode == confine.Namespaces, Contenders: []string{}, Remarks: []string{}}
	if c.Seed != nil {
		seed := int64(*c.Seed)
		plan.Seed = &seed
	}
	var unproved, drafted []string
	for _, t := range c.Tasks {
		if t.Drafted() {
			drafted = append(drafted, string(t.Task))
		}
		limits := schedule.Limits(c, t)
		p := api.PlanTask{Task: string(t.Task), Title: t.Title, StartCommit: c.Commits[t.Task], TimeMS: limits.Time.Std().Milliseconds(),
			CheckMS: limits.Check.Std().Milliseconds(), Checks: len(t.Checks), RepairRounds: c.RepairRoundsOf(t), Stages: len(t.Stages), Wordings: wordingNames(t, c.Takes[t.Task])}
		known, _, err := s.store.Known(ctx, p.Task, t.Digest(p.StartCommit))
		if err != nil {
			return nil, err
		}
		p.Proved = string(known)
		switch known {
		case store.ProvedNo:
			unproved = append(unproved, p.Task)
		case store.ProvedChanged:
			plan.Remarks = append(plan.Remarks, "the task "+p.Task+" has changed since it was proved; prove it again: agonometer task prove FILE, or contest start --prove")
		}
		plan.Tasks = append(plan.Tasks, p)
		plan.LongestMS += (p.TimeMS + p.CheckMS*int64(p.Checks)) * int64(len(c.Contenders)*c.Repeats*max(1, len(c.Takes[t.Task])))
	}
	if len(drafted) > 0 {
		plan.Remarks = append(plan.Remarks, draftedWords(drafted))
	}
	if len(unproved) > 0 {
		plan.Remarks = append(plan.Remarks, "nothing has shown yet that these tasks are fair: "+strings.Join(unproved, ", ")+"; prove them with: agonometer task prove FILE, or contest start --prove")
	}
	plan.LongestMS /= int64(c.AtOnce)
	var unmetered []string
	for _, con := range c.Contenders {
		plan.Contenders = append(plan.Contenders, string(con.Contender))
		for _, f := range append(s.needs(con), s.modelFindings(ctx, con)...) {
			switch {
			case f.What == "meter":
				unmetered = append(unmetered, string(con.Contender))
			case f.What == "model service" && f.Level != "ok":
				plan.Remarks = append(plan.Remarks, string(con.Contender)+": its model service does not answer: "+f.Detail)
			case f.Level == "missing", f.What == "network" && f.Level != "ok":
				plan.Remarks = append(plan.Remarks, string(con.Contender)+": "+f.Detail)
			}
		}
	}
	if l := c.File.Limits; len(unmetered) > 0 && (l.Tokens > 0 || l.Spend != nil) {
		plan.Remarks = append(plan.Remarks, "limits of tokens and spend cannot hold for "+strings.Join(unmetered, ", ")+": no meter")
	}
	if len(unmetered) < len(c.Contenders) && len(c.PriceLists.Lists) == 0 {
		plan.Remarks = append(plan.Remarks, "no price list is named (prices), so there will be tokens and no money")
	}
	if plan.ByHand > 0 {
		plan.Remarks = append(plan.Remarks, count(plan.ByHand, "bout")+" left to a person: agonometer hand start --contest ID, when the others have run or beside them")
	}
	if !plan.Confined {
		plan.Remarks = append(plan.Remarks, "bouts run unconfined here ("+s.engine.Capability.Why+")")
	}
	if c.AtOnce > 1 {
		plan.Remarks = append(plan.Remarks, fmt.Sprintf("up to %d bouts run together and are marked, since their times may suffer", c.AtOnce))
	}
	rows, err := s.store.Contests(ctx)
	for _, r := range rows {
		if r.State != store.ContestDone && r.State != store.ContestStopped {
			plan.ContestsAt++
		}
	}
	if plan.ContestsAt > 0 {
		plan.Remarks = append(plan.Remarks, fmt.Sprintf("it waits for %s that came before", count(plan.ContestsAt, "contest")))
	}
	return plan, err
}

func (s *Server) stopContest(c *gin.Context) {
	if err := s.sched.StopContest(c.Request.Context(), c.Param("id")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) stopBout(c *gin.Context) {
	if err := s.sched.StopBout(c.Request.Context(), c.Param("id")); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) version(c *gin.Context) {
	c.JSON(http.StatusOK, api.Version{Version: s.opt.Version, Go: runtime.Version(), System: runtime.GOOS + "/" + runtime.GOARCH})
}

func (s *Server) prune(c *gin.Context) {
	if busy := s.sched.Busy(); busy != "" {
		s.problem(c, http.StatusConflict, busy, "Prune when that has ended; what it uses would be freed under it.")
		return
	}
	out, err := Prune(s.opt.Data)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

// Prune frees what can be made again: start repositories, prepared states,
// mirrors, and workspaces that were kept. No record is touched. The caller owns
// the data folder, and nothing runs.
func Prune(data string) (api.Pruned, error) {
	var out api.Pruned
	for _, dir := range []string{"scratch", "prepared", "starts", "mirrors", "first-uses"} {
		entries, err := os.ReadDir(filepath.Join(data, dir))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return out, err
		}
		for _, e := range entries {
			name := filepath.Join(data, dir, e.Name())
			n, err := workspace.TreeBytes(name)
			if err != nil {
				return out, err
			}
			if err := beneath.RemoveTree(name); err != nil {
				return out, err
			}
			out.Folders++
			out.Bytes += n
		}
	}
	return out, nil
}

// remedies say how common programs are had; others are told plainly.
var remedies = map[string]string{
	"git": "Debian: apt-get install git", "node": "Debian: apt-get install nodejs", "npm": "Debian: apt-get install npm",
	"make": "Debian: apt-get install make", "gcc": "Debian: apt-get install gcc", "cc": "Debian: apt-get install gcc",
	"python3": "Debian: apt-get install python3", "go": "install Go and put its bin folder on the service's PATH",
	"cargo": "Debian: apt-get install cargo", "mvn": "Debian: apt-get install maven",
}

func remedy(program string) string {
	if r, ok := remedies[program]; ok {
		return r
	}
	return "install " + program + ", or put its folder on the PATH of the service (the service's environment counts, not yours)"
}

// programsOf lists the programs that a shell command names: the first word of
// each simple command, where it is a plain word and neither a function of the
// script nor something that the shell or every Unix has. A command that the
// parser does not understand names none.
func programsOf(command string) []string {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(command), "")
	if err != nil {
		return nil
	}
	functions := map[string]bool{}
	var out []string
	syntax.Walk(file, func(n syntax.Node) bool {
		if f, ok := n.(*syntax.FuncDecl); ok {
			functions[f.Name.Value] = true
		}
		return true
	})
	syntax.Walk(file, func(n syntax.Node) bool {
		if c, ok := n.(*syntax.CallExpr); ok && len(c.Args) > 0 {
			// A path inside the repository is the project's own.
			if w := c.Args[0].Lit(); w != "" && (!strings.Contains(w, "/") || filepath.IsAbs(w)) && !functions[w] && !slices.Contains(everywhere, w) && !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
		return true
	})
	return out
}

// everywhere are the shell's own commands and the tools that POSIX asks of every system.
var everywhere = strings.Fields(`. : [ alias bg break cd command continue eval exec exit export false fg getopts hash jobs kill local printf pwd read
	readonly return set shift test times trap true type ulimit umask unalias unset wait awk basename cat chmod cmp comm cp cut date dd diff dirname
	echo env expand expr find fold grep head id join ln ls mkdir mkfifo mktemp mv nl od paste rm rmdir sed seq sh sleep sort split tail tar tee touch tr
	tsort uname uniq wc xargs`)

func (s *Server) doctor(c *gin.Context) {
	ctx := c.Request.Context()
	var out api.Report
	add := func(level, what, detail, remedy string) {
		out.Findings = append(out.Findings, api.Finding{Level: level, What: what, Detail: detail, Remedy: remedy})
	}
	if v, err := s.programVersion(ctx, "git", "--version"); err != nil {
		add("missing", "git", err.Error(), remedy("git"))
	} else {
		add("ok", "git", v, "")
	}
	if mode, why := s.Capability(); mode == string(confine.Namespaces) {
		add("ok", "confinement", "user, mount and PID namespaces work; bouts are confined", "")
		if s.engine.Capability.CutsNetwork {
			add("ok", "network", "judging copies have none, unless a task needs it", "")
		} else {
			add("warning", "network", "it cannot be taken away from judging copies here; verdicts say so", "allow network namespaces (the container's security profile), or run the service as root")
		}
	} else {
		add("warning", "confinement", "bouts run unconfined: "+why, "allow user namespaces (sysctl user.max_user_namespaces, or the container's security profile), or run the service as root")
	}
	if walls := s.engine.Capability.Walls(); walls == confine.FullWalls {
		add("ok", "walls", "full: namespaces, a root and an /etc of their own, no network for judging, a filter of system calls, limits of memory, disk and CPU time", "")
	} else {
		add("warning", "walls", walls+"; contests with 'walls: required' do not start", "see docs/security.md for what each wall needs")
	}
	if free, err := freeBytes(s.opt.Data); err == nil {
		level, todo := "ok", ""
		if free < 2<<30 {
			level, todo = "warning", "make room, or run: agonometer prune"
		}
		add(level, "data folder", fmt.Sprintf("%s, %.1f GiB free", s.opt.Data, float64(free)/(1<<30)), todo)
	}
	tasks, err := s.allTasks(ctx)
	if err != nil {
		s.fail(c, err)
		return
	}
	needed, reads := map[string][]string{}, map[string][]string{}
	var order []string
	for _, t := range tasks {
		programs := programsOf(t.Prepare)
		for _, check := range t.Checks {
			programs = append(programs, programsOf(check.Run)...)
		}
		for _, p := range programs {
			if needed[p] == nil {
				order = append(order, p)
			}
			if !slices.Contains(needed[p], t.Task) {
				needed[p] = append(needed[p], t.Task)
			}
			reads[p] = append(reads[p], t.Reads...)
		}
	}
	slices.Sort(order)
	for _, p := range order {
		flag := "--version"
		if p == "go" {
			flag = "version"
		}
		who := "for task " + strings.Join(needed[p], ", ")
		if path, err := exec.LookPath(p); err != nil {
			add("missing", p, "not on the service's PATH; needed "+who, remedy(p))
		} else if v, err := s.programVersion(ctx, p, flag); err == nil {
			if why := s.failsInside(ctx, p, flag, reads[p]); why != "" {
				add("missing", p, v+" here, and in a bout it does not work ("+why+"); needed "+who, "name the folder that it needs in the task: reads: ["+confine.InstallationOf(path)+"]")
				continue
			}
			add("ok", p, v+", "+who, "")
		} else {
			add("ok", p, path+", "+who, "")
		}
	}
	contenders, err := s.allContenders(ctx)
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, con := range contenders {
		parsed, doc := contender.Parse(con.File, con.File, []byte(con.Source))
		if err := doc.Problems.Err(); err != nil {
			add("missing", "contender "+con.Contender, err.Error(), "mend its file")
			continue
		}
		if schedule.IsElsewhere([]byte(con.Source)) {
			continue
		}
		findings, _ := s.contenderFindings(ctx, parsed)
		for _, f := range findings {
			f.What = "contender " + con.Contender + ": " + f.What
			out.Findings = append(out.Findings, f)
		}
	}
	if len(tasks) == 0 {
		add("warning", "tasks", "no contest has been started yet, so it is not known which compilers are needed", "try: agonometer demo")
	}
	out.OK = !slices.ContainsFunc(out.Findings, func(f api.Finding) bool { return f.Level == "missing" })
	c.JSON(http.StatusOK, out)
}

// programVersion asks one of the machine's own programs for its version.
func (s *Server) programVersion(ctx context.Context, program, flag string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, flag)
	cmd.Env = append(os.Environ(), "PATH="+s.engine.Path, "LC_ALL=C", "GOTOOLCHAIN=local")
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	if err != nil {
		return "", err
	}
	return firstLine(out), nil
}

func firstLine(out []byte) string {
	line, _, _ := bytes.Cut(bytes.TrimSpace(out), []byte("\n"))
	if len(line) > 120 {
		line = line[:120]
	}
	return strings.ToValidUTF8(string(line), "�")
}

// needs tells what a contender's file asks of this machine, without starting anything.
func (s *Server) needs(c *contender.Contender) []api.Finding {
	var out []api.Finding
	add := func(level, what, detail, remedy string) {
		out = append(out, api.Finding{Level: level, What: what, Detail: detail, Remedy: remedy})
	}
	if c.Drive == contender.DriveHand {
		add("ok", "driven", "by hand: a person starts it", "")
	} else if program, err := drive.Program(c, s.engine.Path); err != nil {
		add("missing", "program", err.Error(), remedy(filepath.Base(c.Run[0])))
	} else {
		add("ok", "program", program, "")
	}
	for _, name := range c.KeepEnv {
		if os.Getenv(string(name)) == "" {
			add("missing", "key", string(name)+" is not set in the service's environment", "start the service with "+string(name)+" set")
		} else {
			add("ok", "key", string(name)+" is set", "")
		}
	}
	for _, item := range c.Carry {
		place, err := drive.Place(c, item.From)
		if err == nil {
			_, err = os.Stat(place)
		}
		if err != nil {
			add("missing", "carried state", item.From+" is not there", "sign the tool in on the service's machine, or mend the contender's file")
		} else {
			add("ok", "carried state", item.From, "")
		}
	}
	for _, name := range c.Reads {
		place, err := drive.Place(c, name)
		if err == nil {
			_, err = os.Stat(place)
		}
		if err != nil {
			add("missing", "readable folder", name+" is not there", "mend the contender's file")
		}
	}
	return out
}

// contenderFindings tells what a contender needs, and asks its program for its
// version, in a bout's surroundings and with nothing in them.
func (s *Server) contenderFindings(ctx context.Context, c *contender.Contender) (out []api.Finding, version string) {
	out = append(s.needs(c), s.modelFindings(ctx, c)...)
	if c.Drive == contender.DriveHand || slices.ContainsFunc(out, func(f api.Finding) bool { return f.Level == "missing" }) {
		return out, ""
	}
	version, err := s.startsHere(ctx, c)
	var start *confine.StartError
	var missing *drive.MissingError
	var shake *drive.HandshakeError
	what := "version"
	if c.Drive == contender.DriveACP {
		what = "handshake"
	}
	switch {
	case errors.As(err, &start):
		out = append(out, api.Finding{Level: "missing", What: "start", Detail: "it cannot be started inside a bout: " + start.Why,
			Remedy: "name the folders that it needs under 'reads' in its file"})
	case errors.As(err, &missing), errors.As(err, &shake):
		out = append(out, api.Finding{Level: "missing", What: what, Detail: err.Error()})
	case err != nil:
		out = append(out, api.Finding{Level: "warning", What: what, Detail: err.Error()})
	case version == "" && c.Drive == contender.DriveACP:
		out = append(out, api.Finding{Level: "ok", What: what, Detail: "it shakes hands, and does not tell its version"})
	case version == "":
		out = append(out, api.Finding{Level: "ok", What: what, Detail: "it starts, and does not tell its version (version_command)"})
	case c.Drive == contender.DriveACP:
		out = append(out, api.Finding{Level: "ok", What: what, Detail: "it shakes hands: " + version})
	default:
		out = append(out, api.Finding{Level: "ok", What: what, Detail: version})
	}
	return out, version
}

// modelFindings says whether a contender's model service answers, and whether
// its network can be closed here.
func (s *Server) modelFindings(ctx context.Context, c *contender.Contender) []api.Finding {
	var out []api.Finding
	if m := c.Meter; m != nil {
		u, err := url.Parse(m.Upstream)
		if err != nil {
			return out
		}
		host := u.Host
		if u.Port() == "" {
			host = net.JoinHostPort(u.Hostname(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
		}
		dialer := net.Dialer{Timeout: 3 * time.Second}
		if conn, err := dialer.DialContext(ctx, "tcp", host); err != nil {
			out = append(out, api.Finding{Level: "warning", What: "model service", Detail: err.Error(), Remedy: "start it, or mend meter.upstream; through a proxy it may be reachable all the same"})
		} else {
			conn.Close()
			out = append(out, api.Finding{Level: "ok", What: "model service", Detail: host + " answers; the tool is told to go through the meter"})
		}
	} else if c.Drive == contender.DriveHand {
		out = append(out, api.Finding{Level: "ok", What: "meter", Detail: "none: tokens or money are typed in"})
	} else {
		out = append(out, api.Finding{Level: "warning", What: "meter", Detail: "its tokens are not counted", Remedy: "name its model service under 'meter': see docs/metering.md"})
	}
	switch open := c.Network != contender.MeterOnly; {
	case c.Drive == contender.DriveHand:
	case open:
		out = append(out, api.Finding{Level: "ok", What: "network", Detail: "open: what it looks up is not known"})
	case !s.engine.Capability.CutsNetwork:
		out = append(out, api.Finding{Level: "warning", What: "network", Detail: "meter-only cannot be had on this machine; it stays open", Remedy: "allow network namespaces"})
	default:
		out = append(out, api.Finding{Level: "ok", What: "network", Detail: "meter-only: nothing but its model service can be reached"})
	}
	return out
}

// trialWorld is the surroundings of a bout, with nothing in them; free takes them away.
func (s *Server) trialWorld() (world confine.World, opt workspace.CopyOptions, free func(), err error) {
	dir, err := os.MkdirTemp(s.engine.Scratch(), "trial-")
	if err != nil {
		return world, opt, nil, err
	}
	free = func() { _ = beneath.RemoveTree(dir) }
	world = confine.World{Mode: s.engine.Capability.Mode, Owner: confine.CurrentOwner(), Path: s.engine.Path, Hide: []string{s.opt.Data},
		Workspace: filepath.Join(dir, "workspace"), Home: filepath.Join(dir, "home"), Tmp: filepath.Join(dir, "tmp"), Root: filepath.Join(dir, "root")}
	opt = workspace.CopyOptions{Owned: world.Owner.Root && world.Mode == confine.Namespaces, UID: world.Owner.UID, GID: world.Owner.GID}
	for _, d := range []string{world.Workspace, world.Home, world.Tmp, world.Root} {
		if err := os.Mkdir(d, 0o755); err != nil {
			free()
			return world, opt, nil, err
		}
		if opt.Owned {
			if err := os.Chown(d, opt.UID, opt.GID); err != nil {
				free()
				return world, opt, nil, err
			}
		}
	}
	return world, opt, free, nil
}

// failsInside says why a program that works for the service does not in a bout; "" where
// it does.
func (s *Server) failsInside(ctx context.Context, program, flag string, reads []string) string {
	world, _, free, err := s.trialWorld()
	if err != nil {
		return "" // that the machine's disk is full is said elsewhere
	}
	defer free()
	for _, name := range reads {
		if rest, ok := strings.CutPrefix(name, "~/"); ok {
			home, _ := os.UserHomeDir()
			name = filepath.Join(home, rest)
		}
		world.Reads = append(world.Reads, name)
	}
	out := confine.NewOutput(8 << 10)
	res, err := confine.Run(ctx, world.Spec([]string{program, flag}, map[string]string{"LC_ALL": "C", "GOTOOLCHAIN": "local"}), confine.IO{Stdout: out, Stderr: out}, startTime)
	switch {
	case err != nil:
		return err.Error()
	case res.TimedOut:
		return "it did not end within " + startTime.String()
	case res.Failed():
		return strings.TrimSpace(fmt.Sprintf("exit status %d %s", res.ExitCode, firstLine(out.Bytes())))
	}
	return ""
}

// startsHere starts a contender in a bout's surroundings, with nothing in them, to
// hear its version; over the protocol by shaking hands.
func (s *Server) startsHere(ctx context.Context, c *contender.Contender) (string, error) {
	world, opt, free, err := s.trialWorld()
	if err != nil {
		return "", err
	}
	defer free()
	for _, name := range c.Reads {
		if place, err := drive.Place(c, name); err == nil {
			world.Reads = append(world.Reads, place)
		}
	}
	out := confine.NewOutput(8 << 10)
	h := drive.HandOver{Contender: c, World: world, Output: out, Limit: startTime, MeterURL: "http://127.0.0.1:9/"}
	if err := drive.Carry(c, world.Home, opt, h.Values()); err != nil {
		return "", err
	}
	if c.Drive == contender.DriveACP {
		return drive.Handshake(ctx, h)
	}
	run := c.VersionCommand
	if len(run) == 0 {
		run = []string{c.Run[0], "--version"}
	}
	res, err := drive.Aside(ctx, h, run)
	if err == nil && len(c.VersionCommand) > 0 && (res.Failed() || res.TimedOut) {
		return "", fmt.Errorf("its version_command ended with exit status %d: %s", res.ExitCode, firstLine(out.Bytes()))
	}
	if err != nil || res.Failed() {
		return "", err
	}
	return firstLine(out.Bytes()), nil
}

// startTime is how long a tool may take to tell its version or to shake hands.
const startTime = 15 * time.Second

// trialFindings runs a trial bout.
func (s *Server) trialFindings(ctx context.Context, c *contender.Contender, r *api.Report) {
	t, err := s.engine.Try(ctx, c)
	if err != nil {
		r.Findings = append(r.Findings, api.Finding{Level: "missing", What: "trial bout", Detail: err.Error()})
		return
	}
	ms := t.Elapsed.Milliseconds()
	r.TrialMS = &ms
	if r.Version == "" {
		r.Version = t.Version
	}
	f := api.Finding{Level: "ok", What: "trial bout", Detail: fmt.Sprintf("%s, in %.1f s", t.Words, t.Elapsed.Seconds())}
	if t.Spent.Tokens != nil {
		f.Detail += fmt.Sprintf(", %d tokens", *t.Spent.Tokens)
	}
	if !t.Lit {
		f.Level, f.Remedy = "warning", "look at how it is started (run) and at what it needs; the last that it printed: "+lastWords(t.Log)
	}
	r.Findings = append(r.Findings, f)
}

func lastWords(log []byte) string {
	text := strings.TrimSpace(strings.ToValidUTF8(string(log), "\ufffd"))
	line := []rune(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, text[strings.LastIndexByte(text, '\n')+1:]))
	if len(line) == 0 {
		return "nothing"
	}
	return string(line[:min(len(line), 200)])
}

func (s *Server) checkContender(c *gin.Context) {
	var in api.CheckContender
	if !s.read(c, &in) {
		return
	}
	file, source := "", []byte(nil)
	if in.Bundle != nil {
		file, source = in.Bundle.Main, in.Bundle.Files[in.Bundle.Main]
	} else {
		one, err := s.contenderBySlug(c.Request.Context(), c.Param("slug"))
		if err != nil {
			s.fail(c, err)
			return
		}
		file, source = one.File, []byte(one.Source)
	}
	parsed, doc := contender.Parse(file, file, source)
	if len(doc.Problems) > 0 {
		s.problem(c, http.StatusUnprocessableEntity, "The file has mistakes", "Nothing was checked.", doc.Problems...)
		return
	}
	ctx := c.Request.Context()
	var out api.Report
	out.Findings, out.Version = s.contenderFindings(ctx, parsed)
	bad := func(f api.Finding) bool { return f.Level == "missing" }
	if in.Trial && parsed.Drive != contender.DriveHand && !slices.ContainsFunc(out.Findings, bad) {
		s.trialFindings(ctx, parsed, &out)
	}
	out.OK = !slices.ContainsFunc(out.Findings, bad)
	row := &store.Readiness{Contender: string(parsed.Contender), Digest: parsed.Digest(), OK: out.OK, Version: out.Version, TrialMS: out.TrialMS}
	secrets := drive.Secrets(parsed)
	for i := range out.Findings { // what a tool says of itself may hold its key
		f := &out.Findings[i]
		for _, text := range []*string{&f.Detail, &f.Remedy} {
			if struck := workspace.Strike([]byte(*text), secrets); struck != nil {
				*text = string(struck)
			}
		}
		row.Findings = append(row.Findings, store.Finding(*f))
	}
	if err := s.store.AddReadiness(ctx, row); err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}
