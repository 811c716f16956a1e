package testlog

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func formatOf(file string) Format {
	switch filepath.Ext(file) {
	case ".xml":
		return JUnit
	case ".tap":
		return TAP
	}
	return GoTestJSON
}

// The files under testdata are what the runners printed on small projects of
// the port; only folder and host names were changed afterwards.
func TestRealRunners(t *testing.T) {
	cases := map[string]map[string]Outcome{
		"go-test.jsonl": {"averil.example/gauge/berth TestAground": Failed, "averil.example/gauge/berth TestClear": Passed, "averil.example/gauge/broken": Failed,
			"averil.example/gauge/slow TestQuick": Passed, "averil.example/gauge/slow TestWaits": Failed, "averil.example/gauge/tide TestHeight": Passed,
			"averil.example/gauge/tide TestNeaps": Skipped, "averil.example/gauge/tide TestSprings": Failed, "averil.example/gauge/tide TestSprings/March": Failed,
			"averil.example/gauge/tide TestSprings/May": Passed},
		"gotestsum-all.xml": {"averil.example/gauge/berth TestAground": Failed, "averil.example/gauge/berth TestClear": Passed, "averil.example/gauge/broken TestMain": Failed,
			"averil.example/gauge/slow TestMain": Failed, "averil.example/gauge/slow TestQuick": Passed, "averil.example/gauge/slow TestWaits": Failed,
			"averil.example/gauge/tide TestHeight": Passed, "averil.example/gauge/tide TestNeaps": Skipped, "averil.example/gauge/tide TestSprings": Failed,
			"averil.example/gauge/tide TestSprings/March": Failed, "averil.example/gauge/tide TestSprings/May": Passed},
		// Run again after a failure: both tries are there.
		"gotestsum.xml": {"averil.example/gauge/tide TestHeight": Passed, "averil.example/gauge/tide TestNeaps": Skipped, "averil.example/gauge/tide TestSprings": Failed,
			"averil.example/gauge/tide TestSprings #2": Failed, "averil.example/gauge/tide TestSprings/March": Failed, "averil.example/gauge/tide TestSprings/March #2": Failed,
			"averil.example/gauge/tide TestSprings/May": Passed},
		"node.tap": {"/averil/n/crash.test.js": Failed, `a lamp # with a hash \ and more`: Passed, "a lamp is lit": Passed, "a lamp is lit #2": Passed,
			"leading lights > are white": Failed, "leading lights > at night > are seen": Passed, "leading lights > stand in line": Passed,
			"skipped for fog": Skipped, "still to do": Skipped, "the bar buoy flashes": Failed},
		"node-junit.xml": {"leading lights at night test are seen": Passed, "leading lights test are white": Failed, "leading lights test stand in line": Passed,
			"test /averil/n/crash.test.js": Failed, `test a lamp # with a hash \ and more`: Passed, "test a lamp is lit": Passed, "test a lamp is lit #2": Passed,
			"test skipped for fog": Skipped, "test still to do": Skipped, "test the bar buoy flashes": Failed},
		"vitest.tap": {"lamps.test.js > a lamp is lit": Passed, "lamps.test.js > leading lights > are white": Failed,
			"lamps.test.js > leading lights > blink": Passed, "lamps.test.js > leading lights > blink #2": Passed, "lamps.test.js > leading lights > stand in line": Passed,
			"lamps.test.js > skipped for fog": Skipped, "lamps.test.js > still to do": Skipped},
		"vitest-flat.tap": {"lamps.test.js > a lamp is lit": Passed, "lamps.test.js > leading lights > are white": Failed, "lamps.test.js > leading lights > blink": Passed,
			"lamps.test.js > leading lights > blink #2": Passed, "lamps.test.js > leading lights > stand in line": Passed, "lamps.test.js > skipped for fog": Skipped,
			"lamps.test.js > still to do": Skipped},
		"vitest.xml": {"lamps.test.js a lamp is lit": Passed, "lamps.test.js leading lights > are white": Failed, "lamps.test.js leading lights > blink": Passed,
			"lamps.test.js leading lights > blink #2": Passed, "lamps.test.js leading lights > stand in line": Passed, "lamps.test.js skipped for fog": Skipped,
			"lamps.test.js still to do": Skipped},
		"tape.tap":   {"heights > high water": Passed, "todo > later": Skipped, "heights > low water": Failed},
		"bats.tap":   {"a lamp is lit": Passed, "fog": Skipped, "the bar buoy flashes": Failed},
		"bats13.tap": {"a lamp is lit": Passed, "fog": Skipped, "the bar buoy flashes": Failed},
		"bats.xml":   {"lamps.bats a lamp is lit": Passed, "lamps.bats fog": Skipped, "lamps.bats the bar buoy flashes": Failed},
	}
	files, err := filepath.Glob("testdata/*.*")
	require.NoError(t, err)
	require.Len(t, files, len(cases))
	for _, file := range files {
		name := filepath.Base(file)
		t.Run(name, func(t *testing.T) {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			rep, err := Read(formatOf(file), bytes.NewReader(data), Options{})
			require.NoError(t, err)
			assert.Equal(t, cases[name], outcomes(rep.Tests))
			assert.Empty(t, rep.Remarks)
			for _, one := range rep.Tests {
				if one.Outcome == Failed && !strings.HasSuffix(one.Name, "lights") && one.Name != "lamps.test.js" {
					assert.NotEmpty(t, one.Message, one.Name)
				}
			}
			// Cut off anywhere it still gives what stands before, and never a test that the whole does not have.
			for cut := 0; cut < len(data); cut += 1 + len(data)/97 {
				end := cut
				if formatOf(file) == TAP { // half a line of TAP can be a whole line of TAP
					end = bytes.LastIndexByte(data[:cut], '\n') + 1
				}
				part, _ := Read(formatOf(file), bytes.NewReader(data[:end]), Options{})
				for _, one := range part.Tests {
					if one.Outcome == Passed {
						base, _, _ := strings.Cut(one.Name, " #")
						found := false
						for known := range cases[name] {
							found = found || strings.Contains(known, base[strings.LastIndex(base, "> ")+1:])
						}
						assert.True(t, found, "%s, cut at %d", one.Name, cut)
					}
				}
			}
		})
	}
}

