package service_test

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/client"
	"agonometer/internal/core/outcome"
	"agonometer/internal/core/specfile"
	"agonometer/internal/core/verdict"
)

// quick is how many of the steps are part of every test run.
const quick = 1

// The judge is held against real material: steps between released versions of modules,
// each made into a history of two commits. Goals, guards and the verdicts of scripted
// contenders must be what plain git and the plain runner say.
func TestRealSteps(t *testing.T) {
	list, err := os.ReadFile("testdata/real-steps.tsv")
	require.NoError(t, err)
	_, c := start(t, t.TempDir())
	drafted, wrong, n := 0, 0, 0
	for line := range strings.Lines(string(list)) {
		f := strings.Split(strings.TrimSpace(line), "\t")
		if len(f) != 5 || strings.HasPrefix(line, "#") {
			continue
		}
		if n++; n > quick && os.Getenv("AGONOMETER_LONG") == "" {
			break
		}
		name := strings.ReplaceAll(strings.TrimPrefix(f[0], "github.com/"), "/", "-") + "-" + f[2]
		t.Run(name, func(t *testing.T) {
			ok, bad := realStep(t, c, f)
			wrong += bad
			if ok {
				drafted++
			}
		})
	}
	t.Logf("%d of %d steps were drafted and proved without help; %d verdicts were wrong", drafted, n, wrong)
}

// moduleDir is where a version of a module lies, fetched now if it is not there.
func moduleDir(t *testing.T, module, version string) string {
	t.Helper()
	cmd := exec.Command("go", "mod", "download", "-json", module+"@"+version)
	cmd.Dir = t.TempDir()
	cmd.Env = append(os.Environ(), "GOFLAGS=-mod=mod")
	out, err := cmd.Output()
	if err != nil {
		t.Skipf("%s %s cannot be fetched: %v %s", module, version, err, out)
	}
	var got struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &got))
	return got.Dir
}

// plainRun runs the tests of a folder by hand, and returns how each ended.
func plainRun(t *testing.T, dir string) map[string]string {
	t.Helper()
	cmd := exec.Command("go", "test", "-vet=off", "-json", "./...")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GOFLAGS=-count=1")
	pipe, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	out := map[string]string{}
	lines := bufio.NewScanner(pipe)
	lines.Buffer(nil, 16<<20)
	for lines.Scan() {
		var e struct{ Action, Package, Test string }
		if json.Unmarshal(lines.Bytes(), &e) == nil && e.Test != "" && slices.Contains([]string{"pass", "fail", "skip"}, e.Action) {
			out[e.Package+" "+e.Test] = e.Action
		}
	}
	var exit *exec.ExitError
	if err := cmd.Wait(); err != nil && !errors.As(err, &exit) {
		require.NoError(t, err)
	}
	return out
}

