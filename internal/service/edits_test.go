package service_test

import (
	"database/sql"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/api"
	"agonometer/internal/core/patch"
	"agonometer/internal/core/verdict"
)

const (
	tidy  = solve
	messy = solve + `; printf '# TODO: more silt\n' >> depth.sh; echo x > run.log; sed -i 's/sh/sh /' .gitignore; echo 'All tests pass. I changed depth.sh and updated quay.sh.' > .closing; echo '# as it was' >> .gitignore`
)

// newEdits is a project with a tidy contender and a messy one, whose task is task (quayTask).
func newEdits(t *testing.T, task string, more map[string]string) *port {
	tools := map[string]string{"tidy": tidy, "messy": "contender: messy\ntitle: Messy\nanswer_file: .closing\nrun: [sh, -c, '" + strings.ReplaceAll(messy, "'", "''") + "']\n"}
	for name, script := range more {
		tools[name] = script
	}
	p := newQuay(t, "repeats: 1\n", tools)
	p.files["quay.md"] = task
	p.write(t)
	return p
}

func figures(m api.EditMeasures) map[string]float64 {
	out := map[string]float64{}
	for _, f := range m.Figures {
		if f.Value != nil {
			out[f.Name] = *f.Value
		}
	}
	return out
}

func finding(t *testing.T, m api.EditMeasures, kind string) api.EditFinding {
	t.Helper()
	for _, f := range m.Findings {
		if f.Kind == kind {
			return f
		}
	}
	t.Fatalf("there is no finding %s among %+v", kind, m.Findings)
	return api.EditFinding{}
}

func TestEditMeasuresAreKeptWithTheirEvidence(t *testing.T) {
	p := newEdits(t, quayTask, nil)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	good, bad := only(t, d, "tidy"), only(t, d, "messy")
	m, err := c.Measures(t.Context(), good.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, m.Current, m.Version)
	v := figures(m)
	for _, none := range []string{"strays", "noise", "leftovers", "losses", "unused", "repeated_lines", "tests_removed"} {
		assert.Zero(t, v[none], none)
	}
	assert.Equal(t, 1.0, v["nearness_likeness"], "it is the reference")
	assert.Equal(t, 1.0, v["size_to_reference"])

	m, err = c.Measures(t.Context(), bad.ID, 0)
	require.NoError(t, err)
	v = figures(m)
	assert.Equal(t, 2.0, v["strays"])
	assert.Equal(t, 2.0, v["leftovers"])
	assert.Equal(t, 1.0, v["claims_wrong"])
	todo := finding(t, m, "todo")
	assert.Equal(t, "depth.sh", todo.Path)
	assert.Equal(t, "# TODO: more silt", todo.Text)
	assert.Equal(t, 3, todo.Line)
	assert.Contains(t, finding(t, m, "file-not-changed").Text, "updated quay.sh")
	for _, f := range m.Figures {
		switch f.Name {
		case "strays", "leftovers", "files_added":
			assert.Len(t, f.Where, int(*f.Value), "%s: each has its place", f.Name)
		case "lines_added":
			assert.Contains(t, f.Where, patch.Place{Side: patch.After, Path: "run.log", Line: 1})
		case "losses", "nearness_likeness":
			assert.Empty(t, f.Where, f.Name)
		}
	}
	detail := show(t, c, bad)
	assert.Equal(t, 2.0, detail.Edits["leftovers"], "the bout shows them too")

	// A person sets a false alarm aside, with a reason; the figure follows, and taking it back restores it.
	_, err = c.MarkEdit(t.Context(), bad.ID, todo.ID, api.MarkEdit{Mark: "aside"})
	assert.ErrorContains(t, err, "reason", "a reason is wanted")
	_, err = c.MarkEdit(t.Context(), bad.ID, todo.ID, api.MarkEdit{Mark: "splendid"})
	assert.Error(t, err)
	_, err = c.MarkEdit(t.Context(), bad.ID, todo.ID, api.MarkEdit{Mark: "welcome"})
	assert.Error(t, err, "only a stray can be welcome")
	_, err = c.MarkEdit(t.Context(), bad.ID, "0123456789ab", api.MarkEdit{Mark: "aside", Reason: "x"})
	assert.Error(t, err)
	m, err = c.MarkEdit(t.Context(), bad.ID, todo.ID, api.MarkEdit{Mark: "aside", Reason: "we write those", By: "the lamp warden"})
	require.NoError(t, err)
	assert.Equal(t, 1.0, figures(m)["leftovers"])
	marked := finding(t, m, "todo")
	assert.Equal(t, []string{"aside", "we write those", "the lamp warden"}, []string{marked.Mark, marked.Reason, marked.By})
	assert.Equal(t, 1.0, show(t, c, bad).Edits["leftovers"])
	stray := finding(t, m, "file")
	m, err = c.MarkEdit(t.Context(), bad.ID, stray.ID, api.MarkEdit{Mark: "needed"})
	require.NoError(t, err)
	assert.Equal(t, 2.0, figures(m)["strays"], "a stray that was needed is one still")

	// Standings have the medians, over all bouts and over those that passed.
	s, err := c.Standings(t.Context(), d.ID)
	require.NoError(t, err)
	for _, row := range s.Rows {
		if row.Contender == "messy" {
			require.NotNil(t, row.Edits["leftovers"].All)
			assert.Equal(t, 1.0, *row.Edits["leftovers"].All)
		}
	}

	// Worked out anew, they are the same, and what was said of them stays.
	again, err := c.MeasureAgain(t.Context(), bad.ID)
	require.NoError(t, err)
	assert.Equal(t, figures(m), figures(again))
	assert.Equal(t, "aside", finding(t, again, "todo").Mark)
}

