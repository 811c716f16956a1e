package specfile

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Scalar is a value written as one YAML scalar. It is read from its source
// text, so that 0123456 stays a commit id and `no` stays a word.
type Scalar interface {
	// ParseScalar sets the value from its source text.
	ParseScalar(text string) error
	// Expected says what a right value looks like.
	Expected() string
}

// Slug names a task, a contender or a check: 1 to 64 characters of a-z, 0-9
// and hyphens, starting and ending with a letter or digit.
type Slug string

// SlugPattern is the regular expression of a Slug.
const SlugPattern = `^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$`

var slugRE = regexp.MustCompile(SlugPattern)

func (s *Slug) ParseScalar(text string) error {
	if !slugRE.MatchString(text) {
		return fmt.Errorf("not a slug")
	}
	*s = Slug(text)
	return nil
}

func (*Slug) Expected() string {
	return "a slug: 1 to 64 of a-z, 0-9 and '-', beginning and ending with a letter or digit"
}

// Duration is a positive span of time written like 90s, 10m or 1h30m.
type Duration time.Duration

// DurationPattern is the regular expression of a Duration.
const DurationPattern = `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`

var durationRE = regexp.MustCompile(DurationPattern)

func (d *Duration) ParseScalar(text string) error {
	if !durationRE.MatchString(text) {
		return fmt.Errorf("not a duration")
	}
	v, err := time.ParseDuration(text)
	if err != nil || v <= 0 {
		return fmt.Errorf("not a positive duration")
	}
	*d = Duration(v)
	return nil
}

func (*Duration) Expected() string { return "a duration above zero, such as 90s, 10m or 1h30m" }

// Std is the value as a time.Duration; 0 means that nothing was said.
func (d Duration) Std() time.Duration { return time.Duration(d) }

// Size is a number of bytes written like 512KiB or 4MiB.
type Size int64

// SizePattern is the regular expression of a Size.
const SizePattern = `^[1-9][0-9]{0,8}(B|KiB|MiB|GiB)$`

var sizeRE = regexp.MustCompile(SizePattern)

func (s *Size) ParseScalar(text string) error {
	m := sizeRE.FindStringSubmatch(text)
	if m == nil {
		return fmt.Errorf("not a size")
	}
	unit := map[string]int64{"B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}[m[1]]
	n, err := strconv.ParseInt(strings.TrimSuffix(text, m[1]), 10, 64)
	if err != nil || n > (1<<62)/unit {
		return fmt.Errorf("too large")
	}
	*s = Size(n * unit)
	return nil
}

func (*Size) Expected() string { return "a size such as 512KiB, 4MiB or 1GiB" }

// Seed is an integer from 0 to 2^53-1, the range that every JSON reader keeps exact.
type Seed int64

// MaxSeed is the largest seed.
const MaxSeed = 1<<53 - 1

func (s *Seed) ParseScalar(text string) error {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 || n > MaxSeed {
		return fmt.Errorf("out of range")
	}
	*s = Seed(n)
	return nil
}

func (*Seed) Expected() string { return "a whole number from 0 to 9007199254740991 (2^53-1)" }

// EnvName is the name of an environment variable.
type EnvName string

// EnvNamePattern is the regular expression of an EnvName.
const EnvNamePattern = `^[A-Za-z_][A-Za-z0-9_]*$`

var envNameRE = regexp.MustCompile(EnvNamePattern)

func (e *EnvName) ParseScalar(text string) error {
	if !envNameRE.MatchString(text) {
		return fmt.Errorf("not a name")
	}
	*e = EnvName(text)
	return nil
}

func (*EnvName) Expected() string { return "the name of an environment variable, such as PORT_KEY" }
