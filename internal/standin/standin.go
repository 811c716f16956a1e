// Package standin is the simulated tools and the simulated model service that
// ship with Agonometer. A tool is a real program, started like any tool of a
// terminal: it sends the conversation to the model service that it is told of,
// carries out what comes back (list, read, edit, run), and goes on until the
// model is done. The service is a real HTTP server; what its models know is in
// playbooks. All follows from a seed, so that repeats differ and the whole can be
// done again.
package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Character is how a stand-in tool works.
type Character struct {
	Name, About string
	// Style is told to the model, and decides what it makes of a brief.
	Style Style
	// Falls is the model that it falls back to when it is refused; "" waits and asks again.
	Falls string
	// Streams tells whether it wants its replies streamed.
	Streams bool
	// Forgets makes its own report leave out the cached tokens.
	Forgets bool
}

// Style is what a tool's system prompt asks of the model.
type Style string

const (
	Careful   Style = "careful"
	Hasty     Style = "hasty"
	Sprawling Style = "sprawling"
)

// Characters are the stand-in tools, named after shore birds.
func Characters() []Character {
	return []Character{
		{Name: "turnstone", About: "careful: reads before it writes, adds tests, runs them; asks again when it is refused", Style: Careful, Streams: true},
		{Name: "sanderling", About: "hasty: quick, runs no tests, falls back to a smaller model when it is refused, and sometimes makes no headway at all", Style: Hasty, Falls: "ebb-tide"},
		{Name: "whimbrel", About: "sprawling: right, but all over the place; forgets what was cached when it tells what it used", Style: Sprawling, Streams: true, Forgets: true},
		{Name: "dunlin", About: "careful, and speaks the Agent Client Protocol: it asks its client for permissions, files and commands", Style: Careful, Streams: true},
		{Name: "knot", About: "hasty, in a terminal: it asks there before its first edit", Style: Hasty, Falls: "ebb-tide"},
	}
}

// Find returns the character of a name.
func Find(name string) (Character, error) {
	var names []string
	for _, c := range Characters() {
		if c.Name == name {
			return c, nil
		}
		names = append(names, c.Name)
	}
	return Character{}, fmt.Errorf("there is no stand-in %q; there are %s, and models, the model service", name, strings.Join(names, ", "))
}

// Playbook is what the models know about one task.
type Playbook struct {
	Name string `yaml:"name"`
	// Words are those by which its brief is recognised.
	Words []string `yaml:"words"`
	// LooksAt are the files worth reading.
	LooksAt []string `yaml:"looks"`
	// Test is the command that runs the project's tests.
	Test []string `yaml:"test"`
}

// ErrLost says that no playbook fits the brief.
var ErrLost = errors.New("the brief is none that the models know")

// Playbooks reads playbooks.yaml.
func Playbooks(files fs.FS) ([]Playbook, error) {
	data, err := fs.ReadFile(files, "playbooks.yaml")
	if err != nil {
		return nil, err
	}
	var books []Playbook
	return books, yaml.Unmarshal(data, &books)
}

// recognise finds the playbook that fits a brief: one all of whose words it has.
func recognise(books []Playbook, brief string) (*Playbook, error) {
	brief = strings.Join(strings.Fields(strings.ToLower(brief)), " ")
	for i := range books {
		fits := true
		for _, w := range books[i].Words {
			fits = fits && strings.Contains(brief, strings.ToLower(w))
		}
		if fits {
			return &books[i], nil
		}
	}
	return nil, ErrLost
}

// The wire shape that the stand-ins speak: a conversation of messages with calls
// of functions, as many model servers take it.
type (
	message struct {
		Role    string     `json:"role"`
		Content string     `json:"content"`
		Calls   []toolCall `json:"tool_calls,omitempty"`
		CallID  string     `json:"tool_call_id,omitempty"`
	}
	toolCall struct {
		Index    *int     `json:"index,omitempty"`
		ID       string   `json:"id"`
		Type     string   `json:"type"`
		Function function `json:"function"`
	}
	function struct {
		Name      string `json:"name"`
		Arguments string `json:"arguments"`
	}
	request struct {
		Model         string    `json:"model"`
		Messages      []message `json:"messages"`
		Tools         any       `json:"tools,omitempty"`
		Seed          uint64    `json:"seed"`
		Stream        bool      `json:"stream,omitempty"`
		StreamOptions *struct {
			IncludeUsage bool `json:"include_usage"`
		} `json:"stream_options,omitempty"`
	}
	usage struct {
		Prompt     int64 `json:"prompt_tokens"`
		Completion int64 `json:"completion_tokens"`
		Total      int64 `json:"total_tokens"`
		Details    struct {
			Cached int64 `json:"cached_tokens"`
		} `json:"prompt_tokens_details"`
		More struct {
			Reasoning int64 `json:"reasoning_tokens"`
		} `json:"completion_tokens_details"`
	}
	choice struct {
		Index   int      `json:"index"`
		Message *message `json:"message,omitempty"`
		Delta   *message `json:"delta,omitempty"`
		Finish  *string  `json:"finish_reason"`
	}
	reply struct {
		ID      string   `json:"id"`
		Object  string   `json:"object"`
		Created int64    `json:"created"`
		Model   string   `json:"model"`
		Choices []choice `json:"choices"`
		Usage   *usage   `json:"usage"`
	}
	failure struct {
		Error struct {
			Type    string `json:"type"`
			Message string `json:"message"`
		} `json:"error"`
	}
	// arguments are those of all the functions together.
	arguments struct {
		Path    string   `json:"path,omitempty"`
		Diff    string   `json:"diff,omitempty"`
		Command []string `json:"command,omitempty"`
	}
)