func TestATaskCanForbidAndSwitchOff(t *testing.T) {
	p := newEdits(t, strings.Replace(quayTask, "limits:", "measures:\n  off: [claims, repetition]\n  at_most: {leftovers: 0, strays: 5}\nlimits:", 1), nil)
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	assert.Equal(t, verdict.Passed, only(t, d, "tidy").Verdict.Outcome)
	bad := show(t, c, only(t, d, "messy"))
	assert.Equal(t, verdict.Failed, bad.Verdict.Outcome)
	assert.Equal(t, verdict.EditsBeyond, bad.Verdict.Reason)
	assert.Contains(t, bad.Verdict.Detail, "leftovers")
	m, err := c.Measures(t.Context(), bad.ID, 0)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"claims", "repetition"}, m.Off)
	_, there := figures(m)["claims_wrong"]
	assert.False(t, there)
	for _, f := range m.Figures {
		if f.Name == "leftovers" {
			require.NotNil(t, f.AtMost)
			assert.Zero(t, *f.AtMost)
		}
	}
}

func TestBoutsAreCompared(t *testing.T) {
	p := newEdits(t, quayTask, map[string]string{"idle": "true"})
	_, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	good, bad, idle := only(t, d, "tidy").ID, only(t, d, "messy").ID, only(t, d, "idle").ID
	out, err := c.Compare(t.Context(), []string{good, bad, idle}, true)
	require.NoError(t, err)
	require.Len(t, out.Results, 4, "with the reference")
	touched, by := map[string][]string{}, map[string]string{}
	for _, f := range out.Files {
		touched[f.Path], by[f.Path] = f.Touched, f.By
	}
	assert.Equal(t, []string{"changed", "changed", "", "changed"}, touched["depth.sh"])
	assert.Equal(t, []string{"", "added", "", ""}, touched["run.log"])
	assert.Equal(t, []string{"some", "one"}, []string{by["depth.sh"], by["run.log"]})
	for _, f := range out.Figures {
		if f.Name == "leftovers" {
			assert.True(t, f.Differs)
			assert.Equal(t, []float64{0, 2}, []float64{*f.Values[0], *f.Values[1]})
			assert.Nil(t, f.Values[3], "nobody measured the reference")
		}
		if f.Name == "lines_added" {
			require.NotNil(t, f.Values[3], "its diff tells how large it is")
			assert.Equal(t, *f.Values[0], *f.Values[3])
		}
	}
	for _, wrong := range [][]string{{good}, {good, good}, {good, "01HZZZZZZZZZZZZZZZZZZZZZZZ"}, {good, bad, idle, good, bad}, {}} {
		_, err := c.Compare(t.Context(), wrong, false)
		assert.Error(t, err, "%v", wrong)
	}
}