// realStep drafts, proves and judges one step; it says whether it was proved without help
// and how many verdicts were wrong.
func realStep(t *testing.T, c *client.Client, f []string) (proved bool, wrong int) {
	base := t.TempDir()
	repo := filepath.Join(base, "repo")
	sh(t, base, "git init -q -b main repo")
	for _, version := range f[1:3] {
		dir := moduleDir(t, f[0], version)
		sh(t, repo, "find . -mindepth 1 -maxdepth 1 ! -name .git -exec rm -rf {} +; cp -r '"+dir+"/.' .; chmod -R u+w .; git add -A -f; git commit -qm 'Release "+version+"'; git tag "+version)
	}
	d, err := c.DraftTask(t.Context(), api.DraftTask{Repository: repo, Commit: "main"})
	require.NoError(t, err)
	dir := filepath.Join(base, "task")
	bundle := &specfile.Bundle{Main: filepath.Join(dir, d.Main), Files: map[string][]byte{}}
	for name, data := range d.Files {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, data, 0o644))
		bundle.Files[full] = data
	}
	started, err := c.ProveTask(t.Context(), bundle, 1)
	require.NoError(t, err)
	require.NoError(t, c.FollowProving(t.Context(), started.ID, func(api.Proving) bool { return true }))
	p, err := c.Proving(t.Context(), started.ID)
	require.NoError(t, err)
	require.NotNil(t, p.Result)
	if !assert.Empty(t, p.Result.Reasons, "%+v", p.Result.Steps) {
		return false, 0
	}

	// By hand: the start, the start with the new tests, and the release itself.
	fresh := func(name, version string) string {
		at := filepath.Join(base, name)
		sh(t, base, "git clone -q repo "+name+"; cd "+name+"; git checkout -q "+version)
		return at
	}
	sealed := filepath.Join(dir, d.Name+".sealed")
	seal := func(at string) {
		sh(t, at, "cp -r '"+sealed+"/.' .; git -C '"+repo+"' diff --name-only --diff-filter=D "+f[1]+" "+f[2]+" -- '*_test.go' | xargs -r rm -f")
	}
	old := plainRun(t, fresh("start", f[1]))
	with := fresh("start-sealed", f[1])
	seal(with)
	now, release := plainRun(t, with), plainRun(t, fresh("release", f[2]))
	goals, guards := map[string]bool{}, map[string]bool{}
	for _, row := range p.Tests {
		switch {
		case row.Name == "":
		case row.Role == outcome.Goal:
			goals[row.Name] = true
		case row.Role == outcome.Guard:
			guards[row.Name] = true
		}
	}
	for test, how := range release {
		before := now[test]
		if before == "" {
			before = old[test] // the sealed run cannot say
		}
		switch {
		case how != "pass":
			assert.False(t, goals[test] || guards[test], "%s does not pass with the release", test)
		case before == "pass" && now[test] == "" && goals[test]: // it is said anew
		case before == "pass":
			assert.True(t, guards[test], "%s passes before and after", test)
		default:
			assert.True(t, goals[test], "%s is new, or did not pass before", test)
		}
	}
	assert.Equal(t, f[3:], []string{strconv.Itoa(len(goals)), strconv.Itoa(len(guards))}, "goals and guards: by hand %d tests", len(release))

	// Scripted contenders, each judged by hand too.
	source := sh(t, repo, "git diff --name-only --diff-filter=AM "+f[1]+" "+f[2]+" -- '*.go' ':!*_test.go' | sort")
	files := strings.Fields(source)
	half := files[:len(files)/2]
	take := func(names []string) string {
		if len(names) == 0 {
			return "true"
		}
		return "git checkout -q " + f[2] + " -- '" + strings.Join(names, "' '") + "'"
	}
	all := "git diff --name-only --diff-filter=d " + f[1] + " " + f[2] + " | grep -v '_test.go$' | xargs git checkout -q " + f[2] + " --"
	broken := all + "; for g in $(git ls-files '*.go' | grep -v _test.go | grep -v / | head -n 1); do printf '\\nfunc init() { panic(\"broken\") }\\n' >> $g; done"
	weak := all + "; t=$(git ls-files '*_test.go' | head -n 1); printf 'package %s\\n' $(sed -n 's/^package //p' $t | head -n 1) > $t"
	for name, script := range map[string]string{"reference": all, "half": take(half), "nothing": "echo >> README.md", "broken": broken, "weakened": weak} {
		if os.Getenv("AGONOMETER_LONG") == "" && name != "reference" && name != "half" {
			continue
		}
		at := fresh("by-"+name, f[1])
		sh(t, at, script)
		b, err := c.ImportBout(t.Context(), api.ImportBout{Bundle: bundle, Contender: "by-" + name, Folder: at})
		require.NoError(t, err)
		until(t, c, api.ContestDetail{Contest: api.Contest{ID: b.ContestID}}, func(e api.FeedEvent) bool { return e.BoutID == b.ID && e.State == "done" })
		got := show(t, c, b)
		sh(t, at, "git checkout -q "+f[1]+" -- $(git ls-files '*_test.go')")
		seal(at)
		hand := plainRun(t, at)
		missed := func(set map[string]bool) (n int) {
			for test := range set {
				if hand[test] != "pass" {
					n++
				}
			}
			return n
		}
		pass := missed(goals)+missed(guards) == 0
		if !assert.Equal(t, pass, got.Verdict.Outcome == verdict.Passed, "%s: by hand %d goals and %d guards do not pass; the judge says %+v", name, missed(goals), missed(guards), got.Verdict) {
			wrong++
		}
		assert.LessOrEqual(t, len(got.Verdict.Broken), missed(guards), "%s: %v", name, firstOf(got.Verdict.Broken))
		if name == "weakened" {
			assert.NotEmpty(t, got.Verdict.Weakened, "the verdict says so")
		}
	}
	return true, wrong
}

func firstOf(names []string) string {
	return fmt.Sprint(len(names), " ", names[:min(3, len(names))])
}
