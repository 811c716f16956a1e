package standin

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/bluekeyes/go-gitdiff/gitdiff"
)

// Run is one stand-in tool at work.
type Run struct {
	Character Character
	Brief     string
	Seed      uint64
	// Service is the model service's address; Model the one that is asked for.
	Service, Model string
	// Dir is the workspace.
	Dir string
	Out io.Writer
	// Home is where it remembers the conversation, for a later round; "" remembers nothing.
	Home string
	// Answer is a file, relative to Dir, for its closing message; "" prints it.
	Answer string
	// Asks makes it ask on the terminal before its first edit; the answer is read from In.
	Asks bool
	In   io.Reader
	// hands do what the model asks for; nil does it here.
	hands hands
}

// hands are how a tool reads, writes and runs: by itself, or through its client.
type hands interface {
	read(ctx context.Context, path string) ([]byte, error)
	write(ctx context.Context, path string, data []byte) error
	// run returns what a command printed; an error where it failed.
	run(ctx context.Context, command []string) ([]byte, error)
	// may asks whether something may be done.
	may(ctx context.Context, what string) (bool, error)
	// begin tells that something is begun; its result is told how it ended.
	begin(kind, title string) func(ok bool)
}

// own hands do it here, in the tool's folder.
type own struct {
	r     Run
	asked *bool
}

func (o own) read(_ context.Context, path string) ([]byte, error) {
	return os.ReadFile(filepath.Join(o.r.Dir, filepath.FromSlash(path)))
}

func (o own) write(_ context.Context, path string, data []byte) error {
	name := filepath.Join(o.r.Dir, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, data, 0o644)
}

func (o own) run(ctx context.Context, command []string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Dir = o.r.Dir
	cmd.WaitDelay = time.Second
	return cmd.CombinedOutput()
}

// may asks once on the terminal, where the tool is one that asks.
func (o own) may(_ context.Context, what string) (bool, error) {
	if !o.r.Asks || *o.asked {
		return true, nil
	}
	*o.asked = true
	fmt.Fprintf(o.r.Out, "\x1b[1mMay I %s?\x1b[0m [y/n] ", what)
	answer, err := bufio.NewReader(o.r.In).ReadString('\n')
	if err != nil && answer == "" {
		return false, fmt.Errorf("nobody answers: %w", err)
	}
	return strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y"), nil
}

func (o own) begin(string, string) func(bool) { return func(bool) {} }

// patience is how often a tool asks again when it is refused.
const patience = 6

func (r Run) memoryFile() string { return filepath.Join(r.Home, ".shorebird.json") }

// recall is the conversation of an earlier round.
func (r Run) recall() []message {
	var m []message
	if data, err := os.ReadFile(r.memoryFile()); r.Home != "" && err == nil {
		_ = json.Unmarshal(data, &m)
	}
	return m
}

func (r Run) remember(m []message) error {
	if r.Home == "" {
		return nil
	}
	data, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return os.WriteFile(r.memoryFile(), data, 0o644)
}

var functions = []map[string]any{
	{"type": "function", "function": map[string]any{"name": "list", "description": "List the files of the workspace."}},
	{"type": "function", "function": map[string]any{"name": "read", "description": "Read a file.", "parameters": map[string]any{"type": "object", "properties": map[string]any{"path": map[string]string{"type": "string"}}}}},
	{"type": "function", "function": map[string]any{"name": "edit", "description": "Change or make a file, by a unified diff.", "parameters": map[string]any{"type": "object", "properties": map[string]any{"path": map[string]string{"type": "string"}, "diff": map[string]string{"type": "string"}}}}},
	{"type": "function", "function": map[string]any{"name": "run", "description": "Run a command in the workspace.", "parameters": map[string]any{"type": "object", "properties": map[string]any{"command": map[string]any{"type": "array", "items": map[string]string{"type": "string"}}}}}},
}

// Do works on the brief until the model is done or the context ends.
func (r Run) Do(ctx context.Context) error {
	r.hands = own{r, new(bool)}
	talk := r.recall()
	total, model, err := r.work(ctx, &talk)
	report, _ := json.Marshal(map[string]any{"used": map[string]any{"model": model, "input": total.Prompt, "cached": total.Details.Cached, "output": total.Completion}})
	fmt.Fprintf(r.Out, "%s\n", report)
	return err
}

