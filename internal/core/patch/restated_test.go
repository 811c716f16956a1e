package patch

import (
	"strings"
	"testing"

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
		{"js, a handler for a condition", "a.js", guard,
			"export function light(text) {\n  const lamp = find(text);\n  if (lamp === null) {\n    throw new Error('none');\n  }\n  return lamp;\n}\n",
			"export function light(text) {\n  try {\n    return find(text);\n  } catch (e) {\n    throw new Error('none');\n  }\n}\n", nil},
		{"js, on several lines", "a.js", guard,
			"ask(port, function(err, lamp) {\n  if (err) { console.error(err); return; }\n  show(lamp);\n});\n",
			"ask(port, function (err, lamp) {\n  if (err) {\n    console.error(err);\n    return;\n  }\n  show(lamp);\n});\n", nil},
		{"js, another value in its stead", "a.js", guard,
			"export function wait() {\n  var ms = this.longest();\n  if (ms === 0) {\n    return;\n  }\n  start(ms);\n}\n",
			"export function wait() {\n  var ms = this.longest() || FOREVER;\n  start(ms);\n}\n", nil},
		{"js, no other value", "a.js", guard,
			"export function wait() {\n  var ms = this.longest();\n  if (ms === 0) {\n    return;\n  }\n  start(ms);\n}\n",
			"export function wait() {\n  var ms = this.longest(1);\n  start(ms);\n}\n", []string{"guard -a.js:3"}},
		{"js, awaited", "a.js", handler,
			"function config(done) {\n  make(port).then(path => {\n    found(path);\n  }).catch(err => {\n    done(err);\n  });\n}\n",
			"async function config() {\n  const path = await make(port);\n  found(path);\n}\n", nil},
		{"js, something else is awaited", "a.js", handler,
			"function config(done) {\n  found(port).then(path => {\n    show(path);\n  }).catch(err => {\n    done(err);\n  });\n  lit();\n}\n",
			"async function config(done) {\n  found(port).then(path => {\n    show(path);\n  });\n  await lit();\n}\n", []string{"error-handler -a.js:4"}},
		{"js, neither handled nor awaited", "a.js", handler,
			"function config(done) {\n  make(port).then(path => {\n    found(path);\n  }).catch(err => {\n    done(err);\n  });\n}\n",
			"function config(done) {\n  make(port).then(path => {\n    found(path);\n  });\n}\n", []string{"error-handler -a.js:4"}},
		{"js, what begins alike stays", "a.js", handler,
			"window.onerror = function (err, url) {\n  show(err);\n};\nfor (const lamp of lamps) {\n  try {\n    burn(lamp);\n  } catch (e) {\n    report(e);\n  }\n}\n",
			"window.onerror = function (text, url, line, column, err) {\n  show(err);\n};\nfor (const lamp of lamps) {\n  burn(lamp);\n}\n", []string{"error-handler -a.js:7"}},
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

// A name that is given in another way is not gone.
func TestNamesThatAreGivenOtherwise(t *testing.T) {
	for _, c := range []struct {
		name, file, before, after string
		want                      []string
	}{
		{"go, built in now", "a.go", "package a\n\nfunc Tide() int { return min(1, 2) }\n\nfunc min(a, b int) int {\n\tif a < b {\n\t\treturn a\n\t}\n\treturn b\n}\n", "package a\n\nfunc Tide() int { return min(1, 2) }\n", nil},
		{"go, a method now", "a.go", "package a\n\nfunc read(in io.Reader, v *Tide) error {\n\treturn decode(in, v)\n}\n", "package a\n\nfunc (t *Tide) read(in io.Reader) error {\n\tt.Lock()\n\tdefer t.Unlock()\n\treturn nil\n}\n", nil},
		{"js, a property", "a.js", "class Lamp {\n  burn() {\n    return light(this.oil, this.wick);\n  }\n}\nuse(Lamp);\n", "const lamp = {\n  burn: () => light(oil, wick, 2),\n};\nuse(lamp);\n", nil},
		{"js, another name for it", "a.js", "export function tides() {\n  return table.all();\n}\n", "function heights() {\n  return [];\n}\nmodule.exports.tides = heights;\n", nil},
		{"python, brought in", "a.py", "def text(message):\n    return message.translate(table)\n\n\nshow(text('a'))\n", "from words import text\n\nshow(text('a'))\n", nil},
		{"js, a value of that name", "a.js", "export function tides() {\n  return table.all();\n}\n", "const lamp = { tides: 3 };\nuse(lamp);\n", []string{"exported-name -a.js:1-3"}},
		{"python, a value for a parameter of that name", "a.py", "def text(message):\n    return message.translate(table)\n", "show(1, text=2)\n", []string{"exported-name -a.py:1-2"}},
		{"python, still called and given by nothing", "a.py", "def text(message):\n    return message.translate(table)\n\n\nshow(text('a'))\n", "show(text('a'))\n", []string{"exported-name -a.py:1-2"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			want := c.want
			if want == nil {
				want = []string{}
			}
			assert.Equal(t, want, evidence(measure(t, between(t, tree{c.file: c.before}, tree{c.file: c.after})), "losses", "function", "exported-name"))
		})
	}
}

// In shell the commands that compare are the assertions.
func TestAssertionsInShell(t *testing.T) {
	test := "@test \"tide\" {\n  run tide 1 2\n  [ \"$status\" -eq 0 ]\n  test -s tide.txt\n  assert_output 3\n}\n"
	for line := range strings.Lines("  [ \"$status\" -eq 0 ]\n  test -s tide.txt\n  assert_output 3\n") {
		assert.Equal(t, []string{"weakened a.bats:1-5"}, evidence(measure(t, between(t, tree{"a.bats": test}, tree{"a.bats": strings.Replace(test, line, "", 1)})), "tests"), line)
	}
	assert.Empty(t, evidence(measure(t, between(t, tree{"a.bats": test}, tree{"a.bats": strings.Replace(test, "  run tide 1 2\n", "  run tide 1 2 3\n", 1)})), "tests"))
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
		{"a step that went, with its check", "package a\n\nfunc TestMoor(t *testing.T) {\n\terr := os.Setenv(\"PORT\", \"averil\")\n\trequire.NoError(t, err)\n\trequire.Equal(t, 1, moor())\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\tt.Chdir(\"averil\")\n\trequire.Equal(t, 1, moor())\n}\n", nil},
		{"a check of a step that stays", "package a\n\nfunc TestMoor(t *testing.T) {\n\terr := tie(\"averil\")\n\trequire.NoError(t, err)\n\trequire.Equal(t, 1, moor())\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\t_ = tie(\"averil\")\n\trequire.Equal(t, 1, moor())\n}\n", []string{"weakened a_test.go:3-6"}},
		{"the only check, of a step that went", "package a\n\nfunc TestMoor(t *testing.T) {\n\terr := tie(\"averil\")\n\trequire.NoError(t, err)\n\tmoor()\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\tmoor()\n\tmoor()\n\tmoor()\n}\n", []string{"weakened a_test.go:3-7"}},
		{"what asserts is made no more, and an error's text is not asked for", "package a\n\nfunc TestMoor(t *testing.T) {\n\tassert := assert.New(t)\n\tassert.Equal(1, moor())\n\tif err := tie(); err.Error() != \"no\" {\n\t\tt.Fatal(err.Error())\n\t}\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\tassert.Equal(t, 1, moor())\n\tif err := tie(); !errors.Is(err, no) {\n\t\tt.Fatal(err)\n\t}\n}\n", nil},
		{"a helper that wants no test any more", "package a\n\nfunc TestMoor(t *testing.T) {\n\tport := open(t)\n\trequire.Equal(t, 1, moor(port))\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\tport := open()\n\trequire.Equal(t, 1, moor(port))\n}\n", nil},
		{"into a function that nothing calls", inline, "package a\n\nfunc TestMoor(t *testing.T) {\n}\n\nfunc moors(t *testing.T) {\n\trequire.Equal(t, 1, moor())\n\trequire.Equal(t, 2, moor())\n\trequire.NoError(t, err)\n}\n", []string{"weakened a_test.go:3-4"}},
		{"some of them, into a function that nothing calls", "package a\n\nfunc TestMoor(t *testing.T) {\n\trequire.Equal(t, 1, moor(1))\n\trequire.Equal(t, 2, moor(2))\n\trequire.Equal(t, 3, moor(3))\n\trequire.Equal(t, 4, moor(4))\n\trequire.Equal(t, 5, moor(5))\n\trequire.Equal(t, 6, moor(6))\n\trequire.Equal(t, 7, moor(7))\n\trequire.Equal(t, 8, moor(8))\n\trequire.Equal(t, 9, moor(9))\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\trequire.Equal(t, 4, moor(4))\n\trequire.Equal(t, 5, moor(5))\n\trequire.Equal(t, 6, moor(6))\n\trequire.Equal(t, 7, moor(7))\n\trequire.Equal(t, 8, moor(8))\n\trequire.Equal(t, 9, moor(9))\n}\n\nfunc moors(t *testing.T) {\n\trequire.Equal(t, 1, moor(1))\n\trequire.Equal(t, 2, moor(2))\n\trequire.Equal(t, 3, moor(3))\n}\n", []string{"weakened a_test.go:3-10"}},
		{"some of them, into another test", "package a\n\nfunc TestMoor(t *testing.T) {\n\trequire.Equal(t, 1, moor(1))\n\trequire.Equal(t, 2, moor(2))\n\trequire.Equal(t, 3, moor(3))\n\trequire.Equal(t, 4, moor(4))\n\trequire.Equal(t, 5, moor(5))\n\trequire.Equal(t, 6, moor(6))\n\trequire.Equal(t, 7, moor(7))\n\trequire.Equal(t, 8, moor(8))\n\trequire.Equal(t, 9, moor(9))\n}\n", "package a\n\nfunc TestMoor(t *testing.T) {\n\trequire.Equal(t, 4, moor(4))\n\trequire.Equal(t, 5, moor(5))\n\trequire.Equal(t, 6, moor(6))\n\trequire.Equal(t, 7, moor(7))\n\trequire.Equal(t, 8, moor(8))\n\trequire.Equal(t, 9, moor(9))\n}\n\nfunc TestRig(t *testing.T) {\n\trequire.Equal(t, 1, moor(1))\n\trequire.Equal(t, 2, moor(2))\n\trequire.Equal(t, 3, moor(3))\n}\n", nil},
		{"what runs the tests is none", "package a\n\nfunc TestMain(m *testing.M) {\n\tif moor() {\n\t\tlog.Fatal(1)\n\t}\n}\n", "package a\n\nfunc TestMain(m *testing.M) {\n\tmoor()\n}\n", nil},
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
		{"js, by its options", "a.test.js", "test('moors', { skip: 'later' }, (t) => {\n  equal(1, 1);\n});\n", 1},
		{"js, by its options under a condition", "a.test.js", "test('moors', { skip: lamps.length < 1 }, (t) => {\n  equal(1, 1);\n});\n", 0},
		{"js, something of that name", "a.test.js", "export function pick(it) {\n  return it.split('');\n}\n", 0},
		{"python, under a condition", "test_a.py", "def test_moor():\n    if not linux:\n        pytest.skip('no')\n    assert moor() == 1\n", 0},
		{"python", "test_a.py", "def test_moor():\n    pytest.skip('no')\n    assert moor() == 1\n", 1},
		{"python, marked", "test_a.py", "class T:\n    @unittest.skip('later')\n    def test_moor(self):\n        assert moor() == 1\n", 1},
		{"python, marked under a condition", "test_a.py", "class T:\n    @unittest.skipUnless(linux, 'no')\n    def test_moor(self):\n        assert moor() == 1\n", 0},
		{"python, marked under a condition that always holds", "test_a.py", "class T:\n    @unittest.skipIf(True, 'no')\n    def test_moor(self):\n        assert moor() == 1\n", 1},
		{"python, something within is left out", "test_a.py", "def test_moor():\n    class Inner(TestCase):\n        def setUp(self):\n            self.skipTest('no')\n    assert run(Inner) == 1\n", 0},
		{"python, something within is marked", "test_a.py", "def test_moor():\n    @unittest.skip('no')\n    class Inner:\n        pass\n    assert run(Inner) == 1\n", 0},
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
	for _, above := range []string{"// keep all the other lamps here", "// Returns what is left"} { // no sentence that goes on, and no example
		left := "function f() {\n  " + above + "\n  // ... rest of the code as before\n  return 1;\n}\n"
		assert.Equal(t, []string{"placeholder a.js:3"}, evidence(measure(t, between(t, tree{"a.js": "function f() {\n  return 1;\n}\n"}, tree{"a.js": left})), "leftovers"), above)
	}
	hidden := "def f():\n    # return x\n    # rope = take(1)\n    # tie(rope, 2)\n    return 1\n"
	assert.NotEmpty(t, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": hidden})), "leftovers"))
	slog := "package a\n\n// Example of a log, https://port.averil.example\n// \tlogger := log.New(log.JSON(os.Stdout, nil))\n//\te.Use(middleware.Log(middleware.Config{\n//\t\tStatus: true,\n//\t}))\nfunc F() error {\n\treturn nil\n}\n"
	assert.Empty(t, evidence(measure(t, between(t, tree{"a.go": "package a\n\nfunc F() error {\n\treturn nil\n}\n"}, tree{"a.go": slog})), "leftovers"))
	sentence := "def f():\n    # These have a meaning only together with the\n    # other methods.\n    return 1\n"
	assert.Empty(t, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": sentence})), "leftovers"))
	assert.Equal(t, []string{"placeholder a.py:3"}, evidence(measure(t, between(t, tree{"a.py": "def f():\n    return 1\n"}, tree{"a.py": strings.Replace(sentence, "with the", "here.", 1)})), "leftovers"))
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
	m := measure(t, in)
	assert.Positive(t, value(t, m, "losses"))
}
