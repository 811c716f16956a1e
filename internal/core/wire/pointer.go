// Package wire reads token counts, models and causes of refusal out of the
// traffic between a tool and its model service. Where they stand is told by a
// Reader: JSON Pointers (RFC 6901), so that no service is built in.
//
// Everything streams: a reply of any length, broken in any place, costs a few
// kilobytes of memory, and what was found until then is kept.
package wire

import (
	"fmt"
	"strings"
)

// Pointer is a JSON Pointer (RFC 6901), such as /usage/input_tokens.
type Pointer string

// PointerPattern is a regular expression that every Pointer fits.
const PointerPattern = `^(/([^~/]|~[01])*)+$`

// MaxPointer is how many levels a pointer may name.
const MaxPointer = 16

func (p *Pointer) ParseScalar(text string) error {
	*p = Pointer(text)
	steps, err := p.steps()
	if err == nil && len(steps) == 0 {
		err = fmt.Errorf("it names the whole document")
	}
	return err
}

func (*Pointer) Expected() string {
	return "a JSON Pointer (RFC 6901) with at most 16 levels, such as /usage/output_tokens"
}

// steps are the keys on the way, with ~1 and ~0 written out.
func (p Pointer) steps() ([]string, error) {
	if p == "" {
		return nil, nil
	}
	if p[0] != '/' {
		return nil, fmt.Errorf("a JSON Pointer begins with a slash")
	}
	steps := strings.Split(string(p[1:]), "/")
	if len(steps) > MaxPointer {
		return nil, fmt.Errorf("more than %d levels", MaxPointer)
	}
	for i, s := range steps {
		for rest := s; ; {
			at := strings.IndexByte(rest, '~')
			if at < 0 {
				break
			}
			if at+1 >= len(rest) || rest[at+1] != '0' && rest[at+1] != '1' {
				return nil, fmt.Errorf("~ is written ~0 in a JSON Pointer")
			}
			rest = rest[at+2:]
		}
		steps[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(s)
	}
	return steps, nil
}

// trie holds all pointers that are looked for, by their steps.
type trie struct {
	next  []step
	marks []mark // what ends here
}

type step struct {
	key string
	to  *trie
}

// at is where a key leads; nil for nowhere. There are few keys at a place, so
// that comparing is quicker than hashing.
func (t *trie) at(key string) *trie {
	for i := range t.next {
		if t.next[i].key == key {
			return t.next[i].to
		}
	}
	return nil
}

// add puts a pointer into the trie; one that is malformed is left out.
func (t *trie) add(p Pointer, m mark) {
	steps, err := p.steps()
	if err != nil || len(steps) == 0 {
		return
	}
	for _, s := range steps {
		next := t.at(s)
		if next == nil {
			next = &trie{}
			t.next = append(t.next, step{s, next})
		}
		t = next
	}
	t.marks = append(t.marks, m)
}
