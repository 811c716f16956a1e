package specfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"reflect"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// MaxFile is the largest file that is read, in bytes.
const MaxFile = 4 << 20

const maxDepth = 32

// Document is a file read into its struct, with the lines of its keys.
type Document struct {
	File     string
	Problems Problems
	lines    map[string]int
}

// Line tells the line of a key ("checks[1].run"), or of the nearest key around
// it; 0 when the file has none.
func (d *Document) Line(key string) int {
	for key != "" {
		if n, ok := d.lines[key]; ok {
			return n
		}
		cut := strings.LastIndexAny(key, ".[")
		if cut < 0 {
			break
		}
		key = key[:cut]
	}
	return d.lines[""]
}

// Has tells whether the file sets a key.
func (d *Document) Has(key string) bool {
	_, ok := d.lines[key]
	return ok
}

// Add records a problem at a key.
func (d *Document) Add(key, found, expected string) {
	d.Problems = append(d.Problems, Problem{File: d.File, Line: d.Line(key), Key: key, Found: found, Expected: expected})
}

// DecodeYAML reads a YAML file into the struct that into points to.
//
// Struct fields carry their key in the tag `yaml:"name"` and, where they must
// be given, `spec:"required"`. Strings, ints, bools, Scalars, structs, slices
// and maps from string or a Scalar string to string are understood.
func DecodeYAML(file string, data []byte, into any) *Document {
	return decode(file, data, 0, into)
}

// DecodeFrontMatter reads a Markdown file whose YAML front matter stands
// between two lines of "---", and returns the text below it.
func DecodeFrontMatter(file string, data []byte, into any) (*Document, string) {
	doc := &Document{File: file, lines: map[string]int{}}
	text := strings.ReplaceAll(string(bytes.TrimPrefix(data, []byte("\ufeff"))), "\r\n", "\n")
	first, rest, _ := strings.Cut(text, "\n")
	if strings.TrimRight(first, " \t") != "---" {
		doc.Problems = append(doc.Problems, Problem{File: file, Line: 1, Found: Quote(first),
			Expected: "YAML front matter: a line of three hyphens, the keys, a second line of three hyphens, and then the brief"})
		return doc, ""
	}
	var front strings.Builder
	for rest != "" {
		line, more, _ := strings.Cut(rest, "\n")
		if strings.TrimRight(line, " \t") == "---" {
			return decode(file, []byte(front.String()), 1, into), more
		}
		front.WriteString(line)
		front.WriteByte('\n')
		rest = more
	}
	doc.Problems = append(doc.Problems, Problem{File: file, Line: 1, Found: "front matter that never ends",
		Expected: "a line of three hyphens between the front matter and the brief"})
	return doc, ""
}

var yamlLineRE = regexp.MustCompile(`line (\d+)`)

func decode(file string, data []byte, lineOffset int, into any) *Document {
	doc := &Document{File: file, lines: map[string]int{}}
	whole := func(line int, found, expected string) *Document {
		doc.Problems = append(doc.Problems, Problem{File: file, Line: line, Found: found, Expected: expected})
		return doc
	}
	if len(data) > MaxFile {
		return whole(0, fmt.Sprintf("%d bytes", len(data)), fmt.Sprintf("at most %d bytes", MaxFile))
	}
	if !utf8.Valid(data) {
		return whole(0, "bytes that are not UTF-8", "a text file in UTF-8")
	}
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var root yaml.Node
	if err := dec.Decode(&root); err != nil {
		if errors.Is(err, io.EOF) {
			return whole(1+lineOffset, "an empty file", "keys and values in YAML")
		}
		line := 0
		if m := yamlLineRE.FindStringSubmatch(err.Error()); m != nil {
			line, _ = strconv.Atoi(m[1])
			line += lineOffset
		}
		why := strings.TrimPrefix(err.Error(), "yaml: ")
		why = regexp.MustCompile(`^line \d+: `).ReplaceAllString(why, "")
		return whole(line, "YAML that cannot be read ("+why+")", "well-formed YAML")
	}
	var second yaml.Node
	if err := dec.Decode(&second); err == nil {
		return whole(second.Line+lineOffset, "a second YAML document", "one document in a file")
	}
	w := walker{doc: doc, offset: lineOffset}
	doc.lines[""] = 1 + lineOffset
	node := &root
	if node.Kind == yaml.DocumentNode && len(node.Content) == 1 {
		node = node.Content[0]
	}
	w.value(node, reflect.ValueOf(into).Elem(), "", 0)
	return doc
}

