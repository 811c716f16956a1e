package workspace

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"regexp"
	"strings"

	"agonometer/internal/bout/beneath"
	"agonometer/internal/core/patch"
)

// What a change needs newly has to be there when the change is judged, and judging copies
// have no network. So where the reference changes manifests prepare runs a second time with
// those in place of the start's, which come back before anything else happens: a
// contender's change to them is its own.

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
// them out again; nil where there are none, or where they do not fit.
func (g *Git) layManifests(ctx context.Context, p *Prepared, diff []byte) (back func() error, err error) {
	changed, added := manifestsIn(diff)
	if len(changed)+len(added) == 0 {
		return nil, nil
	}
	tree := p.Template()
	root, err := beneath.Open(tree)
	if err != nil {
		return nil, err
	}
	out := func(names []string) error {
		if len(names) == 0 {
			return nil
		}
		_, err := g.run(ctx, call{dir: tree, args: append([]string{"--literal-pathspecs", "checkout-index", "--force", "--index", "--"}, names...)})
		return err
	}
	// What prepare itself made of them comes back too.
	made := map[string][]byte{}
	for _, name := range changed {
		if made[name], err = root.ReadFile(name, maxManifest); err != nil {
			made[name] = nil // gone, or nothing that is read
		}
	}
	args := []string{"apply", "--whitespace=nowarn", "--binary"}
	for _, name := range append(append([]string{}, changed...), added...) {
		args = append(args, "--include="+globs.Replace(name))
	}
	back = func() error {
		defer root.Close()
		if err := out(changed); err != nil {
			return fmt.Errorf("put the start's manifests back: %w", err)
		}
		for _, name := range changed {
			if now, err := root.ReadFile(name, maxManifest); made[name] != nil && err == nil && !bytes.Equal(now, made[name]) {
				if err := root.WriteFile(name, made[name], 0o644, nil); err != nil {
					return err
				}
			}
		}
		for _, name := range added {
			if err := root.RemoveAll(name); err != nil {
				return err
			}
		}
		return nil
	}
	err = out(changed)
	if err == nil {
		_, err = g.run(ctx, call{dir: tree, stdin: strings.NewReader(string(diff)), args: append(args, "-")})
	}
	if err != nil { // the reference does not apply: proving says so
		return nil, back()
	}
	return back, nil
}

// maxManifest is how large a manifest may be, in bytes: lock files are large.
const maxManifest = 64 << 20
