package contest

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"agonometer/internal/core/contender"
)

// Setting is one thing in which contenders may differ beside what is compared.
type Setting struct {
	Name string `json:"name"`
	// Values are in words, by contender; "" for not said.
	Values map[string]string `json:"values"`
	// Differs is set where not all contenders have the same.
	Differs bool `json:"differs"`
}

// GuidedContender is a contender with the guidance that it is given.
type GuidedContender struct {
	*contender.Contender
	// Text is the guidance; "" for none.
	Text string
}

// Differences puts the settings of contenders next to each other: may a tool ask,
// may it use the network, what it is told beside the brief, what it prepares. Tool
// and model are what is compared, and not in it.
func Differences(all []GuidedContender) []Setting {
	rows := []struct {
		name string
		of   func(c GuidedContender) string
	}{
		{"driven", func(c GuidedContender) string { return c.Drive.Words() }},
		{"may ask", asking},
		{"network", network},
		{"guidance", guidance},
		{"first use", func(c GuidedContender) string {
			if c.FirstUse == nil {
				return "none"
			}
			return "once in a repository: " + strings.Join(c.FirstUse.Run, " ")
		}},
		{"effort", func(c GuidedContender) string {
			if c.Effort == "" {
				return "the tool's own"
			}
			return c.Effort
		}},
		{"model", func(c GuidedContender) string {
			if c.Model != "" {
				return "told: " + c.Model
			}
			return "in its own settings"
		}},
		{"attached files", attachments},
		{"tokens", tokens},
		{"settings", func(c GuidedContender) string {
			switch n := len(c.Carry); n {
			case 0:
				return "none carried"
			case 1:
				return "1 carried file or folder"
			default:
				return fmt.Sprintf("%d carried files or folders", n)
			}
		}},
	}
	out := make([]Setting, 0, len(rows))
	for _, row := range rows {
		s := Setting{Name: row.name, Values: map[string]string{}}
		seen := map[string]bool{}
		for _, c := range all {
			v := row.of(c)
			s.Values[string(c.Contender.Contender)] = v
			seen[v] = true
		}
		s.Differs = len(seen) > 1
		out = append(out, s)
	}
	return out
}

func asking(c GuidedContender) string {
	refusals := 0
	for _, p := range c.Permissions {
		if p.Answer == contender.Refuse {
			refusals++
		}
	}
	switch {
	case c.Drive == contender.DriveHand:
		return "yes: a person answers"
	case c.Drive == contender.DriveACP && refusals > 0:
		return "yes: answered by rule, some refused"
	case c.Drive == contender.DriveACP:
		return "yes: allowed by rule"
	case len(c.Replies) > 0:
		return "yes: answered by rule"
	}
	return "no: nobody answers"
}

func network(c GuidedContender) string {
	switch {
	case c.Drive == contender.DriveHand:
		return "the person's own"
	case c.Network == contender.MeterOnly:
		return "nothing but its model service"
	}
	return "open"
}

func guidance(c GuidedContender) string {
	if c.Text == "" {
		return "none"
	}
	sum := sha256.Sum256([]byte(strings.TrimSpace(c.Text)))
	return fmt.Sprintf("%d words (%s)", len(strings.Fields(c.Text)), hex.EncodeToString(sum[:3]))
}

func attachments(c GuidedContender) string {
	switch {
	case c.Drive == contender.DriveHand:
		return "the person hands them over"
	case c.Drive == contender.DriveACP:
		return "linked in the prompt"
	case len(c.Attach) > 0:
		return "by argument"
	}
	return "named in the brief"
}

func tokens(c GuidedContender) string {
	switch {
	case c.Meter != nil && c.Meter.Pace != nil:
		return "metered, paced"
	case c.Meter != nil:
		return "metered"
	case c.Drive == contender.DriveACP:
		return "as the tool tells over the protocol"
	case c.Reports != nil:
		return "as the tool reports"
	case c.Drive == contender.DriveHand:
		return "as the person types in"
	}
	return "not counted"
}