type walker struct {
	doc    *Document
	offset int
}

func (w *walker) problem(n *yaml.Node, key, found, expected string) {
	w.doc.Problems = append(w.doc.Problems, Problem{File: w.doc.File, Line: n.Line + w.offset, Key: key, Found: found, Expected: expected})
}

func kindWord(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	case yaml.AliasNode:
		return "an alias"
	}
	if n.Tag == "!!null" && (n.Value == "" || n.Style == 0) {
		return "nothing"
	}
	return Quote(n.Value)
}

func (w *walker) value(n *yaml.Node, v reflect.Value, key string, depth int) {
	if key != "" {
		w.doc.lines[key] = n.Line + w.offset
	}
	if depth > maxDepth {
		w.problem(n, key, "nesting that is too deep", fmt.Sprintf("at most %d levels", maxDepth))
		return
	}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		w.problem(n, key, "a YAML anchor or alias", "the value written out (anchors and aliases are not used here)")
		return
	}
	if v.CanAddr() {
		if s, ok := v.Addr().Interface().(Scalar); ok {
			if n.Kind != yaml.ScalarNode {
				w.problem(n, key, kindWord(n), s.Expected())
				return
			}
			if err := s.ParseScalar(n.Value); err != nil {
				w.problem(n, key, kindWord(n), s.Expected())
			}
			return
		}
	}
	switch v.Kind() {
	case reflect.Pointer:
		before := len(w.doc.Problems)
		p := reflect.New(v.Type().Elem())
		w.value(n, p.Elem(), key, depth)
		if len(w.doc.Problems) == before { // a value that could not be read counts as absent
			v.Set(p)
		}
	case reflect.Struct:
		w.mapping(n, v, key, depth)
	case reflect.Slice:
		w.list(n, v, key, depth)
	case reflect.Map:
		w.stringMap(n, v, key, depth)
	case reflect.String:
		if n.Kind != yaml.ScalarNode || n.Tag == "!!null" && n.Value == "" {
			w.problem(n, key, kindWord(n), "text")
			return
		}
		if strings.ContainsRune(n.Value, 0) {
			w.problem(n, key, "text with a NUL character", "text without NUL characters")
			return
		}
		v.SetString(n.Value)
	case reflect.Int, reflect.Int64:
		i, err := strconv.ParseInt(n.Value, 10, 64)
		if n.Kind != yaml.ScalarNode || err != nil || v.OverflowInt(i) {
			w.problem(n, key, kindWord(n), "a whole number")
			return
		}
		v.SetInt(i)
	case reflect.Float64:
		f, err := strconv.ParseFloat(n.Value, 64)
		if n.Kind != yaml.ScalarNode || err != nil || math.IsNaN(f) || math.IsInf(f, 0) {
			w.problem(n, key, kindWord(n), "a number")
			return
		}
		v.SetFloat(f)
	case reflect.Bool:
		if n.Kind != yaml.ScalarNode || n.Value != "true" && n.Value != "false" {
			w.problem(n, key, kindWord(n), "true or false")
			return
		}
		v.SetBool(n.Value == "true")
	default:
		panic(fmt.Sprintf("specfile: no reader for %s at %s", v.Type(), key))
	}
}

func join(key, name string) string {
	if key == "" {
		return name
	}
	return key + "." + name
}

// Field is one key of a struct that specfile reads.
type Field struct {
	Name string
	// Index is where it is, as reflect's FieldByIndex takes it: a struct that is embedded
	// inline lends its keys.
	Index    []int
	Required bool
}

