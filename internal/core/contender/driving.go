package contender

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"agonometer/internal/core/specfile"
)

// Drive is a way to work a contender.
type Drive string

const (
	// DriveCommand starts a program for each round and waits for its end.
	DriveCommand Drive = "command"
	// DriveACP speaks the Agent Client Protocol with a program that stays.
	DriveACP Drive = "acp"
	// DriveHand leaves it to a person; Agonometer prepares, watches and judges.
	DriveHand Drive = "hand"
	// Elsewhere is what was made elsewhere and brought here as a patch, a branch or
	// a folder. No contender file says so.
	Elsewhere Drive = "elsewhere"
)

// Words say to people how a contender is driven.
func (d Drive) Words() string {
	switch d {
	case DriveACP:
		return "over the Agent Client Protocol"
	case DriveHand:
		return "worked by hand"
	case Elsewhere:
		return "made elsewhere"
	}
	return "a command"
}

func (d *Drive) ParseScalar(text string) error {
	if !slices.Contains([]Drive{DriveCommand, DriveACP, DriveHand}, Drive(text)) {
		return fmt.Errorf("unknown")
	}
	*d = Drive(text)
	return nil
}

func (*Drive) Expected() string { return "command, acp or hand" }

// Terminal is the size of the terminal that a tool gets.
type Terminal struct {
	Columns int `yaml:"columns" json:"columns,omitempty" jsonschema_description:"Default 120."`
	Rows    int `yaml:"rows" json:"rows,omitempty" jsonschema_description:"Default 40."`
}

// The usual size of a terminal, and the largest.
const (
	DefaultColumns = 120
	DefaultRows    = 40
	maxCells       = 1000
)

// Size is what the tool is told: columns, rows.
func (t *Terminal) Size() (columns, rows int) {
	columns, rows = DefaultColumns, DefaultRows
	if t != nil && t.Columns != 0 {
		columns = t.Columns
	}
	if t != nil && t.Rows != 0 {
		rows = t.Rows
	}
	return columns, rows
}

// Reply answers a question that a tool prints.
type Reply struct {
	Pattern string `yaml:"pattern" spec:"required" json:"pattern" jsonschema_description:"A regular expression (RE2) that the question fits; it is looked for in what was printed since the last answer, without terminal control sequences."`
	Send    string `yaml:"send" spec:"required" json:"send" jsonschema_description:"What is sent, followed by the Enter key; \"\" sends Enter alone."`
	NoEnter bool   `yaml:"no_enter" json:"no_enter,omitempty" jsonschema_description:"true: no Enter key follows."`
	AtMost  int    `yaml:"at_most" json:"at_most,omitempty" jsonschema_description:"How often at most in one round; default 10."`
}

// DefaultReplies is how often a question is answered in one round.
const DefaultReplies = 10

// Times is how often the question is answered in one round.
func (r *Reply) Times() int {
	if r.AtMost == 0 {
		return DefaultReplies
	}
	return r.AtMost
}

// Compiled is the pattern, ready to be used. The reader of contender files has
// made sure that it can be compiled.
func (r *Reply) Compiled() *regexp.Regexp { return regexp.MustCompile(r.Pattern) }

// Permit is an answer to a tool that asks for permission.
type Permit string

const (
	Allow  Permit = "allow"
	Refuse Permit = "refuse"
)

func (p *Permit) ParseScalar(text string) error {
	if Permit(text) != Allow && Permit(text) != Refuse {
		return fmt.Errorf("unknown")
	}
	*p = Permit(text)
	return nil
}

func (*Permit) Expected() string { return "allow or refuse" }

// Permission is a rule for the permissions that a tool asks for over the protocol.
type Permission struct {
	Kind    string `yaml:"kind" json:"kind,omitempty" jsonschema_description:"The protocol's kind of tool call: read, edit, delete, move, search, execute, think, fetch or other; default: any."`
	Pattern string `yaml:"pattern" json:"pattern,omitempty" jsonschema_description:"A regular expression (RE2) that the call's title fits; default: any."`
	Answer  Permit `yaml:"answer" spec:"required" json:"answer" jsonschema_description:"allow or refuse."`
}

// callKinds are the kinds of tool calls of the Agent Client Protocol.
var callKinds = []string{"read", "edit", "delete", "move", "search", "execute", "think", "fetch", "switch_mode", "other"}

// Answer is what a contender's rules say to a request for permission: the first
// rule that fits, or allow where none does.
func (c *Contender) Answer(kind, title string) Permit {
	for i := range c.Permissions {
		p := &c.Permissions[i]
		if (p.Kind == "" || p.Kind == kind) && (p.Pattern == "" || regexp.MustCompile(p.Pattern).MatchString(title)) {
			return p.Answer
		}
	}
	return Allow
}

// Guidance is a text that the tool reads in every repository that it works in.
type Guidance struct {
	As   string `yaml:"as" spec:"required" json:"as" jsonschema_description:"The file, relative to the workspace, that the tool reads."`
	Text string `yaml:"text" json:"text,omitempty" jsonschema_description:"The text; default: the contest's guidance, so that one text serves all."`
}

