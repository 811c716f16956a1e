// Package ledger works out what a bout's tokens come to: by kind, by model, by
// round, in money by a price list, and from which source each figure is.
//
// Tokens are whole numbers and money is exact decimal arithmetic. What was not
// said is absent and never zero; a sum with such a part says so.
package ledger

// Tokens are the tokens of an exchange, or of many, by kind. A kind that
// nothing was said about is nil. The prompt is Fresh + Cached + Written; the
// reply is Output, of which Reasoning is a part.
type Tokens struct {
	Fresh     *int64 `json:"fresh"`
	Cached    *int64 `json:"cached"`
	Written   *int64 `json:"written"`
	Output    *int64 `json:"output"`
	Reasoning *int64 `json:"reasoning"`
}

// Kind is a kind of tokens.
type Kind string

const (
	Fresh   Kind = "fresh"
	Cached  Kind = "cached"
	Written Kind = "written"
	Output  Kind = "output"
	// Reasoning is a part of Output.
	Reasoning Kind = "reasoning"
)

// Kinds lists them in the order in which they are shown.
func Kinds() []Kind { return []Kind{Fresh, Cached, Written, Output, Reasoning} }

// Of is the count of a kind; nil where nothing was said.
func (t *Tokens) Of(k Kind) *int64 { return *t.at(k) }

func (t *Tokens) at(k Kind) **int64 {
	switch k {
	case Fresh:
		return &t.Fresh
	case Cached:
		return &t.Cached
	case Written:
		return &t.Written
	case Output:
		return &t.Output
	}
	return &t.Reasoning
}

// Set says the count of a kind.
func (t *Tokens) Set(k Kind, n int64) { *t.at(k) = &n }

// Counted tells whether anything was said.
func (t Tokens) Counted() bool {
	return t.Fresh != nil || t.Cached != nil || t.Written != nil || t.Output != nil
}

// Prompt is the length of the prompt in tokens; nil where it was not said.
func (t Tokens) Prompt() *int64 { return sum(t.Fresh, t.Cached, t.Written) }

// Total is the prompt and the reply together; nil where neither was said.
func (t Tokens) Total() *int64 { return sum(t.Fresh, t.Cached, t.Written, t.Output) }

func sum(parts ...*int64) *int64 {
	var n int64
	said := false
	for _, p := range parts {
		if p != nil {
			n, said = n+*p, true
		}
	}
	if !said {
		return nil
	}
	return &n
}

// Plus is the sum, kind by kind: what only one of the two says counts.
func (t Tokens) Plus(o Tokens) Tokens {
	return Tokens{sum(t.Fresh, o.Fresh), sum(t.Cached, o.Cached), sum(t.Written, o.Written), sum(t.Output, o.Output), sum(t.Reasoning, o.Reasoning)}
}

// MaxTokens is the largest count that is believed of one exchange.
const MaxTokens = 1 << 40