// Fields lists the keys of a struct type in the order of its fields.
func Fields(t reflect.Type) []Field {
	var fs []Field
	for i := range t.NumField() {
		name, option, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		if option == "inline" {
			for _, inner := range Fields(t.Field(i).Type) {
				inner.Index = append([]int{i}, inner.Index...)
				fs = append(fs, inner)
			}
		}
		if name == "" || name == "-" {
			continue
		}
		fs = append(fs, Field{Name: name, Index: []int{i}, Required: t.Field(i).Tag.Get("spec") == "required"})
	}
	return fs
}

func (w *walker) mapping(n *yaml.Node, v reflect.Value, key string, depth int) {
	fields := Fields(v.Type())
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	if n.Kind != yaml.MappingNode {
		w.problem(n, key, kindWord(n), "a mapping with the keys "+strings.Join(names, ", "))
		return
	}
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, val := n.Content[i], n.Content[i+1]
		name := k.Value
		full := join(key, name)
		if k.Kind != yaml.ScalarNode {
			w.problem(k, key, kindWord(k)+" as a key", "one of the keys "+strings.Join(names, ", "))
			continue
		}
		if first, dup := seen[name]; dup {
			w.problem(k, full, "the key a second time", fmt.Sprintf("each key once (it stands at line %d already)", first))
			continue
		}
		seen[name] = k.Line + w.offset
		var idx []int
		for _, f := range fields {
			if f.Name == name {
				idx = f.Index
			}
		}
		if idx == nil {
			expected := "one of the keys " + strings.Join(names, ", ")
			if near := nearest(name, names); near != "" {
				expected = fmt.Sprintf("%q, perhaps (%s)", near, expected)
			}
			w.problem(k, full, "an unknown key", expected)
			continue
		}
		w.value(val, v.FieldByIndex(idx), full, depth+1)
		w.doc.lines[full] = k.Line + w.offset
	}
	for _, f := range fields {
		if f.Required && seen[f.Name] == 0 {
			w.problem(n, join(key, f.Name), "no such key", "the key "+f.Name+", which is required")
		}
	}
}

func (w *walker) list(n *yaml.Node, v reflect.Value, key string, depth int) {
	if n.Kind != yaml.SequenceNode {
		w.problem(n, key, kindWord(n), "a list")
		return
	}
	out := reflect.MakeSlice(v.Type(), len(n.Content), len(n.Content))
	for i, item := range n.Content {
		w.value(item, out.Index(i), fmt.Sprintf("%s[%d]", key, i), depth+1)
	}
	v.Set(out)
}

func (w *walker) stringMap(n *yaml.Node, v reflect.Value, key string, depth int) {
	if n.Kind != yaml.MappingNode {
		w.problem(n, key, kindWord(n), "a mapping of names to values")
		return
	}
	out := reflect.MakeMap(v.Type())
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, val := n.Content[i], n.Content[i+1]
		full := join(key, k.Value)
		kv := reflect.New(v.Type().Key()).Elem()
		w.value(k, kv, full, depth+1)
		ev := reflect.New(v.Type().Elem()).Elem()
		w.value(val, ev, full, depth+1)
		if out.MapIndex(kv).IsValid() {
			w.problem(k, full, "the key a second time", "each key once")
			continue
		}
		out.SetMapIndex(kv, ev)
	}
	v.Set(out)
}

// nearest returns the known name that is at most two edits away, or "".
func nearest(name string, known []string) string {
	best, bestD := "", 3
	sorted := append([]string(nil), known...)
	sort.Strings(sorted)
	if len(name) > 64 {
		return ""
	}
	for _, k := range sorted {
		if d := EditDistance(name, k); d < bestD && d < len(k) {
			best, bestD = k, d
		}
	}
	return best
}

// EditDistance is the Levenshtein distance in bytes.
func EditDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diag := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			diag, row[j] = row[j], min(row[j]+1, row[j-1]+1, diag+cost)
		}
	}
	return row[len(b)]
}