func TestDurationsAreMilliseconds(t *testing.T) {
	rep, err := Read(JUnit, strings.NewReader(`<testsuite><testcase name="a" time="1,234.5"/><testcase name="b" time="-1"/><testcase name="c" time="NaN"/><testcase name="d"/></testsuite>`), Options{})
	require.NoError(t, err)
	require.Len(t, rep.Tests, 4)
	assert.EqualValues(t, 1234500, *rep.Tests[0].ElapsedMS)
	for _, one := range rep.Tests[1:] {
		assert.Nil(t, one.ElapsedMS, one.Name)
	}
	rep, err = Read(TAP, strings.NewReader("ok 1 - a # time=2.5ms\nok 2 - b # time=3s\n"), Options{})
	require.NoError(t, err)
	assert.EqualValues(t, 3, *rep.Tests[0].ElapsedMS)
	assert.EqualValues(t, 3000, *rep.Tests[1].ElapsedMS)
}

func TestJUnitOddities(t *testing.T) {
	cases := []struct {
		name, in string
		want     map[string]Outcome
		remark   string
		fails    bool
	}{
		{"nothing", "", map[string]Outcome{}, "", true},
		{"no XML", "all is well\n<<< done >>>\n", map[string]Outcome{}, "", true},
		{"another document", "<tide><height/></tide>", map[string]Outcome{}, "", true},
		{"printed before it", "> lamps@1 test\n> run\n\n<?xml version=\"1.0\"?><testsuites><testsuite name=\"s\"><testcase name=\"a\"/></testsuite></testsuites>", map[string]Outcome{"s a": Passed}, "", false},
		{"nested suites", `<testsuites><testsuite name="port"><testsuite name="mole"><testcase classname="lamp" name="a"/></testsuite></testsuite></testsuites>`, map[string]Outcome{"port mole lamp a": Passed}, "", false},
		{"a suite that fails by itself", `<testsuite name="port"><error message="no database"/></testsuite>`, map[string]Outcome{"port": Failed}, "", false},
		{"flaky, and passed in the end", `<testsuite><testcase name="a"><flakyFailure message="once"/></testcase></testsuite>`, map[string]Outcome{"a": Passed}, "", false},
		{"failed again", `<testsuite><testcase name="a"><failure/><rerunFailure message="twice"/></testcase></testsuite>`, map[string]Outcome{"a": Failed}, "", false},
		{"failed and then said to be skipped", `<testsuite><testcase name="a"><failure/><skipped/></testcase></testsuite>`, map[string]Outcome{"a": Skipped}, "", false},
		{"not run", `<testsuite><testcase name="a" status="notrun"/></testsuite>`, map[string]Outcome{"a": Skipped}, "", false},
		{"without a name", `<testsuite><testcase/><testcase/></testsuite>`, map[string]Outcome{"(without a name)": Passed, "(without a name) #2": Passed}, "", false},
		{"two documents", `<testsuite><testcase name="a"/></testsuite><?xml version="1.0"?><testsuite><testcase name="b"/></testsuite>`, map[string]Outcome{"a": Passed, "b": Passed}, "", false},
		{"control characters and bytes that are no text", "<testsuite><testcase name=\"a\x1b[31m\xff\"><failure>\x00\x01</failure></testcase></testsuite>", map[string]Outcome{"a [31m\ufffd": Failed}, "", false},
		{"an entity of its own", `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><testsuite><testcase name="&b;"/></testsuite>`, map[string]Outcome{"&b;": Passed}, "", false},
		{"cut off", `<testsuite name="s"><testcase name="a"/><testcase name="b"><failure>too l`, map[string]Outcome{"s a": Passed, "s b": Failed}, "cut off", false},
		{"cut off in a tag", `<testsuite name="s"><testcase name="a"/><testca`, map[string]Outcome{"s a": Passed}, "cannot be read to its end", false},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			rep, err := Read(JUnit, strings.NewReader(c.in), Options{})
			assert.Equal(t, c.fails, err != nil, "%v", err)
			assert.Equal(t, c.want, outcomes(rep.Tests))
			if c.remark != "" {
				assert.Contains(t, strings.Join(rep.Remarks, "; "), c.remark)
			}
		})
	}
}

