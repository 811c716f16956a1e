package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"

	acp "github.com/coder/acp-go-sdk"
)

// Speak makes a stand-in tool an agent of the Agent Client Protocol over two streams,
// until its client goes away. r says who it is and where its model service is.
func Speak(ctx context.Context, r Run, in io.Reader, out io.Writer) {
	a := &agent{r: r}
	a.conn = acp.NewAgentSideConnection(a, out, in)
	a.conn.SetLogger(slog.New(slog.DiscardHandler))
	select {
	case <-a.conn.Done():
	case <-ctx.Done():
	}
}

// agent is a stand-in tool as its client sees it: one session.
type agent struct {
	r    Run
	conn *acp.AgentSideConnection

	mu     sync.Mutex
	talk   []message
	cancel context.CancelFunc
	total  usage
	calls  int
}

const sessionID = "shore-1"

func (a *agent) Initialize(context.Context, acp.InitializeRequest) (acp.InitializeResponse, error) {
	return acp.InitializeResponse{ProtocolVersion: acp.ProtocolVersionNumber, AgentInfo: &acp.Implementation{Name: a.r.Character.Name, Version: "1.2"}}, nil
}

func (a *agent) NewSession(context.Context, acp.NewSessionRequest) (acp.NewSessionResponse, error) {
	var models []acp.ModelInfo
	for _, m := range Models() {
		models = append(models, acp.ModelInfo{ModelId: acp.ModelId(m.Name), Name: m.Name})
	}
	return acp.NewSessionResponse{SessionId: sessionID, Models: &acp.SessionModelState{AvailableModels: models, CurrentModelId: acp.ModelId(a.r.Model)}}, nil
}

// UnstableSetSessionModel changes the model that is asked.
func (a *agent) UnstableSetSessionModel(_ context.Context, r acp.UnstableSetSessionModelRequest) (acp.UnstableSetSessionModelResponse, error) {
	for _, m := range Models() {
		if m.Name == string(r.ModelId) {
			a.r.Model = m.Name
			return acp.UnstableSetSessionModelResponse{}, nil
		}
	}
	return acp.UnstableSetSessionModelResponse{}, fmt.Errorf("there is no model %s", r.ModelId)
}

func (a *agent) Cancel(context.Context, acp.CancelNotification) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.cancel != nil {
		a.cancel()
	}
	return nil
}

func (a *agent) Prompt(_ context.Context, p acp.PromptRequest) (acp.PromptResponse, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	a.mu.Lock()
	a.cancel = cancel
	a.mu.Unlock()
	var brief []string
	for _, b := range p.Prompt {
		if b.Text != nil {
			brief = append(brief, b.Text.Text)
		}
	}
	r := a.r
	r.Brief, r.Home, r.Answer, r.hands, r.Out = strings.Join(brief, "\n"), "", "", client{a}, saying{a}
	used, _, err := r.work(ctx, &a.talk)
	a.total.Prompt += used.Prompt
	a.total.Completion += used.Completion
	a.total.Details.Cached += used.Details.Cached
	if ctx.Err() != nil {
		return acp.PromptResponse{StopReason: acp.StopReasonCancelled}, nil
	}
	if err != nil {
		return acp.PromptResponse{}, err
	}
	cached := int(a.total.Details.Cached)
	fresh, out := int(a.total.Prompt)-cached, int(a.total.Completion)
	return acp.PromptResponse{StopReason: acp.StopReasonEndTurn, Usage: &acp.Usage{InputTokens: fresh, CachedReadTokens: &cached, OutputTokens: out, TotalTokens: fresh + cached + out}}, nil
}

var errNotHere = errors.New("a stand-in does not do that")

