package contender

import (
	"fmt"
	"net/url"
	"path"
	"strings"

	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/wire"
)

// Network says what a contender can reach while it works.
type Network string

const (
	// NetworkOpen is the machine's network; what the tool looked up is then not known.
	NetworkOpen Network = "open"
	// MeterOnly is a network of its own, in which only the meter can be reached.
	MeterOnly Network = "meter-only"
)

func (n *Network) ParseScalar(text string) error {
	if Network(text) != NetworkOpen && Network(text) != MeterOnly {
		return fmt.Errorf("unknown")
	}
	*n = Network(text)
	return nil
}

func (*Network) Expected() string { return "open or meter-only" }

// Pace bounds how fast a contender's bouts may ask, all together.
type Pace struct {
	Requests int `yaml:"requests_per_minute" json:"requests_per_minute,omitempty" jsonschema_description:"How many exchanges may begin in any minute, in all bouts of the contender together."`
	Tokens   int `yaml:"tokens_per_minute" json:"tokens_per_minute,omitempty" jsonschema_description:"How many tokens may be used in any minute before the next exchange waits."`
}

// Meter says where a contender's model service is and how its answers are read.
type Meter struct {
	Upstream   string        `yaml:"upstream" spec:"required" json:"upstream" jsonschema_description:"The model service's address, such as https://models.example/v1. The tool is told {meter_url} in its place."`
	CAFile     string        `yaml:"ca_file" json:"ca_file,omitempty" jsonschema_description:"Certificates in PEM that sign the service's; absolute, below ~/, or relative to this file; default: the system's."`
	Shape      string        `yaml:"shape" json:"shape,omitempty" jsonschema_description:"The wire shape of its answers; default: recognised by what they look like."`
	Reader     *wire.Reader  `yaml:"reader" json:"reader,omitempty" jsonschema_description:"Where its answers name models and tokens, in place of a shape."`
	Pace       *Pace         `yaml:"pace" json:"pace,omitempty" jsonschema_description:"Stay below an allowance by waiting. The waits are on the timeline and are not the contender's time."`
	KeepBodies specfile.Size `yaml:"keep_bodies" json:"keep_bodies,omitempty" jsonschema_description:"Keep this much of each request and reply, keys struck out, so that a bout can be read afterwards; default: nothing."`
}

// Reading is how the service's answers are read.
func (m *Meter) Reading() *wire.Reading {
	if m.Reader != nil {
		return wire.Compile(m.Reader)
	}
	preset, _ := wire.Preset(m.Shape)
	return wire.Compile(preset)
}

// Reports say where a tool tells what it used, in lines of JSON on its output.
type Reports struct {
	Model             []wire.Pointer  `yaml:"model" json:"model,omitempty" jsonschema_description:"The model."`
	Input             []wire.Pointer  `yaml:"input" json:"input,omitempty" jsonschema_description:"Tokens of the prompts."`
	Cached            []wire.Pointer  `yaml:"cached" json:"cached,omitempty" jsonschema_description:"Tokens of the prompts that were read from a cache."`
	Written           []wire.Pointer  `yaml:"written" json:"written,omitempty" jsonschema_description:"Tokens of the prompts that were written to a cache."`
	Output            []wire.Pointer  `yaml:"output" json:"output,omitempty" jsonschema_description:"Tokens of the replies."`
	Reasoning         []wire.Pointer  `yaml:"reasoning" json:"reasoning,omitempty" jsonschema_description:"Tokens of the replies that were spent on reasoning."`
	Money             []wire.Pointer  `yaml:"money" json:"money,omitempty" jsonschema_description:"What it cost, as a number."`
	Currency          ledger.Currency `yaml:"currency" json:"currency,omitempty" jsonschema_description:"The currency of money."`
	Take              wire.Take       `yaml:"take" json:"take,omitempty" jsonschema_description:"Of several lines of one round: last (the default) or sum."`
	CachedInInput     *bool           `yaml:"cached_in_input" json:"cached_in_input,omitempty" jsonschema_description:"Whether input counts the cached tokens too; default true."`
	ReasoningInOutput *bool           `yaml:"reasoning_in_output" json:"reasoning_in_output,omitempty" jsonschema_description:"Whether output counts the reasoning tokens too; default true."`
}

