// Package contender holds the contender file: one tool with one setting of
// models, effort and guidance, and how it is started without a person.
//
// The package parses and validates; it starts nothing and reads no disk.
package contender

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
)

// Placeholder is a name in braces that is replaced in `run` and `env`.
type Placeholder string

const (
	// Brief is the brief's text.
	Brief Placeholder = "{brief}"
	// BriefFile is the path of a file that holds the brief.
	BriefFile Placeholder = "{brief_file}"
	// Workspace is the path of the contender's copy of the repository.
	Workspace Placeholder = "{workspace}"
	// Seed is a whole number drawn for this bout from the contest's seed.
	Seed Placeholder = "{seed}"
	// MeterURL is the address at which the meter stands for the model service.
	MeterURL Placeholder = "{meter_url}"
	// Model and Effort are what the file's keys of these names say.
	Model  Placeholder = "{model}"
	Effort Placeholder = "{effort}"
)

// Placeholders lists all of them.
func Placeholders() []Placeholder {
	return []Placeholder{Brief, BriefFile, Workspace, Seed, MeterURL, Model, Effort}
}

// Stdin says what the tool reads on its standard input.
type Stdin string

const (
	// StdinNone is an empty standard input.
	StdinNone Stdin = "none"
	// StdinBrief is the brief's text, then the end.
	StdinBrief Stdin = "brief"
)

func (s *Stdin) ParseScalar(text string) error {
	if Stdin(text) != StdinNone && Stdin(text) != StdinBrief {
		return fmt.Errorf("unknown")
	}
	*s = Stdin(text)
	return nil
}

func (*Stdin) Expected() string { return "brief or none" }

// Carry is a file or folder that is copied fresh into each bout's private HOME.
// It is read on the service's machine when a bout is prepared, never kept in
// the records, and never copied back.
type Carry struct {
	From   string   `yaml:"from" spec:"required" json:"from" jsonschema_description:"A file or folder on the service's machine: absolute, below ~/ (the service's home), or relative to this file."`
	To     string   `yaml:"to" json:"to,omitempty" jsonschema_description:"Where it goes below the bout's HOME; default: the same place as below ~/, or the base name."`
	Fill   bool     `yaml:"fill" json:"fill,omitempty" jsonschema_description:"Replace {meter_url} and the other placeholders of 'run' in the text files that are carried, such as a configuration that names the model service."`
	Except []string `yaml:"except" json:"except,omitempty" jsonschema_description:"Glob patterns, relative to 'from', of what is left out, such as memory of earlier sessions."`
}

// Target is the slash path below HOME where the copy goes.
func (c Carry) Target() string {
	if c.To != "" {
		return path.Clean(c.To)
	}
	if rest, ok := strings.CutPrefix(c.From, "~/"); ok {
		return path.Clean(rest)
	}
	return path.Base(c.From)
}