// FirstUse is what a tool does once in a repository before it can work there.
type FirstUse struct {
	Run  []string          `yaml:"run" spec:"required" json:"run" jsonschema_description:"The program and its arguments, with the placeholders of 'run' but the brief's."`
	Time specfile.Duration `yaml:"time" json:"time,omitempty" jsonschema_description:"How long it may take; default 30m."`
	Keep []string          `yaml:"keep" json:"keep,omitempty" jsonschema_description:"Glob patterns of what it leaves in the workspace that is carried into each bout and is no part of a change; what it leaves in HOME is carried always."`
}

// SetupNotes are what it took to line the tool up.
type SetupNotes struct {
	Steps    []string `yaml:"steps" json:"steps,omitempty" jsonschema_description:"What had to be done, a line each."`
	Minutes  *int     `yaml:"minutes" json:"minutes,omitempty" jsonschema_description:"How long it took a person."`
	Accounts []string `yaml:"accounts" json:"accounts,omitempty" jsonschema_description:"Accounts and sign-ins that were needed."`
}

// Attachment is the placeholder that `attach` repeats for every attached file.
const Attachment Placeholder = "{attachment}"

// Attachments is the argument of `run` in whose place the arguments of `attach` go.
const Attachments Placeholder = "{attachments}"

// maxGuidance bounds a guidance text, in bytes.
const maxGuidance = 1 << 20

// inside tells whether a slash path stays inside the workspace, out of its .git.
func inside(name string) bool {
	if name == "" || path.Clean(name) != name || strings.HasPrefix(name, "/") || name == "." || name == ".." || strings.HasPrefix(name, "../") {
		return false
	}
	first, _, _ := strings.Cut(name, "/")
	return !strings.EqualFold(first, ".git")
}

// checkDriving finds what is wrong with the parts of the file that say how the
// tool is worked.
func (c *Contender) checkDriving(doc *specfile.Document) {
	if c.Drive == "" {
		c.Drive = DriveCommand
	}
	by := func(d Drive, key string, given bool) {
		if given && c.Drive != d {
			doc.Add(key, "a key of drive: "+string(d), "drive: "+string(d)+", or the key left out")
		}
	}
	if c.Drive == DriveHand {
		for key, given := range map[string]bool{"run": doc.Has("run"), "run_again": doc.Has("run_again"), "stdin": doc.Has("stdin"), "answer_file": doc.Has("answer_file"), "pty": c.PTY, "replies": len(c.Replies) > 0,
			"version_command": len(c.VersionCommand) > 0, "first_use": c.FirstUse != nil, "reports": c.Reports != nil, "attach": len(c.Attach) > 0, "carry": len(c.Carry) > 0, "reads": len(c.Reads) > 0, "env": len(c.Env) > 0, "keep_env": len(c.KeepEnv) > 0} {
			if given {
				doc.Add(key, "a key for tools that Agonometer starts", "the key left out; drive: hand leaves it to a person")
			}
		}
		if c.Network == MeterOnly {
			doc.Add("network", "meter-only", "open: a person works the tool on a machine of their own")
		}
	} else if !doc.Has("run") {
		doc.Add("run", "no such key", "the key run, which is required, or drive: hand")
	}
	by(DriveCommand, "pty", c.PTY)
	by(DriveCommand, "replies", len(c.Replies) > 0)
	by(DriveCommand, "run_again", len(c.RunAgain) > 0 && c.Drive == DriveACP)
	by(DriveCommand, "answer_file", c.AnswerFile != "" && c.Drive == DriveACP)
	by(DriveCommand, "reports", c.Reports != nil && c.Drive == DriveACP)
	by(DriveACP, "permissions", len(c.Permissions) > 0)
	if c.Drive == DriveACP && c.Stdin == StdinBrief {
		doc.Add("stdin", "brief", "the key left out: over the protocol the brief is a prompt")
	}
	if c.Terminal != nil {
		if !c.PTY {
			doc.Add("terminal", "a size, and no terminal", "pty: true beside it")
		}
		if columns, rows := c.Terminal.Size(); columns < 1 || rows < 1 || columns > maxCells || rows > maxCells {
			doc.Add("terminal", fmt.Sprintf("%d x %d", columns, rows), fmt.Sprintf("columns and rows from 1 to %d", maxCells))
		}
	}
	if (c.PTY || len(c.Replies) > 0) && c.Stdin == StdinBrief {
		doc.Add("stdin", "brief", "none: answers, or a terminal, are on standard input; hand the brief over by {brief} or {brief_file}")
	}
	pattern := func(key, text string) {
		if _, err := regexp.Compile(text); err != nil || len(text) > 1000 {
			doc.Add(key, specfile.Quote(text), "a regular expression (RE2) of at most 1000 characters")
		}
	}
	for i, r := range c.Replies {
		key := fmt.Sprintf("replies[%d]", i)
		pattern(key+".pattern", r.Pattern)
		if regexp.MustCompile(`^$`).MatchString(r.Pattern) && doc.Has(key+".pattern") {
			doc.Add(key+".pattern", specfile.Quote(r.Pattern), "a pattern that only the question fits")
		}
		if r.AtMost < 0 || r.AtMost > 1000 {
			doc.Add(key+".at_most", fmt.Sprint(r.AtMost), "a whole number from 1 to 1000")
		}
	}
	for i, p := range c.Permissions {
		key := fmt.Sprintf("permissions[%d]", i)
		pattern(key+".pattern", p.Pattern)
		if p.Kind != "" && !slices.Contains(callKinds, p.Kind) {
			doc.Add(key+".kind", specfile.Quote(p.Kind), "one of "+strings.Join(callKinds, ", "))
		}
	}
	if g := c.Guidance; g != nil {
		if doc.Has("guidance.as") && !inside(g.As) {
			doc.Add("guidance.as", specfile.Quote(g.As), "a path inside the workspace, such as GUIDANCE.md")
		}
		if len(g.Text) > maxGuidance {
			doc.Add("guidance.text", fmt.Sprintf("%d bytes", len(g.Text)), fmt.Sprintf("at most %d", maxGuidance))
		}
	}
	if f := c.FirstUse; f != nil {
		if doc.Has("first_use.run") && (len(f.Run) == 0 || strings.TrimSpace(f.Run[0]) == "") {
			doc.Add("first_use.run", "no program", "a program and its arguments")
		}
		for i, p := range f.Keep {
			checkGlob(doc, fmt.Sprintf("first_use.keep[%d]", i), p)
		}
	}
	if doc.Has("version_command") && (len(c.VersionCommand) == 0 || strings.TrimSpace(c.VersionCommand[0]) == "") {
		doc.Add("version_command", "no program", "a program and its arguments, such as [tool, --version]")
	}
	if s := c.SetupNotes; s != nil && s.Minutes != nil && *s.Minutes < 0 {
		doc.Add("setup_notes.minutes", fmt.Sprint(*s.Minutes), "minutes, 0 or more")
	}
	c.checkValues(doc)
}