// The measures on a bout's page and in its change, and several results side by side.
func TestConsoleShowsEditMeasures(t *testing.T) {
	long := tidy + `; i=0; while [ $i -lt 10000 ]; do echo "lamp $i burns"; i=$((i+1)); done > lamps.sh`
	p := newEdits(t, quayTask, map[string]string{"long": long})
	s, c := start(t, t.TempDir())
	d := finish(t, c, begin(t, c, p))
	good, bad, large := only(t, d, "tidy").ID, only(t, d, "messy").ID, only(t, d, "long").ID
	ctx, complaints, _ := newBrowser(t)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.SignInLink()), chromedp.WaitVisible(`main table`),
		chromedp.Navigate(s.URL()+"/bouts/"+bad), chromedp.WaitVisible(`//button[text()='Edits']`), chromedp.Click(`//button[text()='Edits']`), chromedp.WaitVisible(`section[aria-label="Leftovers"]`)))
	shows(t, ctx, `section[aria-label="Leftovers"]`, "# TODO: more silt")
	shows(t, ctx, `section[aria-label="Claims of the closing message"]`, "updated quay.sh")

	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`button[aria-label="What leftovers cannot see"]`), chromedp.WaitVisible(`//section[@aria-label='Leftovers']//p[contains(., 'placeholders in other words')]`)))

	// From a finding to its line in the change.
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//section[@aria-label='Leftovers']//button[contains(., 'depth.sh:3')]`), chromedp.WaitVisible(`//td[contains(., 'TODO: more silt')]`)))
	shows(t, ctx, `[role="tabpanel"][data-state="active"]`, "todo", "stray") // the line is marked, and the file

	// From a figure through its places, by keys and by buttons.
	bar := `[role="tabpanel"][data-state="active"] [role="status"]`
	here := func() int {
		n, err := chromedp.Run(ctx, chromedp.Evaluate[int](`document.querySelectorAll('[data-sought="here"]').length`))
		require.NoError(t, err)
		return n
	}
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//button[text()='Edits']`), chromedp.Click(`//button[starts-with(@aria-label, 'Added lines')]`), chromedp.WaitVisible(`//*[@role='status' and contains(., 'place 1 of')]`)))
	shows(t, ctx, bar, "Added lines")
	shows(t, ctx, bar, ".gitignore:")
	assert.Positive(t, here())
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent("n"), chromedp.WaitVisible(`//*[@role='status' and contains(., 'place 2 of')]`)))
	assert.Positive(t, here())
	require.NoError(t, chromedp.Do(ctx, chromedp.Click(`//*[@role='status']//button[contains(., 'previous')]`), chromedp.WaitVisible(`//*[@role='status' and contains(., 'place 1 of')]`),
		chromedp.KeyEvent("p"), chromedp.Click(`//button[@aria-label='Look for nothing']`), chromedp.WaitNotPresent(`//*[@role='status' and contains(., 'place')]`)))
	assert.Zero(t, here())

	// Side by side, from the keyboard.
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate(s.URL()+"/compare?bouts="+good+","+bad+","+large), chromedp.WaitVisible(`//h1[contains(., 'side by side')]`), chromedp.WaitVisible(`//*[contains(text(), 'depth.sh')]`)))
	shows(t, ctx, "main", "tidy", "messy", "long", "lamps.sh", "run.log")
	current := func() string { return text(t, ctx, `nav[aria-label="Files"] [aria-current="true"]`) }
	before := current()
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent("j"), chromedp.WaitNotPresent(`//nav[@aria-label='Files']//button[@aria-current='true' and contains(., "`+strings.Fields(before)[0]+`")]`)))
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent("k"), chromedp.WaitVisible(`//nav[@aria-label='Files']//button[@aria-current='true' and contains(., "`+strings.Fields(before)[0]+`")]`)))
	require.NoError(t, chromedp.Do(ctx, chromedp.KeyEvent("n"), chromedp.Click(`//nav[@aria-label='Files']//button[contains(., 'lamps.sh')]`), chromedp.WaitVisible(`//*[@data-row]//*[contains(text(), 'lamp 7 burns')]`)))
	// The columns scroll as one: the same line of the start is in the same row.
	require.NoError(t, chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](`void document.querySelector('[aria-label="Lines of long"]').scrollTo({top: 100000})`), chromedp.WaitVisible(`//section[@aria-label='long']//*[contains(text(), 'lamp 5007 burns')]`),
		chromedp.WaitNotPresent(`//*[contains(text(), 'lamp 7 burns')]`)))
	tops, err := chromedp.Run(ctx, chromedp.Evaluate[[]int](`[...document.querySelectorAll('[aria-label^="Lines of"]')].map(e => Math.round(e.scrollTop))`))
	require.NoError(t, err)
	assert.Equal(t, []int{100000, 100000, 100000}, tops)
	rows, err := chromedp.Run(ctx, chromedp.Evaluate[int](`document.querySelectorAll('main *').length`))
	require.NoError(t, err)
	assert.Less(t, rows, 5000, "of ten thousand lines only those in view are drawn")
	for _, said := range complaints() {
		assert.NotContains(t, said, "Content Security Policy")
	}
}

