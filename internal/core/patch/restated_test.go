package patch

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What is done in other words is no loss; beside each stands the like of it that is one.
func TestWhatIsPutOtherwiseIsNotLost(t *testing.T) {
	guard, handler := []string{"guard"}, []string{"error-handler"}
	for _, c := range []struct {
		name, file    string
		kinds         []string
		before, after string
		want          []string
	}{
		{"go, turned round", "a.go", guard,
			"package a\n\nfunc Idle(now Time) bool {\n\tif c.limit.IsZero() || now.Before(c.limit) {\n\t\treturn false\n\t}\n\tc.limit = Time{}\n\tabort(now)\n\treturn true\n}\n",
			"package a\n\nfunc Idle(now Time) bool {\n\tif l := c.limit; !l.IsZero() && !now.Before(l) {\n\t\tc.limit = Time{}\n\t\tabort(now)\n\t\treturn true\n\t}\n\treturn keep(now)\n}\n", nil},
		{"go, one condition more, on several lines and further up", "a.go", guard,
			"package a\n\nfunc Key(s *Schema) *Name {\n\tid := last()\n\tlog(id)\n\tif s.Field == nil || !s.Field.Default {\n\t\treturn nil\n\t}\n\treturn s.Field.Name\n}\n",
			"package a\n\nfunc Key(s *Schema) *Name {\n\tif s.Field == nil ||\n\t\t!s.Field.Default ||\n\t\t!s.Field.Readable {\n\t\treturn nil\n\t}\n\tid := last()\n\tlog(id)\n\treturn s.Field.Name\n}\n", nil},
		{"go, only gone", "a.go", guard,
			"package a\n\nfunc Key(s *Schema) *Name {\n\tid := last()\n\tlog(id)\n\tif s.Field == nil || !s.Field.Default {\n\t\treturn nil\n\t}\n\treturn s.Field.Name\n}\n",
			"package a\n\nfunc Key(s *Schema) *Name {\n\tid := last()\n\tlog(id)\n\treturn s.Field.Name\n}\n", []string{"guard -a.go:6"}},
		{"go, what is asked has no consequence", "a.go", guard,
			"package a\n\nfunc Moor(length int) error {\n\tif length > longest {\n\t\treturn errLong\n\t}\n\treturn tie(length)\n}\n",
			"package a\n\nfunc Moor(length int) error {\n\tif length >= longest {\n\t\tprintln(length)\n\t}\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\ttie(length)\n\treturn tie(length)\n}\n", []string{"guard -a.go:4"}},
		{"go, moved to another function", "a.go", guard,
			"package a\n\nfunc Moor(n int) error {\n\tif n > longestBerthOfThePort {\n\t\treturn errLong\n\t}\n\treturn tie(n)\n}\n\nfunc Ask(n int) error {\n\treturn Moor(n)\n}\n",
			"package a\n\nfunc Moor(n int) error {\n\treturn tie(n)\n}\n\nfunc Ask(n int) error {\n\tif n > longestBerthOfThePort {\n\t\treturn errLong\n\t}\n\treturn Moor(n)\n}\n", nil},
		{"go, the error has another name", "a.go", handler,
			"package a\n\nfunc Add(p string) error {\n\ts, err := status()\n\tif err != nil {\n\t\treturn err\n\t}\n\tindex, err := open()\n\tif err != nil {\n\t\treturn err\n\t}\n\treturn put(s, index)\n}\n",
			"package a\n\nfunc Add(p string) error {\n\tindex, err := open()\n\tif err != nil {\n\t\treturn err\n\t}\n\tvar err2 error\n\tif p != \"\" {\n\t\ts, err2 = status()\n\t\tif err2 != nil {\n\t\t\treturn err2\n\t\t}\n\t}\n\treturn put(s, index)\n}\n", nil},
		{"go, one of two is dropped", "a.go", handler,
			"package a\n\nfunc Add(p string) error {\n\ts, err := status()\n\tif err != nil {\n\t\treturn err\n\t}\n\tindex, err := open()\n\tif err != nil {\n\t\treturn err\n\t}\n\treturn put(s, index)\n}\n",
			"package a\n\nfunc Add(p string) error {\n\ts, _ := status()\n\tindex, err := open()\n\tif err != nil {\n\t\treturn err\n\t}\n\treturn put(s, index)\n}\n", []string{"error-handler -a.go:5"}},
		{"go, three that were the same are one", "a.go", handler,
			"package a\n\nfunc Write(b []byte) {\n\tif len(b) > 1 {\n\t\tif w.err != nil {\n\t\t\treturn\n\t\t}\n\t\tput(b)\n\t}\n\tif len(b) > 2 {\n\t\tif w.err != nil {\n\t\t\treturn\n\t\t}\n\t\tput(b)\n\t}\n}\n",
			"package a\n\nfunc Write(b []byte) {\n\tfor len(b) > 1 {\n\t\tput(b)\n\t\tif w.err != nil {\n\t\t\treturn\n\t\t}\n\t}\n}\n", nil},
		{"go, the type that was asked for is not asked for", "a.go", guard,
			"package a\n\nfunc Take(w Writer) error {\n\th, ok := w.(Hijacker)\n\tif !ok {\n\t\treturn errNone\n\t}\n\treturn h.Hijack()\n}\n",
			"package a\n\nfunc Take(w Writer) error {\n\treturn control(w).Hijack()\n}\n", nil},
		{"go, what was found is not looked at", "a.go", guard,
			"package a\n\nfunc Take(lamps map[string]int) (int, error) {\n\tlamp, ok := lamps[\"quay\"]\n\tif !ok {\n\t\treturn 0, errNone\n\t}\n\treturn lamp, nil\n}\n",
			"package a\n\nfunc Take(lamps map[string]int) (int, error) {\n\tlamp := lamps[\"quay\"]\n\treturn lamp, nil\n}\n", []string{"guard -a.go:5"}},
		{"go, gone with its block", "a.go", guard,
			"package a\n\nfunc Key(s *Schema) *Name {\n\tif s != nil {\n\t\tif s.Field == nil {\n\t\t\treturn nil\n\t\t}\n\t\tfield = s.Field\n\t\tname = s.Field.Name\n\t}\n\treturn next()\n}\n",
			"package a\n\nfunc Key(s *Schema) *Name {\n\treturn next()\n}\n", nil},
		{"js, a loop that only checked", "a.js", guard,
			"export function berths(all) {\n  for (const b of all) {\n    if (!b.name) throw new Error('no name');\n  }\n  return all.map(show);\n}\n",
			"export function berths(all) {\n  return all.map(show);\n}\n", []string{"guard -a.js:3"}},
		{"python, a parameter that is gone", "a.py", guard,
			"def moor(ship, rope=None, line=None):\n    if rope is not None and line is not None:\n        raise ValueError('both')\n    return tie(ship)\n",
			"def moor(ship, *, line=None):\n    return tie(ship)\n", nil},
		{"python, a parameter that stays", "a.py", guard,
			"def moor(ship, rope=None, line=None):\n    if rope is not None and line is not None:\n        raise ValueError('both')\n    return tie(ship, rope, line)\n",
			"def moor(ship, rope=None, line=None):\n    return tie(ship, rope, line)\n", []string{"guard -a.py:2"}},
		{"python, a condition for a handler", "a.py", handler,
			"def port(text):\n    try:\n        number = int(text)\n    except ValueError:\n        number = None\n    return number\n",
			"def port(text):\n    if text.isdigit():\n        number = int(text)\n    else:\n        number = None\n    return number\n", nil},
		{"python, what it looked after is not done", "a.py", handler,
			"def lamps(path):\n    try:\n        fd = lookup(path)\n        return table[fd]\n    except KeyError:\n        raise KeyError('not lit')\n",
			"def lamps(path):\n    fd = lookup(path)\n    key = table.get(fd)\n    return key or dark()\n", nil},
		{"python, dropped", "a.py", handler,
			"def lamps(path):\n    try:\n        fd = lookup(path)\n        return table[fd]\n    except KeyError:\n        raise KeyError('not lit')\n",
			"def lamps(path):\n    fd = lookup(path)\n    return table[fd]\n", []string{"error-handler -a.py:5"}},
		{"python, one of two loops", "a.py", handler,
			"def main(names):\n    if not names:\n        for name in stdin():\n            try:\n                compile(name)\n            except CompileError:\n                failed()\n    else:\n        for name in names:\n            try:\n                compile(name)\n            except CompileError:\n                failed()\n",
			"def main(names):\n    if not names:\n        names = stdin()\n    for name in names:\n        try:\n            compile(name)\n        except CompileError:\n            failed()\n", nil},
		{"js, dropped", "a.js", handler,
			"export function light(lamp) {\n  try {\n    return burn(lamp);\n  } catch (e) {\n    report(e);\n  }\n}\n",
			"export function light(lamp) {\n  return burn(lamp);\n}\n", []string{"error-handler -a.js:4"}},
		{"js, with what it looked after", "a.js", handler,
			"let has;\ntry {\n  require('oil');\n  has = true;\n} catch {\n  has = false;\n}\nexport const go = has;\n",
			"export const go = true;\n", nil},
		{"java, dropped", "A.java", handler,
			"class A {\n  int light(Lamp lamp) {\n    try {\n      return burn(lamp);\n    } catch (IOException e) {\n      return 0;\n    }\n  }\n}\n",
			"class A {\n  int light(Lamp lamp) {\n    return burn(lamp);\n  }\n}\n", []string{"error-handler -A.java:5"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			want := c.want
			if want == nil {
				want = []string{}
			}
			assert.Equal(t, want, evidence(measure(t, between(t, tree{c.file: c.before}, tree{c.file: c.after})), "losses", c.kinds...))
		})
	}
}

