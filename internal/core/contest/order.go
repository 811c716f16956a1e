package contest

import (
	"hash/fnv"
	"math/rand/v2"

	"agonometer/internal/core/specfile"
)

// Slot is one bout in the order of a contest.
type Slot struct {
	Task specfile.Slug
	// Wording is "" for a task's only one.
	Wording string
	// Further is set for a wording that is not its task's first.
	Further   bool
	Contender specfile.Slug
	// Repeat counts from 1.
	Repeat int
}

// Order unfolds a contest into its bouts: randomised complete blocks. In each
// repeat every task, in each of its wordings, is visited once, in the order of the contest file, and the
// contenders meet it one after the other in a fresh random order, so that a
// machine or a model service that drifts is unkind to all of them alike.
//
// The same slugs, repeats and seed give the same order on every machine: the
// generator is PCG-DXSM (math/rand/v2, whose stream is fixed) and the shuffle
// is Fisher and Yates' (Knuth, The Art of Computer Programming 2, 3.4.2,
// algorithm P) with rejection sampling, written out because the standard
// library keeps no promise about its own.
func Order(tasks []Item, contenders []specfile.Slug, repeats int, seed specfile.Seed) []Slot {
	source := rand.NewPCG(uint64(seed), 0x61676f6e)
	out := make([]Slot, 0, len(tasks)*len(contenders)*repeats)
	for r := 1; r <= repeats; r++ {
		for _, t := range tasks {
			block := append([]specfile.Slug(nil), contenders...)
			for i := len(block) - 1; i > 0; i-- {
				j := below(source, uint64(i+1))
				block[i], block[j] = block[j], block[i]
			}
			for _, c := range block {
				out = append(out, Slot{Task: t.Task, Wording: t.Wording, Further: t.Further, Contender: c, Repeat: r})
			}
		}
	}
	return out
}

// below draws a number from 0 to n-1, each equally likely.
func below(source *rand.PCG, n uint64) uint64 {
	limit := -n % n // 2^64 mod n: what lies below it would favour small results
	for {
		if v := source.Uint64(); v >= limit {
			return v % n
		}
	}
}

// BoutSeed is the number for a bout's {seed} placeholder: it follows from the
// contest's seed and the bout's place in the contest, from 0 to 2^53-1. A
// rerun of a bout has the same one.
func BoutSeed(seed specfile.Seed, s Slot) specfile.Seed {
	h := fnv.New64a()
	h.Write([]byte(s.Task))
	h.Write([]byte{0})
	h.Write([]byte(s.Contender))
	if s.Further {
		h.Write([]byte{0})
		h.Write([]byte(s.Wording))
	}
	v := rand.NewPCG(uint64(seed)^h.Sum64(), uint64(s.Repeat)).Uint64()
	return specfile.Seed(v >> 11)
}
