package contest

import (
	"fmt"
	"slices"
	"strings"

	"agonometer/internal/core/contender"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/task"
)

// AllWordings, as the one entry of `wordings`, means every wording of every task.
const AllWordings = "all"

// takeWordings works out which wordings of each task are used.
func (c *Contest) takeWordings(doc *specfile.Document) {
	known := map[string]bool{}
	for _, t := range c.Tasks {
		var takes []string
		for i, w := range t.Wordings {
			known[string(w.Name)] = true
			if i == 0 && len(c.Wordings) == 0 || slices.Contains(c.Wordings, AllWordings) || slices.Contains(c.Wordings, string(w.Name)) && w.Name != "" {
				takes = append(takes, string(w.Name))
			}
		}
		if len(takes) == 0 && len(t.Wordings) > 0 {
			takes = []string{string(t.Wordings[0].Name)}
		}
		c.Takes[t.Task] = takes
	}
	for i, name := range c.Wordings {
		key := fmt.Sprintf("wordings[%d]", i)
		switch {
		case name == AllWordings && len(c.Wordings) > 1:
			doc.Add(key, "all, and others", "all alone, or names")
		case name != AllWordings && !known[name]:
			doc.Add(key, specfile.Quote(name)+", which no task has", "a name that stands in a task under a heading such as \"## wording: short\"")
		}
	}
}

// checkKinds finds tasks and contenders that do not go together, and rates that
// cannot be added to the prices.
func (c *Contest) checkKinds(doc *specfile.Document) {
	var started []string
	for _, con := range c.Contenders {
		if con.Drive != contender.DriveHand {
			started = append(started, string(con.Contender))
		}
		if g := con.Guidance; g != nil && g.Text == "" && c.Guidance == "" {
			doc.Add("contenders", "the contender "+string(con.Contender)+" with a file for guidance and no text", "the contest's key guidance, or a text in its file")
		}
	}
	for _, t := range c.Tasks {
		if t.Kind == task.Typing && len(started) > 0 {
			doc.Add("contenders", "the task "+string(t.Task)+" of kind typing with "+strings.Join(started, ", "), "contenders with drive: hand; typing is worked by a person")
		}
	}
	if c.HourlyRate != nil {
		if have := c.PriceLists.Currency(); have != "" && have != c.HourlyRate.Currency {
			doc.Add("hourly_rate", c.HourlyRate.String(), "an amount in "+string(have)+", the currency of the contest's price lists")
		}
	}
}

// Bouts is how many bouts the contest has.
func (c *Contest) Bouts() int {
	n := 0
	for _, t := range c.Tasks {
		n += max(1, len(c.Takes[t.Task]))
	}
	return n * len(c.Contenders) * c.Repeats
}

// GuidanceOf is the text that a contender is given under a file name of its own;
// "" for none.
func (c *Contest) GuidanceOf(con *contender.Contender) string {
	switch g := con.Guidance; {
	case g == nil:
		return ""
	case g.Text != "":
		return g.Text
	}
	return c.Guidance
}

// Item is a task in one wording, as the order of a contest visits it.
type Item struct {
	Task    specfile.Slug
	Wording string
	// Further is set for a wording that is not its task's first: the first has the
	// seeds that the task has without any others.
	Further bool
}

// Items are the tasks in their wordings, in the order of the contest's files.
func (c *Contest) Items() []Item {
	var out []Item
	for _, t := range c.Tasks {
		takes := c.Takes[t.Task]
		if len(takes) == 0 {
			takes = []string{""}
		}
		for _, w := range takes {
			out = append(out, Item{t.Task, w, len(t.Wordings) > 0 && w != string(t.Wordings[0].Name)})
		}
	}
	return out
}