func (a *agent) Authenticate(context.Context, acp.AuthenticateRequest) (acp.AuthenticateResponse, error) {
	return acp.AuthenticateResponse{}, nil
}
func (a *agent) CloseSession(context.Context, acp.CloseSessionRequest) (acp.CloseSessionResponse, error) {
	return acp.CloseSessionResponse{}, nil
}
func (a *agent) ListSessions(context.Context, acp.ListSessionsRequest) (acp.ListSessionsResponse, error) {
	return acp.ListSessionsResponse{}, errNotHere
}
func (a *agent) ResumeSession(context.Context, acp.ResumeSessionRequest) (acp.ResumeSessionResponse, error) {
	return acp.ResumeSessionResponse{}, errNotHere
}
func (a *agent) SetSessionConfigOption(context.Context, acp.SetSessionConfigOptionRequest) (acp.SetSessionConfigOptionResponse, error) {
	return acp.SetSessionConfigOptionResponse{}, errNotHere
}
func (a *agent) SetSessionMode(context.Context, acp.SetSessionModeRequest) (acp.SetSessionModeResponse, error) {
	return acp.SetSessionModeResponse{}, nil
}

func (a *agent) update(u acp.SessionUpdate) {
	_ = a.conn.SessionUpdate(context.Background(), acp.SessionNotification{SessionId: sessionID, Update: u})
}

// saying sends what the tool prints as messages.
type saying struct{ a *agent }

func (s saying) Write(p []byte) (int, error) {
	s.a.update(acp.UpdateAgentMessageText(string(p)))
	return len(p), nil
}

// client are the hands of a tool that does everything through its client.
type client struct{ a *agent }

func (c client) path(name string) string { return filepath.Join(c.a.r.Dir, filepath.FromSlash(name)) }

func (c client) read(ctx context.Context, name string) ([]byte, error) {
	r, err := c.a.conn.ReadTextFile(ctx, acp.ReadTextFileRequest{SessionId: sessionID, Path: c.path(name)})
	return []byte(r.Content), err
}

func (c client) write(ctx context.Context, name string, data []byte) error {
	_, err := c.a.conn.WriteTextFile(ctx, acp.WriteTextFileRequest{SessionId: sessionID, Path: c.path(name), Content: string(data)})
	return err
}

func (c client) run(ctx context.Context, command []string) ([]byte, error) {
	t, err := c.a.conn.CreateTerminal(ctx, acp.CreateTerminalRequest{SessionId: sessionID, Command: command[0], Args: command[1:]})
	if err != nil {
		return nil, err
	}
	defer func() {
		_, _ = c.a.conn.ReleaseTerminal(context.Background(), acp.ReleaseTerminalRequest{SessionId: sessionID, TerminalId: t.TerminalId})
	}()
	end, err := c.a.conn.WaitForTerminalExit(ctx, acp.WaitForTerminalExitRequest{SessionId: sessionID, TerminalId: t.TerminalId})
	if err != nil {
		return nil, err
	}
	out, err := c.a.conn.TerminalOutput(ctx, acp.TerminalOutputRequest{SessionId: sessionID, TerminalId: t.TerminalId})
	if err == nil && (end.ExitCode == nil || *end.ExitCode != 0) {
		err = errors.New("the command failed")
	}
	return []byte(out.Output), err
}

func (c client) may(ctx context.Context, what string) (bool, error) {
	r, err := c.a.conn.RequestPermission(ctx, acp.RequestPermissionRequest{SessionId: sessionID,
		ToolCall: acp.ToolCallUpdate{ToolCallId: acp.ToolCallId(what), Title: acp.Ptr(what), Kind: acp.Ptr(acp.ToolKindEdit)},
		Options:  []acp.PermissionOption{{OptionId: "yes", Name: "Yes", Kind: acp.PermissionOptionKindAllowOnce}, {OptionId: "no", Name: "No", Kind: acp.PermissionOptionKindRejectOnce}}})
	return err == nil && r.Outcome.Selected != nil && r.Outcome.Selected.OptionId == "yes", err
}

func (c client) begin(kind, title string) func(bool) {
	c.a.mu.Lock()
	c.a.calls++
	id := acp.ToolCallId(fmt.Sprintf("call-%d", c.a.calls))
	c.a.mu.Unlock()
	c.a.update(acp.StartToolCall(id, title, acp.WithStartKind(acp.ToolKind(kind)), acp.WithStartStatus(acp.ToolCallStatusInProgress)))
	return func(ok bool) {
		status := acp.ToolCallStatusCompleted
		if !ok {
			status = acp.ToolCallStatusFailed
		}
		c.a.update(acp.UpdateToolCall(id, acp.WithUpdateStatus(status)))
	}
}