// File is the YAML of a contender.
type File struct {
	Contender specfile.Slug `yaml:"contender" spec:"required" json:"contender" jsonschema_description:"The contender's slug; unique in a contest."`
	Title     string        `yaml:"title" spec:"required" json:"title" jsonschema_description:"One line for people."`
	Drive     Drive         `yaml:"drive" json:"drive,omitempty" jsonschema_description:"How it is worked: command (default) starts a program for each round; acp speaks the Agent Client Protocol with it; hand leaves it to a person."`
	Run       []string      `yaml:"run" json:"run,omitempty" jsonschema_description:"The program and its arguments; needed unless it is worked by hand. {brief}, {brief_file}, {workspace}, {seed}, {meter_url}, {model}, {effort} and {attachments} are replaced; no shell is involved unless you name one."`
	RunAgain  []string      `yaml:"run_again" json:"run_again,omitempty" jsonschema_description:"How a later round is started, with the placeholders of 'run'; default: as run, with the new words."`
	// AnswerFile is where the tool leaves its closing message.
	AnswerFile string                      `yaml:"answer_file" json:"answer_file,omitempty" jsonschema_description:"A file, relative to the workspace, in which the tool leaves its closing message; default: standard output. It is no part of the change."`
	Stdin      Stdin                       `yaml:"stdin" json:"stdin,omitempty" jsonschema_description:"What the tool reads on standard input: brief or none (default)."`
	Env        map[specfile.EnvName]string `yaml:"env" json:"env,omitempty" jsonschema_description:"Environment variables that are set; the placeholders of 'run' work here too."`
	KeepEnv    []specfile.EnvName          `yaml:"keep_env" json:"keep_env,omitempty" jsonschema_description:"Names of environment variables that pass through from the service. Their values are struck out of everything that is stored."`
	Carry      []Carry                     `yaml:"carry" json:"carry,omitempty" jsonschema_description:"Files and folders copied fresh into each bout's private HOME."`
	Reads      []string                    `yaml:"reads" json:"reads,omitempty" jsonschema_description:"Further folders of the service's machine that the tool may read where they are, for example where it is installed below a home folder."`
	// Model and Effort are what the tool is told.
	Model          string          `yaml:"model" json:"model,omitempty" jsonschema_description:"The model that the tool is told to use: {model} in run and env, and over the protocol."`
	Effort         string          `yaml:"effort" json:"effort,omitempty" jsonschema_description:"The effort that the tool is told: {effort} in run and env."`
	VersionCommand []string        `yaml:"version_command" json:"version_command,omitempty" jsonschema_description:"A command whose first line of output is the tool's version; it is asked in each bout, before the clock starts."`
	PTY            bool            `yaml:"pty" json:"pty,omitempty" jsonschema_description:"true: the tool gets a terminal. What it shows is kept as a recording (asciicast v2) beside the plain text."`
	Terminal       *Terminal       `yaml:"terminal" json:"terminal,omitempty" jsonschema_description:"The terminal's size."`
	Replies        []Reply         `yaml:"replies" json:"replies,omitempty" jsonschema_description:"Answers to questions that the tool prints; the first that fits is used. Each answer is counted."`
	Permissions    []Permission    `yaml:"permissions" json:"permissions,omitempty" jsonschema_description:"Answers to permissions that the tool asks for over the protocol; the first that fits is used, and allow where none does. Each is counted."`
	Guidance       *Guidance       `yaml:"guidance" json:"guidance,omitempty" jsonschema_description:"A text that is written into the workspace under the name that the tool reads. It is no part of the change unless the tool changes it."`
	Attach         []string        `yaml:"attach" json:"attach,omitempty" jsonschema_description:"The arguments that tell the tool of one attached file, with {attachment} for its path; they stand where run has {attachments}. Default: the brief's end names the files."`
	FirstUse       *FirstUse       `yaml:"first_use" json:"first_use,omitempty" jsonschema_description:"What the tool does once in a repository, such as indexing it: counted once for a contest and shown apart, with its state carried into each bout."`
	SetupNotes     *SetupNotes     `yaml:"setup_notes" json:"setup_notes,omitempty" jsonschema_description:"What it took a person to line the tool up."`
	Meter          *Meter          `yaml:"meter" json:"meter,omitempty" jsonschema_description:"The model service, so that the meter can stand between it and the tool."`
	Network        Network         `yaml:"network" json:"network,omitempty" jsonschema_description:"open (default), or meter-only: a network of its own in which nothing but the meter can be reached."`
	Expects        *ledger.Expects `yaml:"expects" json:"expects,omitempty" jsonschema_description:"The models that may reply, and the effort. Anything else is flagged."`
	Limits         *task.Resources `yaml:"limits" json:"limits,omitempty" jsonschema_description:"What the tool may use of the machine, over what the task says; the contest's limits come before it."`
	Reports        *Reports        `yaml:"reports" json:"reports,omitempty" jsonschema_description:"Where the tool itself says what it used, in lines of JSON that it prints."`
}

// Contender is a contender file, read and found valid.
type Contender struct {
	File
	// Path is the file's absolute path on the machine where it was written.
	Path   string
	Source []byte
}

// Digest is the SHA-256 of the file, in hexadecimal.
func (c *Contender) Digest() string {
	sum := sha256.Sum256(c.Source)
	return hex.EncodeToString(sum[:])
}

// Expand replaces the placeholders in s. Values are put in as they are: a
// value that looks like a placeholder is not replaced again.
func Expand(s string, values map[Placeholder]string) string {
	pairs := make([]string, 0, 2*len(values))
	for _, p := range Placeholders() {
		if v, ok := values[p]; ok {
			pairs = append(pairs, string(p), v)
		}
	}
	return strings.NewReplacer(pairs...).Replace(s)
}

// reserved are set by Agonometer in every bout.
var reserved = []specfile.EnvName{"HOME", "TMPDIR", "PWD"}

var bracesRE = regexp.MustCompile(`\{[a-z_]+\}`)