func TestTestsThatOnlyMoved(t *testing.T) {
	inline := "package a\n\nfunc TestMoor(t *testing.T) {\n\trequire.Equal(t, 1, moor())\n\trequire.Equal(t, 2, moor())\n\trequire.NoError(t, err)\n}\n"
	for _, c := range []struct {
		name, before, after string
		want                []string
	}{
		{"into a function of its own", inline, "package a\n\nfunc TestMoor(t *testing.T) { each(t, moors) }\n\nfunc moors(t *testing.T) {\n\trequire.Equal(t, 1, moor())\n\trequire.Equal(t, 2, moor())\n\trequire.NoError(t, err)\n}\n", nil},
		{"through two functions", inline, "package a\n\nfunc TestMoor(t *testing.T) { first(t) }\n\nfunc first(t *testing.T) { second(t) }\n\nfunc second(t *testing.T) {\n\trequire.Equal(t, 1, moor())\n\trequire.Equal(t, 2, moor())\n\trequire.NoError(t, err)\n}\n", nil},
		{"and lost two on the way", inline, "package a\n\nfunc TestMoor(t *testing.T) { moors() }\n\nfunc moors() {\n\trequire.NoError(nil, err)\n}\n", []string{"weakened a_test.go:3"}},
		{"skipped under a condition", inline, strings.Replace(inline, "\trequire.Equal(t, 1", "\tif testing.Short() {\n\t\tt.Skip(\"long\")\n\t}\n\trequire.Equal(t, 1", 1), nil},
		{"skipped", inline, strings.Replace(inline, "\trequire.Equal(t, 1", "\tt.Skip(\"later\")\n\trequire.Equal(t, 1", 1), []string{"skipped a_test.go:3-8"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			want := c.want
			if want == nil {
				want = []string{}
			}
			assert.Equal(t, want, evidence(measure(t, between(t, tree{"a_test.go": c.before}, tree{"a_test.go": c.after})), "tests", "weakened", "skipped", "removed"))
		})
	}
	for _, c := range []struct {
		name, file, text string
		want             int
	}{
		{"js", "a.test.js", "test('moors', (t) => {\n  t.skip();\n  equal(1, 1);\n});\n", 1},
		{"js, under a condition", "a.test.js", "test('moors', (t) => {\n  if (!linux) t.skip();\n  equal(1, 1);\n});\n", 0},
		{"python, under a condition", "test_a.py", "def test_moor():\n    if not linux:\n        pytest.skip('no')\n    assert moor() == 1\n", 0},
		{"python", "test_a.py", "def test_moor():\n    pytest.skip('no')\n    assert moor() == 1\n", 1},
	} {
		m := measure(t, between(t, tree{"keep": "x\n"}, tree{"keep": "x\n", c.file: c.text}))
		assert.Len(t, evidence(m, "tests", "skipped"), c.want, c.name)
	}
}

