package api

import "agonometer/internal/core/patch"

// EditMeasures are a round's edit measures.
type EditMeasures struct {
	BoutID string `json:"bout_id"`
	Round  int    `json:"round"`
	// Version is by which counting they were worked out, Current that of this service;
	// figures of different versions are not compared.
	Version int `json:"version"`
	Current int `json:"current"`
	// Measures are all measures in their order, those too that are left out.
	Measures []patch.MeasureInfo `json:"measures"`
	// Figures are all there are, in their order, without what was set aside.
	Figures  []EditFigure  `json:"figures"`
	Findings []EditFinding `json:"findings"`
	// Notes say what could not be seen.
	Notes []string `json:"notes"`
	// Off are measures that the task leaves out.
	Off []string `json:"off"`
}

// EditFigure is one figure with its meaning.
type EditFigure struct {
	patch.FigureInfo
	// Value is null where it cannot be told; Why says why.
	Value *float64 `json:"value"`
	Why   string   `json:"why"`
	// AtMost is what the task allows; null where it says nothing.
	AtMost *float64 `json:"at_most"`
	// Where are the places that it comes from, at most 200; More is how many there are
	// beside these.
	Where []patch.Place `json:"where"`
	More  int           `json:"more"`
}

// EditFinding is a piece of evidence with what a person says of it.
type EditFinding struct {
	patch.Finding
	// Mark is aside, needed, welcome or unwanted; "" where nobody said anything.
	Mark   string `json:"mark"`
	Reason string `json:"reason"`
	By     string `json:"by"`
	At     *Time  `json:"at"`
}

// MarkEdit says something of a finding.
type MarkEdit struct {
	// Mark is aside (a false alarm, not counted), or of a stray needed, welcome or
	// unwanted; "" takes back what was said.
	Mark string `json:"mark"`
	// Reason is wanted for aside.
	Reason string `json:"reason,omitempty"`
	By     string `json:"by,omitempty"`
}

// Comparison is two to four results of one task next to each other.
type Comparison struct {
	Task      string `json:"task"`
	TaskTitle string `json:"task_title"`
	// Results are in the order in which they were asked for; the reference, where it
	// was wanted, comes last.
	Results []ComparedResult `json:"results"`
	// Files are all that any of them touches.
	Files []ComparedFile `json:"files"`
	// Figures are what the results differ in, or share, by result.
	Figures []ComparedFigure `json:"figures"`
	Notes   []string         `json:"notes"`
}

// ComparedResult is one of the results.
type ComparedResult struct {
	// Bout is null for the reference.
	Bout *Bout `json:"bout"`
	// Name is what it is called in the comparison.
	Name string `json:"name"`
	// Version is by which counting its measures were worked out; 0 for none.
	Version int `json:"version"`
	// Diff is its change, file by file, with at most 20,000 lines of a file.
	Diff []patch.File `json:"diff"`
	// Findings are the evidence that belongs into it.
	Findings []EditFinding `json:"findings"`
}

// ComparedFile is a file that some of the results touch.
type ComparedFile struct {
	Path string `json:"path"`
	// Touched has for each result what it did to the file; "" for nothing.
	Touched []string `json:"touched"`
	Added   []int    `json:"added"`
	Removed []int    `json:"removed"`
	// By is all, some or one.
	By string `json:"by"`
}

// ComparedFigure is a figure of each result.
type ComparedFigure struct {
	patch.FigureInfo
	Values []*float64 `json:"values"`
	// Differs is set where they are not all the same.
	Differs bool `json:"differs"`
}
