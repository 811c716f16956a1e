package patch

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"

	"golang.org/x/tools/cover"
)

// Coverage tells of files how often each of their lines was executed.
type Coverage map[string]map[int]int64

// Lines are the counts of a file's lines, by number; nil where the file is not known.
// Paths in coverage files may begin with a module's name or a folder of the machine:
// the shortest known path that ends so counts, if what it begins with is where all the
// known files lie.
func (c Coverage) Lines(name string) map[int]int64 {
	if lines, ok := c[name]; ok {
		return lines
	}
	best, common, first := "", "", true
	for known := range c {
		dir := path.Dir(known) + "/"
		for !first && !strings.HasPrefix(dir, common) {
			common = common[:strings.LastIndexByte(strings.TrimSuffix(common, "/"), '/')+1]
		}
		if first {
			common, first = dir, false
		}
	}
	for known := range c {
		begin := strings.TrimSuffix(known, name)
		if strings.HasSuffix(known, "/"+name) && strings.HasPrefix(common, begin) && (best == "" || len(known) < len(best) || len(known) == len(best) && known < best) {
			best = known
		}
	}
	return c[best]
}

// Join adds the counts of another file; c may be nil.
func (c Coverage) Join(other Coverage) Coverage {
	if c == nil {
		return other
	}
	for file, lines := range other {
		for n, count := range lines {
			c.add(file, n, count)
		}
	}
	return c
}

func (c Coverage) add(file string, line int, count int64) {
	if c[file] == nil {
		c[file] = map[int]int64{}
	}
	c[file][line] += count
}

// maxCovered is how many lines of a coverage file are kept.
const maxCovered = 5_000_000

// ReadCoverage reads a Go cover profile, LCOV or Cobertura, told apart by how they begin.
func ReadCoverage(data []byte) (Coverage, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	head := bytes.TrimSpace(data[:min(len(data), 1000)])
	switch {
	case len(head) == 0:
		return nil, errors.New("the coverage file is empty")
	case bytes.HasPrefix(head, []byte("mode:")):
		return goProfile(data)
	case bytes.HasPrefix(head, []byte("<")):
		return cobertura(data)
	case bytes.HasPrefix(head, []byte("TN:")), bytes.HasPrefix(head, []byte("SF:")):
		return lcov(data)
	}
	return nil, errors.New("the coverage file is neither a Go cover profile nor LCOV nor Cobertura")
}

func goProfile(data []byte) (Coverage, error) {
	profiles, err := cover.ParseProfilesFromReader(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("the Go cover profile cannot be read: %w", err)
	}
	out, total := Coverage{}, 0
	for _, p := range profiles {
		name := path.Clean(p.FileName)
		for _, b := range p.Blocks {
			if b.StartLine < 1 || b.EndLine < b.StartLine {
				return nil, fmt.Errorf("the Go cover profile cannot be read: a block of %s from line %d to %d", p.FileName, b.StartLine, b.EndLine)
			}
			if total += b.EndLine - b.StartLine + 1; total > maxCovered {
				return nil, fmt.Errorf("the Go cover profile names more than %d lines", maxCovered)
			}
			for n := b.StartLine; n <= b.EndLine; n++ {
				out.add(name, n, int64(b.Count))
			}
		}
	}
	return out, nil
}

func lcov(data []byte) (Coverage, error) {
	out, file := Coverage{}, ""
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		key, rest, _ := strings.Cut(strings.TrimSpace(lines.Text()), ":")
		switch key {
		case "SF":
			file = path.Clean(strings.TrimPrefix(rest, "./"))
		case "DA":
			parts := strings.Split(rest, ",")
			if len(parts) < 2 || file == "" {
				return nil, fmt.Errorf("line %d of the LCOV file is no line count: %.60q", n, lines.Text())
			}
			line, err := strconv.Atoi(parts[0])
			count, err2 := strconv.ParseFloat(parts[1], 64)
			if err != nil || err2 != nil || line < 0 {
				return nil, fmt.Errorf("line %d of the LCOV file is no line count: %.60q", n, lines.Text())
			}
			out.add(file, line, int64(max(count, 0)))
		case "end_of_record":
			file = ""
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("the LCOV file cannot be read: %w", err)
	}
	return out, nil
}

func cobertura(data []byte) (Coverage, error) {
	var doc struct {
		XMLName  xml.Name `xml:"coverage"`
		Packages []struct {
			Classes []struct {
				File  string `xml:"filename,attr"`
				Lines []struct {
					Number int     `xml:"number,attr"`
					Hits   float64 `xml:"hits,attr"`
				} `xml:"lines>line"`
			} `xml:"classes>class"`
		} `xml:"packages>package"`
	}
	if err := xml.Unmarshal(data, &doc); err != nil {
		return nil, fmt.Errorf("the Cobertura file cannot be read: %w", err)
	}
	out := Coverage{}
	for _, p := range doc.Packages {
		for _, c := range p.Classes {
			for _, l := range c.Lines {
				if l.Number > 0 {
					out.add(path.Clean(c.File), l.Number, int64(max(l.Hits, 0)))
				}
			}
		}
	}
	return out, nil
}