func TestTAPOddities(t *testing.T) {
	cases := []struct {
		name, in string
		want     map[string]Outcome
		remark   string
		fails    bool
	}{
		{"nothing", "", map[string]Outcome{}, "", true},
		{"prose", "okay, all is well\nok-ish\nnot okay\n", map[string]Outcome{}, "", true},
		{"an empty plan", "TAP version 14\n1..0 # SKIP no lamps\n", map[string]Outcome{}, "", false},
		{"bail-out", "TAP version 13\n1..3\nok 1 - a\nBail out! the mole is gone\n", map[string]Outcome{"a": Passed}, "bailed out the mole is gone", false},
		{"a plan that was not kept", "1..3\nok 1 - a\nok 2 - b\n", map[string]Outcome{"a": Passed, "b": Passed}, "plan was 3 tests, and 2", false},
		{"no descriptions", "ok 1\nnot ok 2\nok\n", map[string]Outcome{"test 1": Passed, "test 2": Failed, "test 3": Passed}, "", false},
		{"directives", "ok 1 - a # SKIP fog\nnot ok 2 - b # TODO later\nok 3 - c # todo\nok 4 - d \\# SKIP\n", map[string]Outcome{"a": Skipped, "b": Skipped, "c": Skipped, "d # SKIP": Passed}, "", false},
		{"subtests without their parent", "    ok 1 - a\n    not ok 2 - b\n", map[string]Outcome{"a": Passed, "b": Failed}, "", false},
		{"two streams", "TAP version 13\n1..1\nok 1 - a\nTAP version 13\n1..1\nok 1 - a\n", map[string]Outcome{"a": Passed, "a #2": Passed}, "", false},
		{"results inside diagnostics", "not ok 1 - a\n  ---\n  output: |\n    ok 2 - goal\n  ok 3 - goal\n  ...\n", map[string]Outcome{"a": Failed}, "", false},
		{"very deep", strings.Repeat(" ", 4000) + "ok 1 - a\nok 1 - b\n", map[string]Outcome{"b": Passed}, "", false},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			rep, err := Read(TAP, strings.NewReader(c.in), Options{})
			assert.Equal(t, c.fails, err != nil, "%v", err)
			assert.Equal(t, c.want, outcomes(rep.Tests))
			if c.remark != "" {
				assert.Contains(t, strings.Join(rep.Remarks, "; "), c.remark)
			}
		})
	}
}