// checkValues looks at the placeholders that stand for something that the file
// may leave out, and at how attachments are told of.
func (c *Contender) checkValues(doc *specfile.Document) {
	has := func(p Placeholder) (key string) {
		lists := map[string][]string{"run": c.Run, "run_again": c.RunAgain}
		if c.FirstUse != nil {
			lists["first_use.run"] = c.FirstUse.Run
		}
		for key, list := range lists {
			if slices.ContainsFunc(list, func(s string) bool { return strings.Contains(s, string(p)) }) {
				return key
			}
		}
		for name, text := range c.Env {
			if strings.Contains(text, string(p)) {
				return "env." + string(name)
			}
		}
		return ""
	}
	if key := has(Model); key != "" && c.Model == "" {
		doc.Add(key, "{model}, and no model", "the key model")
	}
	if key := has(Effort); key != "" && c.Effort == "" {
		doc.Add(key, "{effort}, and no effort", "the key effort")
	}
	if key := has(Attachment); key != "" {
		doc.Add(key, "{attachment}", "{attachments} as an argument of its own, and under the key attach the arguments for one file")
	}
	for key, list := range map[string][]string{"run": c.Run, "run_again": c.RunAgain} {
		for i, arg := range list {
			if strings.Contains(arg, string(Attachments)) && arg != string(Attachments) {
				doc.Add(fmt.Sprintf("%s[%d]", key, i), specfile.Quote(arg), "{attachments} as an argument of its own")
			}
		}
	}
	switch used := slices.Contains(c.Run, string(Attachments)); {
	case used && len(c.Attach) == 0:
		doc.Add("run", "{attachments}, and no key attach", "the key attach: the arguments for one attached file, with {attachment} in them")
	case len(c.Attach) > 0 && !used:
		doc.Add("attach", "a key that run does not use", "{attachments} as an argument of run")
	case len(c.Attach) > 0 && !slices.ContainsFunc(c.Attach, func(s string) bool { return strings.Contains(s, string(Attachment)) }):
		doc.Add("attach", "no {attachment} in it", "the arguments for one attached file, such as [--file, \"{attachment}\"]")
	}
}

// Arguments expands a command: placeholders are replaced, and {attachments}
// becomes the arguments of attach, once for every file.
func (c *Contender) Arguments(run []string, values map[Placeholder]string, attachments []string) []string {
	out := make([]string, 0, len(run))
	for _, arg := range run {
		if arg != string(Attachments) {
			out = append(out, Expand(arg, values))
			continue
		}
		for _, file := range attachments {
			for _, a := range c.Attach {
				out = append(out, strings.ReplaceAll(a, string(Attachment), file))
			}
		}
	}
	return out
}

// MentionAttachments tells whether the tool learns of attached files by the brief
// alone: there is no other way that its file names.
func (c *Contender) MentionAttachments() bool { return c.Drive == DriveCommand && len(c.Attach) == 0 }
