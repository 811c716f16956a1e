// Package schema makes the JSON Schemas of the four kinds of files from the
// Go types that read them, so that the two cannot differ.
package schema

import (
	"encoding/json"
	"reflect"
	"strings"

	"github.com/invopop/jsonschema"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/contest"
	"agonometer/internal/core/ledger"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
	"agonometer/internal/core/wire"
)

// Kinds maps the name of each kind of file to the struct that reads it.
func Kinds() map[string]any {
	return map[string]any{"task": task.FrontMatter{}, "contender": contender.File{}, "contest": contest.File{}, "prices": ledger.PriceList{}}
}

var titles = map[string]string{
	"task":      "The front matter of a task file; the brief stands below it in Markdown.",
	"contender": "A contender file: one tool with one setting.",
	"contest":   "A contest file: some tasks, some contenders, repeats and limits.",
	"prices":    "A price list: what models cost, per million tokens and by kind.",
}

// scalars are the types that are written as one YAML scalar.
var scalars = map[reflect.Type]func() *jsonschema.Schema{
	reflect.TypeFor[specfile.Slug]():     pattern(specfile.SlugPattern, "harbour-tables"),
	reflect.TypeFor[specfile.Duration](): pattern(specfile.DurationPattern, "90s", "10m"),
	reflect.TypeFor[specfile.Size]():     pattern(specfile.SizePattern, "512KiB", "4MiB"),
	reflect.TypeFor[specfile.EnvName]():  pattern(specfile.EnvNamePattern, "PORT_KEY"),
	reflect.TypeFor[task.Reader]():       one(task.ReadsExit, task.ReadsGoTestJSON, task.ReadsJUnit, task.ReadsTAP, task.ReadsNumber),
	reflect.TypeFor[task.Kind]():         one(task.Change, task.Question, task.Typing),
	reflect.TypeFor[task.Protect]():      one(task.Report, task.Strict),
	reflect.TypeFor[task.Network]():      one(task.NoNetwork, task.NetworkNeeded),
	reflect.TypeFor[task.Bound]():        pattern(task.BoundPattern, "250", "0.5 x start"),
	reflect.TypeFor[task.Figure]():       func() *jsonschema.Schema { return &jsonschema.Schema{Type: "number"} },
	reflect.TypeFor[task.TaskSize]():     one("small", "medium", "large"),
	reflect.TypeFor[ledger.Amount](): func() *jsonschema.Schema {
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{pattern(ledger.AmountPattern, "3", "0.125")(), {Type: "number", Minimum: "0"}}}
	},
	reflect.TypeFor[ledger.Currency]():   pattern(ledger.CurrencyPattern, "AVM"),
	reflect.TypeFor[ledger.Money]():      pattern(ledger.MoneyPattern, "0.50 AVM"),
	reflect.TypeFor[ledger.Date]():       pattern(ledger.DatePattern, "2031-03-01"),
	reflect.TypeFor[ledger.Percent]():    pattern(ledger.PercentPattern, "20%"),
	reflect.TypeFor[wire.Pointer]():      pattern(wire.PointerPattern, "/usage/output_tokens"),
	reflect.TypeFor[wire.Take]():         one(wire.TakeLast, wire.TakeSum),
	reflect.TypeFor[contender.Network](): one(contender.NetworkOpen, contender.MeterOnly),
	reflect.TypeFor[contender.Drive]():   one(contender.DriveCommand, contender.DriveACP, contender.DriveHand),
	reflect.TypeFor[contender.Permit]():  one(contender.Allow, contender.Refuse),
	reflect.TypeFor[contest.Walls]():     one(contest.WallsAny, contest.WallsRequired),
	reflect.TypeFor[contest.OnEvent]():   one(contest.Count, contest.Flag, contest.MakeVoid),
	reflect.TypeFor[contender.Stdin]():   one(contender.StdinNone, contender.StdinBrief),
	reflect.TypeFor[specfile.Seed](): func() *jsonschema.Schema {
		return &jsonschema.Schema{Type: "integer", Minimum: "0", Maximum: "9007199254740991"}
	},
}

func pattern(p string, examples ...any) func() *jsonschema.Schema {
	return func() *jsonschema.Schema {
		return &jsonschema.Schema{Type: "string", Pattern: p, Examples: examples}
	}
}

func one(values ...any) func() *jsonschema.Schema {
	return func() *jsonschema.Schema { return &jsonschema.Schema{Type: "string", Enum: values} }
}

// Of makes the JSON Schema (draft 2020-12) of a kind of file.
func Of(kind string) ([]byte, error) {
	t := reflect.TypeOf(Kinds()[kind])
	r := jsonschema.Reflector{
		FieldNameTag: "yaml", Anonymous: true, ExpandedStruct: true, RequiredFromJSONSchemaTags: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if make, ok := scalars[t]; ok {
				return make()
			}
			return nil
		},
	}
	s := r.ReflectFromType(t)
	s.Description = titles[kind]
	require(s, t)
	for name, def := range s.Definitions {
		for _, field := range []reflect.Type{reflect.TypeFor[task.Check](), reflect.TypeFor[task.Limits](), reflect.TypeFor[task.Resources](), reflect.TypeFor[contender.Carry](), reflect.TypeFor[task.Fact](), reflect.TypeFor[task.FollowUp](),
			reflect.TypeFor[contender.Meter](), reflect.TypeFor[contender.Reports](), reflect.TypeFor[ledger.ExpectedModel](), reflect.TypeFor[ledger.Price](), reflect.TypeFor[ledger.Step]()} {
			if field.Name() == name {
				require(def, field)
			}
		}
	}
	text, err := json.MarshalIndent(s, "", "  ")
	return append(text, '\n'), err
}

// require marks the keys that the reader requires, and keeps descriptions
// beside references.
func require(s *jsonschema.Schema, t reflect.Type) {
	s.Required = nil
	for _, f := range specfile.Fields(t) {
		if f.Required {
			s.Required = append(s.Required, f.Name)
		}
		if prop, ok := s.Properties.Get(f.Name); ok && prop.Description == "" {
			prop.Description = strings.TrimSpace(t.FieldByIndex(f.Index).Tag.Get("jsonschema_description"))
		}
	}
}