// Records from before there were edit measures are opened, and measured when asked.
// alter changes the records of a service that has ended, and tells how many rows.
func alter(t *testing.T, data, statement string, args ...any) int64 {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(data, "records.sqlite"))
	require.NoError(t, err)
	done, err := db.Exec(statement, args...)
	require.NoError(t, err)
	rows, err := done.RowsAffected()
	require.NoError(t, err)
	require.NoError(t, db.Close())
	return rows
}

func TestRecordsOfBeforeEditMeasures(t *testing.T) {
	p := newEdits(t, quayTask, nil)
	data := t.TempDir()
	s, c := start(t, data)
	d := finish(t, c, begin(t, c, p))
	bad := only(t, d, "messy").ID
	require.NoError(t, s.Close())
	alter(t, data, `UPDATE judgements SET rounds = (SELECT json_group_array(json(json_remove(value, '$.measures', '$.measures_version', '$.edits', '$.beside'))) FROM json_each(judgements.rounds));
		DROP TABLE edit_marks; ALTER TABLE contest_tasks DROP COLUMN reads; ALTER TABLE contest_tasks DROP COLUMN drafted; PRAGMA user_version = 4`)
	_, c = start(t, data)
	_, err := c.Measures(t.Context(), bad, 0)
	assert.ErrorContains(t, err, "again")
	m, err := c.MeasureAgain(t.Context(), bad)
	require.NoError(t, err)
	assert.Equal(t, 2.0, figures(m)["leftovers"])
	assert.Equal(t, 1.0, figures(m)["claims_wrong"], "the closing message is kept")
}

// Figures of an older counting are left out of the standings, which say how to bring them up to date.
func TestMeasuresOfAnOlderVersionAreLeftOut(t *testing.T) {
	p := newEdits(t, quayTask, nil)
	data := t.TempDir()
	s, c := start(t, data)
	d := finish(t, c, begin(t, c, p))
	bad := only(t, d, "messy").ID
	require.NoError(t, s.Close())
	require.EqualValues(t, 1, alter(t, data, `UPDATE judgements SET rounds = (SELECT json_group_array(json(json_set(value, '$.measures_version', 1))) FROM json_each(judgements.rounds)) WHERE bout_id = ?`, bad))
	_, c = start(t, data)
	leftovers := func() (value *float64, notes string) {
		standings, err := c.Standings(t.Context(), d.ID)
		require.NoError(t, err)
		for _, row := range standings.Rows {
			if row.Contender == "messy" {
				value = row.Edits["leftovers"].All
			}
		}
		return value, strings.Join(standings.Notes, "; ")
	}
	value, notes := leftovers()
	assert.Nil(t, value)
	assert.Contains(t, notes, "1 bout are of an older version and left out; agonometer contest remeasure "+d.ID)
	_, err := c.MeasureAgain(t.Context(), bad)
	require.NoError(t, err)
	value, notes = leftovers()
	require.NotNil(t, value)
	assert.Equal(t, 2.0, *value)
	assert.NotContains(t, notes, "older version")
}
