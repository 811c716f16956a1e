package testlog

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// ReadNumber finds a figure in a check's output, by one of two ways: pattern is
// a regular expression whose first group is the figure (its last match counts),
// pointer a JSON Pointer (RFC 6901) into the JSON document that the output is,
// or into the last line that is one. The result is finite.
func ReadNumber(output []byte, pattern *regexp.Regexp, pointer string) (float64, error) {
	if pattern != nil {
		all := pattern.FindAllSubmatch(output, -1)
		if len(all) == 0 {
			return 0, fmt.Errorf("nothing in the output matches %s", pattern)
		}
		return finite(string(all[len(all)-1][1]))
	}
	doc, err := document(output)
	if err != nil {
		return 0, err
	}
	value, err := Point(doc, pointer)
	if err != nil {
		return 0, err
	}
	switch v := value.(type) {
	case json.Number:
		return finite(v.String())
	case string:
		return finite(v)
	}
	return 0, fmt.Errorf("%q points at no number", pointer)
}

func finite(s string) (float64, error) {
	v, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		if len(s) > 40 {
			s = s[:40]
		}
		return 0, fmt.Errorf("%q is no number", s)
	}
	return v, nil
}

// document finds the JSON of an output: all of it, or its last line that is JSON.
func document(output []byte) (any, error) {
	decode := func(text string) (any, bool) {
		dec := json.NewDecoder(strings.NewReader(text))
		dec.UseNumber()
		var v any
		if dec.Decode(&v) != nil || dec.More() {
			return nil, false
		}
		return v, true
	}
	whole := strings.TrimSpace(string(output))
	if v, ok := decode(whole); ok {
		return v, nil
	}
	for whole != "" {
		cut := strings.LastIndexByte(whole, '\n')
		if v, ok := decode(whole[cut+1:]); ok {
			return v, nil
		}
		whole = strings.TrimSpace(whole[:max(cut, 0)])
	}
	return nil, errors.New("the output is no JSON, nor does it end in a line of JSON")
}

// Point follows a JSON Pointer (RFC 6901) into a decoded document.
func Point(doc any, pointer string) (any, error) {
	if pointer == "" {
		return doc, nil
	}
	if pointer[0] != '/' {
		return nil, fmt.Errorf("%q is no JSON Pointer: it begins with /", pointer)
	}
	for token := range strings.SplitSeq(pointer[1:], "/") {
		token = strings.NewReplacer("~1", "/", "~0", "~").Replace(token)
		switch at := doc.(type) {
		case map[string]any:
			next, ok := at[token]
			if !ok {
				return nil, fmt.Errorf("%q points at nothing: there is no %q", pointer, token)
			}
			doc = next
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 || i >= len(at) || strconv.Itoa(i) != token {
				return nil, fmt.Errorf("%q points at nothing: there is no element %q", pointer, token)
			}
			doc = at[i]
		default:
			return nil, fmt.Errorf("%q points at nothing: %q lies in a plain value", pointer, token)
		}
	}
	return doc, nil
}