// Code in a comment for readers was not turned into one.
func TestExamplesInComments(t *testing.T) {
	before := "package a\n\nfunc F() error {\n\tif err := moor(); err != nil {\n\t\treturn err\n\t}\n\treturn nil\n}\n"
	documented := "package a\n\n// F moors:\n//\n//\tif err := moor(); err != nil {\n//\t\treturn err\n//\t}\nfunc F() error {\n\treturn nil\n}\n"
	assert.Empty(t, evidence(measure(t, between(t, tree{"a.go": before}, tree{"a.go": documented})), "leftovers"))
	announced := "def f():\n    # It is left as it is in a case such as the following:\n    #\n    # def moor():\n    #     rope = take()\n    #     tie(rope)\n    return 1\n"
	assert.Empty(t, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": announced})), "leftovers"))
	assert.NotEmpty(t, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": strings.Replace(announced, "following:", "following", 1)})), "leftovers"))
	assert.Empty(t, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": "def f():\n    \"\"\"As in\n\n    def g(a):\n        ...  # your code here\n    \"\"\"\n    print('no port', file=sys.stderr)\n    return 1\n"})), "leftovers"))
	assert.Len(t, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": "def f():\n    print('here')\n    return 1\n"})), "leftovers", "debug"), 1)
	turned := "package a\n\nfunc F() error {\n//\tif err := moor(); err != nil {\n//\t\treturn err\n//\t}\n\treturn nil\n}\n"
	assert.Equal(t, []string{"commented-out a.go:4-5"}, evidence(measure(t, between(t, tree{"a.go": before}, tree{"a.go": turned})), "leftovers"))
}

// Who takes thousands of checks away does not keep the service busy with each.
func TestManyLossesDoNotTakeLong(t *testing.T) {
	var before, after strings.Builder
	before.WriteString("export function f(n) {\n")
	after.WriteString("export function f(n) {\n")
	for range 20_000 {
		before.WriteString("  if (n.moored && n.lit) { t.skip(); throw new Error('n'); }\n  use(n);\n")
		after.WriteString("  use(n, 1);\n")
	}
	before.WriteString("}\n")
	after.WriteString("}\n")
	in := between(t, tree{"a.js": before.String(), "a.test.js": "test('a', () => {\n" + strings.Repeat("  t.skip();\n", 20_000) + "});\n"}, tree{"a.js": after.String(), "a.test.js": "test('a', () => {\n" + strings.Repeat("  s.skip();\n", 20_000) + "});\n"})
	began := time.Now()
	m := measure(t, in)
	assert.Less(t, time.Since(began), time.Minute, "it takes a second or two")
	assert.Positive(t, value(t, m, "losses"))
}
