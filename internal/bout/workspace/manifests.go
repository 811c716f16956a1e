package workspace

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"strings"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/core/patch"
)

// What a change needs newly has to be there when the change is judged, and judging copies
// have no network. So prepare runs with the reference's manifests in place of the start's,
// which come back before anything else happens: a contender's change to them is its own.

// manifestRE are files that say what a project needs.
var manifestRE = regexp.MustCompile(`^(go\.(mod|sum|work|work\.sum)|package(-lock)?\.json|npm-shrinkwrap\.json|pnpm-(lock|workspace)\.yaml|yarn\.lock|bun\.lockb?|pyproject\.toml|setup\.(py|cfg)|[\w.-]*requirements[\w.-]*\.(txt|in)|poetry\.lock|uv\.lock|Pipfile(\.lock)?|Cargo\.(toml|lock)|pom\.xml|(build|settings)\.gradle(\.kts)?|gradle\.lockfile|libs\.versions\.toml|Gemfile(\.lock)?|composer\.(json|lock))$`)

// manifestsIn are the manifests that a patch changes or adds.
func manifestsIn(diff []byte) (changed, added []string) {
	files, err := patch.Parse(diff, 1)
	if err != nil {
		return nil, nil
	}
	for _, f := range files {
		switch {
		case !manifestRE.MatchString(path.Base(f.Path)) || f.Status == patch.Deleted || f.OldPath != "" && f.OldPath != f.Path:
		case f.Status == patch.Added:
			added = append(added, f.Path)
		default:
			changed = append(changed, f.Path)
		}
	}
	return changed, added
}

// layManifests puts the manifests of a reference into a template, and returns what takes
// them out again.
func (g *Git) layManifests(ctx context.Context, p *Prepared, diff []byte) (back func() error, err error) {
	changed, added := manifestsIn(diff)
	if len(changed)+len(added) == 0 {
		return func() error { return nil }, nil
	}
	tree := p.Template()
	args := []string{"apply", "--whitespace=nowarn", "--binary"}
	for _, name := range append(append([]string{}, changed...), added...) {
		args = append(args, "--include="+globs.Replace(name))
	}
	if _, err := g.run(ctx, call{dir: tree, stdin: strings.NewReader(string(diff)), args: append(args, "-")}); err != nil {
		return func() error { return nil }, nil // the reference does not apply: proving says so
	}
	return func() error {
		args := []string{"--literal-pathspecs", "checkout-index", "--force", "--index", "--"}
		if len(changed) > 0 {
			if _, err := g.run(ctx, call{dir: tree, args: append(args, changed...)}); err != nil {
				return fmt.Errorf("put the start's manifests back: %w", err)
			}
		}
		root, err := beneath.Open(tree)
		if err != nil {
			return err
		}
		defer root.Close()
		for _, name := range added {
			if err := root.RemoveAll(name); err != nil {
				return err
			}
		}
		return nil
	}, nil
}