// Reading is how the tool's output is read.
func (r *Reports) Reading() *wire.Reading {
	return wire.Compile(&wire.Reader{Name: "report", Take: r.Take, CachedInInput: r.CachedInInput, ReasoningInOutput: r.ReasoningInOutput,
		Body: wire.Places{Model: r.Model, Input: r.Input, Cached: r.Cached, Written: r.Written, Output: r.Output, Reasoning: r.Reasoning, Money: r.Money}})
}

// Told is what a read output comes to; nil where it said nothing.
func (r *Reports) Told(read wire.Read) *ledger.Told {
	t := &ledger.Told{Model: read.Model, Tokens: read.Tokens}
	if m := new(ledger.Money); read.Money != "" && r.Currency != "" && m.ParseScalar(read.Money+" "+string(r.Currency)) == nil {
		t.Money = m
	}
	if t.Empty() {
		return nil
	}
	return t
}

// checkMeter finds what is wrong with the parts of the file that are about the model service.
func (c *Contender) checkMeter(doc *specfile.Document) {
	told := false
	for _, text := range append(append([]string{}, c.Run...), c.RunAgain...) {
		told = told || strings.Contains(text, string(MeterURL))
	}
	for _, text := range c.Env {
		told = told || strings.Contains(text, string(MeterURL))
	}
	for i, carry := range c.Carry {
		told = told || carry.Fill
		if carry.Fill && c.Meter == nil {
			doc.Add(fmt.Sprintf("carry[%d].fill", i), "true, and no meter", "the key meter, whose address is filled in")
		}
	}
	if c.Expects != nil {
		c.Expects.Check(func(key, found, expected string) { doc.Add("expects."+key, found, expected) })
	}
	if r := c.Reports; r != nil {
		if len(r.Input)+len(r.Output)+len(r.Money) == 0 {
			doc.Add("reports", "no place of any figure", "input, output or money")
		}
		if len(r.Money) > 0 && r.Currency == "" {
			doc.Add("reports.money", "money without a currency", "the key currency beside it")
		}
	}
	if c.Meter == nil {
		if told && (doc.Has("run") || doc.Has("drive")) {
			doc.Add("run", "{meter_url}, and no meter", "the key meter with the model service's address")
		}
		if c.Network == MeterOnly {
			doc.Add("network", "meter-only, and no meter", "the key meter with the model service's address")
		}
		return
	}
	m := c.Meter
	if u, err := url.Parse(m.Upstream); doc.Has("meter.upstream") && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.Fragment != "") {
		doc.Add("meter.upstream", specfile.Quote(m.Upstream), "an http or https address without a query, such as https://models.example/v1")
	}
	if !told && c.Drive != DriveHand { // a person is shown the address
		doc.Add("meter", "a model service, and no {meter_url} in run, run_again, env or a carried file with 'fill: true'", "how the tool is told to go through the meter")
	}
	if m.Shape != "" {
		if _, ok := wire.Preset(m.Shape); !ok {
			doc.Add("meter.shape", specfile.Quote(m.Shape), "one of "+strings.Join(wire.ShapeNames(), ", ")+", or a reader of your own")
		}
		if m.Reader != nil {
			doc.Add("meter.shape", "a shape and a reader", "one of the two")
		}
	}
	if m.Reader != nil {
		for _, p := range m.Reader.Check() {
			doc.Add("meter.reader."+p.Key, specfile.Quote(p.Found), p.Expected)
		}
	}
	if p := m.Pace; p != nil && (p.Requests < 0 || p.Tokens < 0 || p.Requests+p.Tokens == 0) {
		doc.Add("meter.pace", "no bound", "requests_per_minute or tokens_per_minute above 0")
	}
	if m.CAFile != "" && path.Clean(m.CAFile) == "/" {
		doc.Add("meter.ca_file", specfile.Quote(m.CAFile), "a file")
	}
}