// work goes on with a conversation by a brief; it returns what that used, and the
// model that was asked last.
func (r Run) work(ctx context.Context, remembered *[]message) (total usage, model string, err error) {
	say := func(format string, args ...any) { fmt.Fprintf(r.Out, format+"\n", args...) }
	first, _, _ := strings.Cut(strings.TrimSpace(r.Brief), "\n")
	say("%s: reading the brief: %s", r.Character.Name, first)
	talk := *remembered
	defer func() { *remembered = talk }()
	if len(talk) == 0 {
		talk = []message{{Role: "system", Content: "You are " + r.Character.Name + ", which changes code. Style: " + string(r.Character.Style) + ". Use the functions; say what you did when you are done."}}
	}
	talk = append(talk, message{Role: "user", Content: r.Brief})
	model = r.Model
	defer func() {
		if r.Character.Forgets {
			total.Prompt -= total.Details.Cached
			total.Details.Cached = 0
		}
	}()
	for {
		m, used, err := r.ask(ctx, &model, talk, say)
		if err != nil {
			return total, model, err
		}
		total.Prompt += used.Prompt
		total.Completion += used.Completion
		total.Details.Cached += used.Details.Cached
		talk = append(talk, *m)
		if m.Content != "" && len(m.Calls) > 0 {
			say("%s", m.Content)
		}
		for _, c := range m.Calls {
			out, err := r.carryOut(ctx, c, say)
			if err != nil {
				return total, model, err
			}
			talk = append(talk, message{Role: "tool", CallID: c.ID, Content: out})
		}
		if err := r.remember(talk); err != nil {
			return total, model, err
		}
		if len(m.Calls) > 0 {
			continue
		}
		if r.Answer != "" {
			return total, model, os.WriteFile(filepath.Join(r.Dir, filepath.FromSlash(r.Answer)), []byte(m.Content+"\n"), 0o644)
		}
		say("%s", m.Content)
		return total, model, nil
	}
}

// ask sends the conversation, and asks again or elsewhere when it is refused.
func (r Run) ask(ctx context.Context, model *string, talk []message, say func(string, ...any)) (*message, usage, error) {
	for try := 0; ; try++ {
		m, used, wait, err := r.once(ctx, *model, talk)
		var refused *refusedError
		if !errors.As(err, &refused) {
			return m, used, err
		}
		say("%s is refused: %s", *model, refused.why)
		if falls := r.Character.Falls; falls != "" && falls != *model {
			say("falling back to %s", falls)
			*model = falls
			continue
		}
		if try == patience {
			return nil, used, err
		}
		t := time.NewTimer(wait)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return nil, used, ctx.Err()
		}
	}
}

type refusedError struct{ why string }

func (e *refusedError) Error() string { return "the model service refuses: " + e.why }

// once is one exchange with the model service.
func (r Run) once(ctx context.Context, model string, talk []message) (*message, usage, time.Duration, error) {
	in := request{Model: model, Messages: talk, Tools: functions, Seed: r.Seed, Stream: r.Character.Streams}
	if in.Stream {
		in.StreamOptions = &struct {
			IncludeUsage bool `json:"include_usage"`
		}{true}
	}
	body, err := json.Marshal(in)
	if err != nil {
		return nil, usage{}, 0, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(r.Service, "/")+"/chat/completions", bytes.NewReader(body))
	if err != nil {
		return nil, usage{}, 0, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", r.Character.Name)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, usage{}, 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		var f failure
		data, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
		_ = json.Unmarshal(data, &f)
		if resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode == http.StatusServiceUnavailable {
			seconds, _ := strconv.ParseFloat(resp.Header.Get("Retry-After"), 64)
			return nil, usage{}, time.Duration(max(seconds, 0.1) * float64(time.Second)), &refusedError{f.Error.Message}
		}
		return nil, usage{}, 0, fmt.Errorf("the model service answers %s: %s", resp.Status, f.Error.Message)
	}
	if in.Stream {
		return streamed(resp.Body)
	}
	var out reply
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil || len(out.Choices) == 0 || out.Choices[0].Message == nil {
		return nil, usage{}, 0, fmt.Errorf("the model service's answer cannot be read: %w", errors.Join(err, io.ErrUnexpectedEOF))
	}
	return out.Choices[0].Message, *out.Usage, 0, nil
}

