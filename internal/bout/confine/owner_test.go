package confine

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
)

// As root, concurrent bouts belong to different users, over one prepared HOME.
func TestALayerOverWhatBelongsToAnother(t *testing.T) {
	needNamespaces(t)
	if os.Geteuid() != 0 {
		t.Skip("only root can give bouts ids of their own")
	}
	assert.True(t, DetectOverlay(t.TempDir(), Namespaces, 0))
	assert.True(t, DetectOverlay(t.TempDir(), Namespaces, 3))
}

// What a check starts as the other user can neither read what is the check's alone, nor
// trace or signal it, and ends as it ends.
func TestAProgramAsTheOtherUser(t *testing.T) {
	needNamespaces(t)
	if !runsOthers() {
		t.Skip("this machine has neither a second user to give nor Landlock")
	}
	root := os.Geteuid() == 0
	script := `
		export CHECK=$$; umask 077; echo SEALED-ANSWER > answer; exec 9< answer; echo shared > shared; chmod 644 shared
		mkdir -p sub/dir; chmod 755 sub sub/dir; echo SEALED-BELOW > sub/dir/sealed; echo beside > sub/dir/beside; chmod 644 sub/dir/beside; chmod "$SEALED" sub/dir/sealed
		echo printf built-runs > /tmp/built; chmod 755 /tmp/built
		/bout/as-contender sh -c '
			echo "other $(id -u)"; cat shared; cat answer 2>/dev/null; cat sub/dir/sealed 2>/dev/null; sh sub/dir/sealed 2>/dev/null; cat sub/dir/beside; sh /tmp/built
			ln sub/dir/sealed /tmp/own-link 2>/dev/null && cat /tmp/own-link; mv sub/dir/sealed moved 2>/dev/null && cat moved; cp -r sub "$TMPDIR/copy" 2>/dev/null; cat "$TMPDIR/copy/dir/sealed" 2>/dev/null
			for p in $CHECK 1; do
				cat /proc/$p/mem > /dev/null 2>&1 && echo READ-MEM; cat /proc/$p/fd/9 2>/dev/null; cat /proc/$p/root/bout/workspace/answer 2>/dev/null; cat /proc/$p/environ >/dev/null 2>&1 && echo READ-ENV
				kill -9 $p 2>/dev/null && echo KILLED
			done
			echo x > written 2>/dev/null && echo WROTE; echo y > "$TMPDIR/own" && echo tmp-works
			/bout/as-contender sh -c "cat answer sub/dir/sealed" 2>/dev/null
			read line; echo "read $line"; exit 7' <<< "from the check" 2>&1
		echo "code $?"
		/bout/as-contender sh -c 'kill -TERM $$'; echo "signal $?"
		/bout/as-contender /no/such/program; echo "missing $?"
		(/bout/as-contender sleep 1000 & echo $! > /tmp/helper; wait) & sleep 0.3; kill -9 $(cat /tmp/helper); sleep 0.3; ps -e -o args 2>/dev/null | grep -c "^sleep 1000"
		true`
	spec := world(t, Namespaces, "")
	spec.Args = []string{"bash", "-c", script}
	other := spec.Owner.Numbered(MaxOwners)
	spec.Other = &other
	sealed, who := "644", fmt.Sprintf("other %d", spec.Owner.UID)
	if root {
		sealed, who = "600", "other 1001"
	} else {
		spec.OtherNever = []string{WorkspacePath + "/sub/dir/sealed"}
	}
	spec.Env = append(spec.Env, "SEALED="+sealed)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	spec.Binds = append(spec.Binds, Bind{Source: self, Target: OtherPath})
	if err := os.Chmod(spec.Binds[2].Source, 0o777); err != nil {
		t.Fatal(err)
	}
	_, out := run(t, spec, 0)
	for _, want := range []string{who, "shared", "beside", "built-runs", "tmp-works", "read from the check", "code 7", "signal 143", "missing 126"} {
		assert.Contains(t, out, want)
	}
	for _, bad := range []string{"SEALED-", "READ-", "KILLED", "WROTE"} {
		assert.NotContains(t, out, bad)
	}
	t.Log(out)
}