// All tests of a run count, however many there are. What is kept is bounded: those that
// were asked for first, then those that failed.
func TestManyTestsAreBounded(t *testing.T) {
	const many = 70_000
	write := map[Format]func(w io.Writer, i int, failed bool){
		GoTestJSON: func(w io.Writer, i int, failed bool) {
			fmt.Fprintf(w, `{"Action":"run","Package":"p","Test":"T%d"}`+"\n"+`{"Action":"output","Package":"p","Test":"T%d","Output":"said %d\n"}`+"\n"+`{"Action":"%s","Package":"p","Test":"T%d"}`+"\n", i, i, i, map[bool]string{true: "fail", false: "pass"}[failed], i)
		},
		JUnit: func(w io.Writer, i int, failed bool) {
			fmt.Fprintf(w, `<testcase classname="p" name="T%d">%s</testcase>`+"\n", i, map[bool]string{true: fmt.Sprintf(`<failure message="said %d"/>`, i)}[failed])
		},
		TAP: func(w io.Writer, i int, failed bool) {
			fmt.Fprintf(w, "%s - p T%d\n", map[bool]string{true: "not ok", false: "ok"}[failed], i)
			if failed {
				fmt.Fprintf(w, "  ---\n  said %d\n  ...\n", i)
			}
		},
	}
	for format, one := range write {
		t.Run(string(format), func(t *testing.T) {
			var b strings.Builder
			if format == JUnit {
				b.WriteString("<testsuite>")
			}
			for i := range many {
				one(&b, i, i == many-2)
			}
			if format == JUnit {
				b.WriteString("</testsuite>")
			}
			rep, err := Read(format, strings.NewReader(b.String()), Options{})
			require.NoError(t, err)
			assert.Equal(t, Summary{Passed: many - 1, Failed: 1}, rep.Summary)
			assert.Len(t, rep.Tests, many, "that many are kept")
			assert.Zero(t, rep.Dropped)

			asked := fmt.Sprintf("p T%d", many-1)
			rep, err = Read(format, strings.NewReader(b.String()), Options{Asked: map[string]bool{asked: true}, Others: 100})
			require.NoError(t, err)
			assert.Equal(t, Summary{Passed: many - 1, Failed: 1}, rep.Summary)
			assert.Equal(t, many-102, rep.Dropped)
			assert.Empty(t, rep.Remarks)
			got := outcomes(rep.Tests)
			assert.Len(t, got, 102)
			assert.Equal(t, Passed, got[asked])
			assert.Equal(t, Failed, got[fmt.Sprintf("p T%d", many-2)])
			for _, one := range rep.Tests {
				if one.Outcome == Failed {
					assert.Contains(t, one.Message, fmt.Sprintf("said %d", many-2))
				}
			}
		})
	}
}

// A test that is run again counts once, also where it is not kept, and has failed if it
// did so once.
func TestRepeatsOfTestsThatAreNotKept(t *testing.T) {
	var b strings.Builder
	for range 3 {
		for i := range 50 {
			fmt.Fprintf(&b, `{"Action":"run","Package":"p","Test":"T%d"}`+"\n"+`{"Action":"pass","Package":"p","Test":"T%d"}`+"\n", i, i)
		}
	}
	b.WriteString(`{"Action":"fail","Package":"p","Test":"T40"}` + "\n" + `{"Action":"pass","Package":"p","Test":"T40"}` + "\n" + `{"Action":"run","Package":"p","Test":"T60"}` + "\n" + `{"Action":"fail","Package":"p"}` + "\n")
	rep, err := Read(GoTestJSON, strings.NewReader(b.String()), Options{Others: 10})
	require.NoError(t, err)
	assert.Equal(t, 49, rep.Summary.Passed)
	assert.Equal(t, 2, rep.Summary.Failed, "T40, and T60, of which no end came")
	assert.Equal(t, Failed, outcomes(rep.Tests)["p T40"])
}