// Parse reads a contender file; `shown` is its path for messages.
func Parse(file, shown string, data []byte) (*Contender, *specfile.Document) {
	c := &Contender{Path: file, Source: data}
	doc := specfile.DecodeYAML(shown, data, &c.File)
	if len(doc.Problems) > 0 && !doc.Has("contender") && !doc.Has("run") && !doc.Has("drive") {
		return c, doc
	}
	if c.Stdin == "" {
		c.Stdin = StdinNone
	}
	if c.Network == "" {
		c.Network = NetworkOpen
	}
	c.checkDriving(doc)
	c.checkMeter(doc)
	if c.Limits != nil {
		c.Limits.Validate(doc, "limits")
	}
	if doc.Has("title") && (strings.TrimSpace(c.Title) == "" || strings.Contains(c.Title, "\n")) {
		doc.Add("title", specfile.Quote(c.Title), "one line of text")
	}
	if doc.Has("run") && len(c.Run) == 0 {
		doc.Add("run", "an empty list", "a program and its arguments, such as [sh, -c, \"git apply ~/fix.patch\"]")
	}
	if doc.Has("run_again") && len(c.RunAgain) == 0 {
		doc.Add("run_again", "an empty list", "a program and its arguments, or the key left out")
	}
	if c.AnswerFile != "" && (path.Clean(c.AnswerFile) != c.AnswerFile || strings.HasPrefix(c.AnswerFile, "/") || c.AnswerFile == ".." || strings.HasPrefix(c.AnswerFile, "../")) {
		doc.Add("answer_file", specfile.Quote(c.AnswerFile), "a path inside the workspace, such as .answer.md")
	}
	for i, arg := range append(slices.Clone(c.Run), c.RunAgain...) {
		key := fmt.Sprintf("run[%d]", i)
		if i >= len(c.Run) {
			i -= len(c.Run)
			key = fmt.Sprintf("run_again[%d]", i)
		}
		if i == 0 && strings.TrimSpace(arg) == "" {
			doc.Add(key, specfile.Quote(arg), "a program")
		}
		for _, word := range bracesRE.FindAllString(arg, -1) {
			if p := misspelt(word); p != "" {
				doc.Add(key, specfile.Quote(word), "the placeholder "+string(p)+", perhaps")
			}
		}
	}
	for name := range c.Env {
		if slices.Contains(reserved, name) {
			doc.Add("env."+string(name), "a variable that every bout sets itself", "another name")
		}
	}
	for i, name := range c.KeepEnv {
		key := fmt.Sprintf("keep_env[%d]", i)
		if slices.Contains(reserved, name) {
			doc.Add(key, "a variable that every bout sets itself", "another name")
		}
		if _, both := c.Env[name]; both {
			doc.Add(key, specfile.Quote(string(name))+", which env sets too", "the name in one of the two")
		}
	}
	for i, carry := range c.Carry {
		key := fmt.Sprintf("carry[%d]", i)
		if doc.Has(key+".from") && (carry.From == "" || path.Clean(carry.From) == "/" || path.Clean(carry.From) == "~") {
			doc.Add(key+".from", specfile.Quote(carry.From), "a file or a folder; a whole home is not carried")
			continue
		}
		target := carry.Target()
		if strings.HasPrefix(target, "/") || target == ".." || strings.HasPrefix(target, "../") || target == "." {
			doc.Add(key+".to", specfile.Quote(carry.To), "a path inside the bout's HOME")
		}
		for j, pattern := range carry.Except {
			checkGlob(doc, fmt.Sprintf("%s.except[%d]", key, j), pattern)
		}
	}
	for i, name := range c.Reads {
		if !strings.HasPrefix(name, "/") && !strings.HasPrefix(name, "~/") || path.Clean(name) == "/" {
			doc.Add(fmt.Sprintf("reads[%d]", i), specfile.Quote(name), "an absolute folder, or one below ~/")
		}
	}
	return c, doc
}

// checkGlob finds a pattern that is none.
func checkGlob(doc *specfile.Document, key, pattern string) {
	if pattern == "" || strings.HasPrefix(pattern, "/") || !doublestar.ValidatePattern(pattern) {
		doc.Add(key, specfile.Quote(pattern), "a glob pattern such as sessions/**")
	}
}

// misspelt returns the placeholder that a word in braces seems to mean, or ""
// where it is one, or is far from all of them (awk's {print} must stay possible).
func misspelt(word string) Placeholder {
	all := append(Placeholders(), Attachment, Attachments)
	if slices.Contains(all, Placeholder(word)) {
		return ""
	}
	for _, p := range all {
		if specfile.EditDistance(word, string(p)) <= 2 {
			return p
		}
	}
	return ""
}