// streamed puts a streamed reply together.
func streamed(body io.Reader) (*message, usage, time.Duration, error) {
	m := &message{Role: "assistant"}
	var used usage
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok || data == "[DONE]" {
			continue
		}
		var part reply
		if err := json.Unmarshal([]byte(data), &part); err != nil {
			return nil, used, 0, err
		}
		if part.Usage != nil {
			used = *part.Usage
		}
		for _, c := range part.Choices {
			if c.Delta != nil {
				m.Content += c.Delta.Content
				for _, call := range c.Delta.Calls {
					call.Index = nil
					m.Calls = append(m.Calls, call)
				}
			}
		}
	}
	return m, used, 0, lines.Err()
}

// carryOut does what the model asks for, and returns what it is told of it.
func (r Run) carryOut(ctx context.Context, c toolCall, say func(string, ...any)) (string, error) {
	var a arguments
	if err := json.Unmarshal([]byte(c.Function.Arguments), &a); err != nil {
		return "", err
	}
	switch c.Function.Name {
	case "list":
		return r.list()
	case "read":
		end := r.hands.begin("read", "Read "+a.Path)
		data, err := r.hands.read(ctx, a.Path)
		end(err == nil)
		if err != nil {
			return "there is no such file", nil
		}
		say("looked at %s (%d lines)", a.Path, bytes.Count(data, []byte("\n")))
		return string(data), nil
	case "edit":
		return r.edit(ctx, a.Path, a.Diff, say)
	case "run":
		say("running %s", strings.Join(a.Command, " "))
		end := r.hands.begin("execute", "Run "+strings.Join(a.Command, " "))
		out, err := r.hands.run(ctx, a.Command)
		end(err == nil)
		if err != nil {
			say("the tests fail:\n%s", out)
			return "it fails: " + err.Error() + "\n" + tail(out), nil
		}
		say("the tests pass")
		return "it passes\n" + tail(out), nil
	}
	return "there is no such function", nil
}

func tail(b []byte) string { return string(b[max(0, len(b)-2000):]) }

func (r Run) list() (string, error) {
	var b strings.Builder
	err := filepath.WalkDir(r.Dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == ".git" || d.Name() == "node_modules") {
			return fs.SkipDir
		}
		if rel, err := filepath.Rel(r.Dir, name); err == nil && !d.IsDir() && b.Len() < 8000 {
			b.WriteString(filepath.ToSlash(rel) + "\n")
		}
		return nil
	})
	return b.String(), err
}

// edit carries out the change of one file.
func (r Run) edit(ctx context.Context, path, diff string, say func(string, ...any)) (string, error) {
	changes, _, err := gitdiff.Parse(strings.NewReader(diff))
	if err != nil || len(changes) != 1 {
		return "the diff cannot be read", nil
	}
	change := changes[0]
	switch may, err := r.hands.may(ctx, "change "+path); {
	case err != nil:
		return "", err
	case !may:
		return "the user does not allow it", nil
	}
	end := r.hands.begin("edit", "Edit "+path)
	var before []byte
	if !change.IsNew {
		if before, err = r.hands.read(ctx, path); err != nil {
			end(false)
			return "there is no such file", nil
		}
	}
	var after bytes.Buffer
	if err := gitdiff.Apply(&after, bytes.NewReader(before), change); err != nil {
		return "", fmt.Errorf("edit %s: %w", path, err)
	}
	err = r.hands.write(ctx, path, after.Bytes())
	end(err == nil)
	if err != nil {
		return "", err
	}
	verb := "edited"
	if change.IsNew {
		verb = "wrote"
	}
	say("%s %s", verb, path)
	return "done", nil
}

// Main is the stand-in tool as a program: it returns the exit status.
func Main(r Run) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := r.Do(ctx); err != nil {
		fmt.Fprintln(os.Stderr, r.Character.Name+": "+err.Error())
		return 1
	}
	return 0
}