func TestOneNameForMany(t *testing.T) {
	rep, err := Read(TAP, strings.NewReader(strings.Repeat("ok 1 - the same\n", maxSameName+5000)), Options{})
	require.NoError(t, err)
	assert.Len(t, rep.Tests, maxSameName)
	assert.Contains(t, strings.Join(rep.Remarks, "; "), "one name was given to more than")
	rep, err = Read(TAP, strings.NewReader("ok 1 - a #2\nok 2 - a\nok 3 - a\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, map[string]Outcome{"a": Passed, "a #2": Passed, "a #3": Passed}, outcomes(rep.Tests))
}

func TestCachedResultsAreSeen(t *testing.T) {
	out := `{"Action":"output","Package":"p","Output":"ok  \tp\t(cached)\n"}` + "\n" + `{"Action":"pass","Package":"p","Test":"A"}` + "\n"
	rep, err := Read(GoTestJSON, strings.NewReader(out), Options{})
	require.NoError(t, err)
	assert.True(t, rep.Cached)
	rep, err = Read(GoTestJSON, strings.NewReader(strings.Replace(out, "(cached)", "0.1s", 1)), Options{})
	require.NoError(t, err)
	assert.False(t, rep.Cached)
}

func TestNumbers(t *testing.T) {
	took := regexp.MustCompile(`took ([0-9.e+]+) ms`)
	cases := []struct {
		name, out string
		pattern   *regexp.Regexp
		pointer   string
		want      float64
		err       string
	}{
		{"pattern", "took 3.5 ms\n", took, "", 3.5, ""},
		{"the last match counts", "took 9 ms\nwarm:\ntook 4 ms\n", took, "", 4, ""},
		{"no match", "done\n", took, "", 0, "matches"},
		{"not finite", "took 1e999 ms", took, "", 0, "no number"},
		{"pointer", `{"export":{"ms":[1,12.5]}}`, nil, "/export/ms/1", 12.5, ""},
		{"last line", "warming up\n{\"ms\": 7}\n", nil, "/ms", 7, ""},
		{"escaped", `{"a/b":{"~":"8"}}`, nil, "/a~1b/~0", 8, ""},
		{"points at nothing", `{"ms":1}`, nil, "/s", 0, "points at nothing"},
		{"points into a value", `{"ms":1}`, nil, "/ms/2", 0, "plain value"},
		{"leading zero", `[1,2]`, nil, "/01", 0, "no element"},
		{"no JSON", "hello", nil, "/ms", 0, "no JSON"},
		{"no number there", `{"ms":true}`, nil, "/ms", 0, "points at no number"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, err := ReadNumber([]byte(c.out), c.pattern, c.pointer)
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func fuzzFormat(f *testing.F, format Format, ext string) {
	files, _ := filepath.Glob("testdata/*" + ext)
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		rep, _ := Read(format, bytes.NewReader(data), Options{})
		if len(rep.Tests) != rep.Summary.Ran()+rep.Summary.Skipped {
			t.Fatalf("%d tests, counted %+v", len(rep.Tests), rep.Summary)
		}
		seen := map[string]bool{}
		for _, one := range rep.Tests {
			if seen[one.Name] {
				t.Fatalf("%q twice", one.Name)
			}
			seen[one.Name] = true
		}
		if _, err := json.Marshal(rep); err != nil {
			t.Fatal(err)
		}
	})
}

func FuzzReadJUnit(f *testing.F) { fuzzFormat(f, JUnit, ".xml") }
func FuzzReadTAP(f *testing.F)   { fuzzFormat(f, TAP, ".tap") }

func FuzzReadNumber(f *testing.F) {
	f.Add([]byte(`{"a":[1,{"b":2}]}`), "/a/1/b")
	f.Add([]byte("x\n[1]\n"), "/0")
	f.Fuzz(func(_ *testing.T, data []byte, pointer string) {
		_, _ = ReadNumber(data, nil, pointer)
		_, _ = ReadNumber(data, regexp.MustCompile(`([0-9]+)`), "")
	})
}

// The ratio of the two benchmarks is what reading costs beyond decoding.
func benchEvents() []byte {
	var b bytes.Buffer
	for i := range 25_000 {
		fmt.Fprintf(&b, `{"Time":"2031-03-05T10:00:00.000000001Z","Action":"run","Package":"averil.example/p%d","Test":"TestLamp%d"}`+"\n", i%50, i)
		fmt.Fprintf(&b, `{"Time":"2031-03-05T10:00:00.000000001Z","Action":"output","Package":"averil.example/p%d","Test":"TestLamp%d","Output":"=== RUN   TestLamp%d\n"}`+"\n", i%50, i, i)
		fmt.Fprintf(&b, `{"Time":"2031-03-05T10:00:00.000000001Z","Action":"output","Package":"averil.example/p%d","Test":"TestLamp%d","Output":"--- PASS: TestLamp%d (0.00s)\n"}`+"\n", i%50, i, i)
		fmt.Fprintf(&b, `{"Time":"2031-03-05T10:00:00.000000001Z","Action":"pass","Package":"averil.example/p%d","Test":"TestLamp%d","Elapsed":0}`+"\n", i%50, i)
	}
	return b.Bytes()
}

func BenchmarkReadGoTest100k(b *testing.B) {
	data := benchEvents()
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		if rep, err := Read(GoTestJSON, bytes.NewReader(data), Options{}); err != nil || rep.Summary.Passed != 25_000 {
			b.Fatal(err, rep.Summary)
		}
	}
}

func BenchmarkDecode100k(b *testing.B) {
	data := benchEvents()
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		dec := json.NewDecoder(bytes.NewReader(data))
		n := 0
		for dec.More() {
			var e goEvent
			if err := dec.Decode(&e); err != nil {
				b.Fatal(err)
			}
			n++
		}
		if n != 100_000 {
			b.Fatal(n)
		}
	}
}

// Whatever a check prints, reading it costs a bounded amount of memory.
func TestHostileOutputCostsBoundedMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("it reads half a gigabyte")
	}
	long := strings.Repeat("x", 900<<10)
	repeat := func(n int, one func(i int) string) io.Reader {
		r, w := io.Pipe()
		go func() { // ends with the reader
			for i := range n {
				if _, err := io.WriteString(w, one(i)); err != nil {
					return
				}
			}
			w.Close()
		}()
		return r
	}
	for name, in := range map[string]struct {
		format Format
		from   func() io.Reader
	}{
		"go test, long names": {GoTestJSON, func() io.Reader {
			return repeat(100, func(i int) string {
				return fmt.Sprintf("{\"Action\":\"fail\",\"Package\":\"p\",\"Test\":\"%d%s\"}\n", i, long)
			})
		}},
		"go test, many names": {GoTestJSON, func() io.Reader {
			return repeat(400_000, func(i int) string {
				return fmt.Sprintf("{\"Action\":\"fail\",\"Package\":\"p\",\"Test\":\"%d%s\"}\n", i, long[:300])
			})
		}},
		"go test, many builds": {GoTestJSON, func() io.Reader {
			return repeat(100_000, func(i int) string {
				return fmt.Sprintf("{\"Action\":\"build-output\",\"ImportPath\":\"%d%s\",\"Output\":\"%s\"}\n", i, long[:500], long[:500])
			})
		}},
		"TAP, long names": {TAP, func() io.Reader {
			return repeat(100, func(i int) string { return fmt.Sprintf("    not ok %d %d%s\n", i, i, long) })
		}},
		"TAP, many messages": {TAP, func() io.Reader {
			return repeat(60_000, func(i int) string {
				return fmt.Sprintf("    not ok %d t%d\n      ---\n      %s\n      ...\n", i, i, long[:3000])
			})
		}},
		"JUnit, a long attribute": {JUnit, func() io.Reader {
			return io.MultiReader(strings.NewReader("<testsuite><testcase name=\"a\"/><testcase name=\""), repeat(100, func(int) string { return long }))
		}},
		"JUnit, a long text": {JUnit, func() io.Reader {
			return io.MultiReader(strings.NewReader("<testsuite><testcase name=\"a\"/><system-out>"), repeat(100, func(int) string { return long }))
		}},
		"JUnit, a long comment": {JUnit, func() io.Reader {
			return io.MultiReader(strings.NewReader("<testsuite><testcase name=\"a\"/><!--"), repeat(100, func(int) string { return strings.Repeat("<>", 1<<19) }))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			var most uint64
			stop, ended := make(chan struct{}), make(chan struct{})
			go func() { // ends when stop is closed
				defer close(ended)
				for {
					var m runtime.MemStats
					runtime.ReadMemStats(&m)
					most = max(most, m.HeapInuse)
					select {
					case <-stop:
						return
					case <-time.After(20 * time.Millisecond):
					}
				}
			}()
			report, _ := Read(in.format, in.from(), Options{})
			close(stop)
			<-ended
			assert.Less(t, most, uint64(200<<20))
			assert.LessOrEqual(t, len(report.Tests), MaxTests)
		})
	}
}

