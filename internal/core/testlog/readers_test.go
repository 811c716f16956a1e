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
		"node.tap": {"/averil/n/crash.test.js": Failed, `a lamp # with a hash \ and more`: Passed, "a lamp is lit": Passed, "a lamp is lit #2": Passed, "leading lights": Failed,
			"leading lights > are white": Failed, "leading lights > at night": Passed, "leading lights > at night > are seen": Passed, "leading lights > stand in line": Passed,
			"skipped for fog": Skipped, "still to do": Skipped, "the bar buoy flashes": Failed},
		"node-junit.xml": {"leading lights at night test are seen": Passed, "leading lights test are white": Failed, "leading lights test stand in line": Passed,
			"test /averil/n/crash.test.js": Failed, `test a lamp # with a hash \ and more`: Passed, "test a lamp is lit": Passed, "test a lamp is lit #2": Passed,
			"test skipped for fog": Skipped, "test still to do": Failed, "test the bar buoy flashes": Failed},
		"vitest.tap": {"lamps.test.js": Failed, "lamps.test.js > a lamp is lit": Passed, "lamps.test.js > leading lights": Failed, "lamps.test.js > leading lights > are white": Failed,
			"lamps.test.js > leading lights > blink": Passed, "lamps.test.js > leading lights > blink #2": Passed, "lamps.test.js > leading lights > stand in line": Passed,
			"lamps.test.js > skipped for fog": Skipped, "lamps.test.js > still to do": Skipped},
		"vitest-flat.tap": {"lamps.test.js > a lamp is lit": Passed, "lamps.test.js > leading lights > are white": Failed, "lamps.test.js > leading lights > blink": Passed,
			"lamps.test.js > leading lights > blink #2": Passed, "lamps.test.js > leading lights > stand in line": Passed, "lamps.test.js > skipped for fog": Skipped,
			"lamps.test.js > still to do": Skipped},
		"vitest.xml": {"lamps.test.js a lamp is lit": Passed, "lamps.test.js leading lights > are white": Failed, "lamps.test.js leading lights > blink": Passed,
			"lamps.test.js leading lights > blink #2": Passed, "lamps.test.js leading lights > stand in line": Passed, "lamps.test.js skipped for fog": Skipped,
			"lamps.test.js still to do": Skipped},
		"tape.tap":   {"high water": Passed, "later": Skipped, "low water": Failed},
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
			rep, err := Read(formatOf(file), bytes.NewReader(data))
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
				part, _ := Read(formatOf(file), bytes.NewReader(data[:end]))
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
	rep, err := ReadJUnit(strings.NewReader(`<testsuite><testcase name="a" time="1,234.5"/><testcase name="b" time="-1"/><testcase name="c" time="NaN"/><testcase name="d"/></testsuite>`))
	require.NoError(t, err)
	require.Len(t, rep.Tests, 4)
	assert.EqualValues(t, 1234500, *rep.Tests[0].ElapsedMS)
	for _, one := range rep.Tests[1:] {
		assert.Nil(t, one.ElapsedMS, one.Name)
	}
	rep, err = ReadTAP(strings.NewReader("ok 1 - a # time=2.5ms\nok 2 - b # time=3s\n"))
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
		{"failed and then said to be skipped", `<testsuite><testcase name="a"><failure/><skipped/></testcase></testsuite>`, map[string]Outcome{"a": Failed}, "", false},
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
			rep, err := ReadJUnit(strings.NewReader(c.in))
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
			rep, err := ReadTAP(strings.NewReader(c.in))
			assert.Equal(t, c.fails, err != nil, "%v", err)
			assert.Equal(t, c.want, outcomes(rep.Tests))
			if c.remark != "" {
				assert.Contains(t, strings.Join(rep.Remarks, "; "), c.remark)
			}
		})
	}
}

func TestManyTestsAreBounded(t *testing.T) {
	var b strings.Builder
	for i := range MaxTests + 10 {
		fmt.Fprintf(&b, "ok %d - lamp %d\n", i+1, i)
	}
	rep, err := ReadTAP(strings.NewReader(b.String()))
	require.NoError(t, err)
	assert.Len(t, rep.Tests, MaxTests)
	assert.Contains(t, rep.Remarks[0], "the first 50000 were")
	rep, err = ReadTAP(strings.NewReader(strings.Repeat("ok 1 - the same\n", 5000)))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(rep.Tests), 1001)
	assert.Contains(t, strings.Join(rep.Remarks, "; "), "more than 1000 tests")
	rep, err = ReadTAP(strings.NewReader("ok 1 - a #2\nok 2 - a\nok 3 - a\n"))
	require.NoError(t, err)
	assert.Equal(t, map[string]Outcome{"a": Passed, "a #2": Passed, "a #3": Passed}, outcomes(rep.Tests))
}

func TestCachedResultsAreSeen(t *testing.T) {
	out := `{"Action":"output","Package":"p","Output":"ok  \tp\t(cached)\n"}` + "\n" + `{"Action":"pass","Package":"p","Test":"A"}` + "\n"
	rep, err := ReadGoTest(strings.NewReader(out))
	require.NoError(t, err)
	assert.True(t, rep.Cached)
	rep, err = ReadGoTest(strings.NewReader(strings.Replace(out, "(cached)", "0.1s", 1)))
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
		rep, _ := Read(format, bytes.NewReader(data))
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
		if rep, err := ReadGoTest(bytes.NewReader(data)); err != nil || rep.Summary.Passed != 25_000 {
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
			report, _ := Read(in.format, in.from())
			close(stop)
			<-ended
			assert.Less(t, most, uint64(200<<20))
			assert.LessOrEqual(t, len(report.Tests), MaxTests)
		})
	}
}