// What is counted is what runners themselves say that they counted; what each said stands
// beside its output. Where they differ, the report does not hold what the runner knows.
func TestRunnersOwnSummaries(t *testing.T) {
	for file, want := range map[string]Summary{
		"ant.xml":          {Passed: 2, Failed: 2, Skipped: 2},
		"ava.tap":          {Passed: 3, Failed: 2, Skipped: 2},
		"cargo.xml":        {Passed: 2, Failed: 2},             // the report leaves out what is ignored
		"catch2.xml":       {Passed: 4, Failed: 3, Skipped: 2}, // by section; one that was to fail and passed is no failure there
		"cmocka.tap":       {Passed: 1, Failed: 2, Skipped: 1},
		"cmocka.xml":       {Passed: 1, Failed: 2, Skipped: 1},
		"ctest.xml":        {Passed: 2, Failed: 3, Skipped: 2}, // skipped and disabled
		"doctest.xml":      {Passed: 3, Failed: 4},             // by section; the report does not say what may fail
		"gtest.xml":        {Passed: 3, Failed: 2, Skipped: 2}, // skipped and disabled
		"jest.xml":         {Passed: 4, Failed: 3, Skipped: 1}, // the report does not say what is to be done
		"junit5.xml":       {Passed: 4, Failed: 3, Skipped: 2}, // skipped and aborted
		"mocha-xunit.xml":  {Passed: 1, Failed: 2, Skipped: 3},
		"mocha.tap":        {Passed: 1, Failed: 2, Skipped: 3},
		"node-junit.xml":   {Passed: 2, Failed: 2, Skipped: 5}, // skipped and to be done
		"node.tap":         {Passed: 2, Failed: 2, Skipped: 5},
		"prove.tap":        {Passed: 6, Failed: 1, Skipped: 4},  // subtests count too
		"pytest.xml":       {Passed: 6, Failed: 11, Skipped: 7}, // failed and errors; skipped and expected failures
		"tape.tap":         {Passed: 4, Failed: 1, Skipped: 2},  // skipped and to be done count as passed there
		"unittest.xml":     {Passed: 1, Failed: 4, Skipped: 3},
		"vitest-junit.xml": {Passed: 2, Failed: 2, Skipped: 2},
		"vitest.tap":       {Passed: 2, Failed: 2, Skipped: 2},
	} {
		t.Run(file, func(t *testing.T) {
			data, err := os.ReadFile(filepath.Join("testdata", "runners", file))
			require.NoError(t, err)
			rep, err := Read(formatOf(file), bytes.NewReader(data), Options{})
			require.NoError(t, err)
			assert.Equal(t, want, rep.Summary)
		})
	}
	names := func(file string) map[string]Outcome {
		data, err := os.ReadFile(filepath.Join("testdata", "runners", file))
		require.NoError(t, err)
		rep, err := Read(formatOf(file), bytes.NewReader(data), Options{})
		require.NoError(t, err)
		return outcomes(rep.Tests)
	}
	assert.Equal(t, Failed, names("tape.tap")["lamps > out"], "remarks name the test of the assertions behind them")
	assert.Equal(t, Passed, names("unittest.xml")["test_old.Old test_lit"], "a name holds no date")
}

// A suite that fails by itself is a test; one that says what those in it came to is none.
func TestSuitesThatFailByThemselves(t *testing.T) {
	rep, err := Read(TAP, strings.NewReader("TAP version 13\n1..2\nnot ok 1 - a {\n    1..1\n    ok 1 - x\n}\nnot ok 2 - b {\n    1..1\n    not ok 1 - y\n}\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, map[string]Outcome{"a": Failed, "a > x": Passed, "b > y": Failed}, outcomes(rep.Tests))
	rep, err = Read(TAP, strings.NewReader("# Subtest: a\n    # Subtest: x\n    ok 1 - x\n    1..1\nnot ok 1 - a\n  ---\n  type: 'suite'\n  failureType: 'hookFailed'\n  ...\n1..1\n"), Options{})
	require.NoError(t, err)
	assert.Equal(t, map[string]Outcome{"a": Failed, "a > x": Passed}, outcomes(rep.Tests))
}
